// A delay that moves: its course, what it makes of a signal, and how it is followed.
#pragma once
#include <cstdint>
#include <span>
#include <vector>

#include "core/audio/planar.hpp"

namespace heathmist {

/// Delay in samples, at hop, 2 hop, 3 hop ... frames; there is one at the least. Read between by cubics (Catmull and
/// Rom 1974).
struct DelayCourse {
  int64_t hop = 1;  ///< frames
  std::vector<double> late{};
  double at(double frame) const;
};

/// out[n] = in(n - late(n + shift)) for n of [from, until)
void warp(std::span<const double> in, const DelayCourse& course, std::span<double> out, int64_t from, int64_t until,
          int64_t shift = 0);

/// Delay of `to` behind `from` at every hop, in whole samples: of all ways over the lags of half whitened correlations
/// the one that gathers most (Viterbi 1967); where it goes far, of what that leaves once more. Empty where the delay
/// stays. Both are channels x frames; `told`: 0 where nothing may be read; empty: everything may.
DelayCourse course_of_delay(const Planar& from, const Planar& to, std::span<const uint8_t> told, int64_t hop);

/// What the best of these ways gathers, against what there would be to gather if `to` were `from` late and no more: 0 to
/// 1, as a coherence.
double followed_correlation(const Planar& from, const Planar& to, int64_t hop);

}  // namespace heathmist
