// Fitting by hand: by a part of the signal, or from a spot on.
#pragma once
#include "core/compare/fit.hpp"

namespace heathmist {

/// What of the signal the delay, drift and gain are measured by, where not by all of it.
struct FitBy {
  enum class Part { all, channel, mid, side };
  Part part = Part::all;
  int channel = 0;                 ///< of both sides
  double low_hz = 0, high_hz = 0;  ///< a band; high 0: the whole band
  bool operator==(const FitBy&) const = default;
};

/// The part of a clip as a clip of its own: one channel, or (L + R) / 2, (L - R) / 2; band-limited to scratch where a
/// band is asked for. A part that the clip does not have is the whole.
std::shared_ptr<const Clip> part_of(std::shared_ptr<const Clip> clip, const FitBy& by, const Job& job = {});

/// Delay, drift and gain as the part shows them, in the place of those of `whole`; map and polarity stay. The fit of
/// `whole` comes back as it is where the part gives none to be trusted.
Fit find_fit_by(const std::shared_ptr<const Clip>& master, const std::shared_ptr<const Clip>& ret, const Fit& whole,
                const FitBy& by, const Job& job = {});

/// The delay near that of `fit`, within `slack` samples, that leaves the least residual over master frames
/// [first, first + frames) (two seconds at most); the fit's own where nothing is better.
double nearest_null(const Clip& master, const Clip& ret, const Fit& fit, int64_t first, int64_t frames, int64_t slack,
                    const Job& job = {});

/// A linear-phase band pass (Kaiser, -140 dB) over a whole clip, to scratch; low_pass_hz 0: none below. Frame 0 stays
/// frame 0. `transition_hz` is the width of each edge, outside the band.
std::shared_ptr<const Clip> band_limited(const Clip& clip, double low_hz, double high_hz, double transition_hz,
                                         const Job& job = {});

}  // namespace heathmist
