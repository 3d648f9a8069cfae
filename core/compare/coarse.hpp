// The coarse search: where in the return the master might lie, over the whole files.
#pragma once
#include <vector>

#include "core/audio/clip.hpp"

namespace heathmist {

/// How the channels of a clip are mixed to one signal for searching; uneven, so that no common fault cancels it.
using Mixture = std::vector<double>;
Mixture uneven_mixture(int channels);
Mixture single_channel(int channels, int which);

/// A clip made small: one value for every `step` frames, either the mean of the mixture (a low-passed, decimated
/// waveform) or, for long programmes, the change of its RMS (which says nothing of polarity, but needs little room).
struct Sketch {
  int64_t step = 1;
  std::vector<float> values;
};
enum class SketchKind { waveform, energy };
struct SketchPlan {
  int64_t step;
  SketchKind kind;
};
/// The plan under which both sketches together hold about 4 million values at most.
SketchPlan plan_sketches(int sample_rate_hz, int64_t both_frames);
Sketch sketch(const Clip& clip, const Mixture& mixture, const SketchPlan& plan, const Job& job);

/// Delays in samples (resolution: the sketch's step) at which the return may hold the master, likeliest first: peaks of
/// the generalized cross-correlation (Knapp and Carter 1976), with the phase transform and with its square root.
std::vector<double> coarse_delays(const Sketch& master, const Sketch& ret, const Job& job);

}  // namespace heathmist
