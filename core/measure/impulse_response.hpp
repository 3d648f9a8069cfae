// Impulse responses: how they decay, how much of one is enough, and how far two are apart.
//
// A response is a clip; energies are sums over its channels. Times in s from the clip's first frame where not said
// otherwise, levels in dB.
#pragma once
#include <optional>
#include <span>
#include <vector>

#include "core/audio/clip.hpp"
#include "core/measure/spectrum.hpp"

namespace heathmist {

struct ImpulseResponse {
  int sample_rate_hz = 0, channels = 0;
  double length_s = 0, peak_s = 0;
  double onset_s = 0;  ///< where it first rises to 20 dB under its peak (ISO 3382-1)
  /// Backward-integrated energy (Schroeder 1965) against all of it, from the onset on; ends where noise takes over.
  std::vector<std::pair<double, double>> decay;  ///< s after the onset, dB
  std::optional<double> edt_s, t20_s, t30_s;     ///< reverberation time by 0 to -10, -5 to -25, -5 to -35 dB; none: it
                                                 ///< does not fall 10 dB further (ISO 3382-1)
  std::optional<double> clarity_db;              ///< energy of the first 80 ms after the onset against the rest
  std::optional<double> noise_dbr;               ///< steady at its end, against its peak; none: there is none
  /// Gain of a convolution with it, mean over the channels and a sixth octave about each of `response_lines`
  /// frequencies from 20 Hz to 20 kHz; -200 dB above half its rate.
  SpectrumLine gain;
};
inline constexpr int response_lines = 301;
/// Throws InputError for a silent one, or one over a minute; Cancelled.
ImpulseResponse study_response(const Clip& response, const Job& job = {});

/// Frames of its beginning that are enough for a programme, to half a millisecond: what the rest would have added lies
/// at least so many dB under the whole. `programme`: its average spectrum; nullptr: white. None: nothing of it may go.
std::vector<std::optional<int64_t>> enough_frames(const Clip& response, std::span<const double> under_db,
                                                  const Spectrum* programme = nullptr, const Job& job = {});

/// What stays where a programme through one is nulled with the same through another, against the first; as they stand.
struct ResponseNull {
  double whole_db = 0, early_db = 0, late_db = 0;  ///< all of it; up to 80 ms after the first one's onset; after that
};
ResponseNull null_responses(std::shared_ptr<const Clip> a, std::shared_ptr<const Clip> b,
                            const Spectrum* programme = nullptr, const Job& job = {});

/// A response that is taken for one of another rate: everything in it shifts, and it rings so many times as long.
struct WrongRate {
  double cents = 0, length_factor = 1;
};
WrongRate at_wrong_rate(int its_hz, int taken_for_hz);

}  // namespace heathmist
