// Where a sound may come back later.
#pragma once
#include <algorithm>
#include <cstdint>
#include <cstdlib>
#include <span>
#include <vector>

#include "core/compare/causes/tap_fit.hpp"

namespace heathmist::causes {

/// Delays in samples, 1.5 ms to 3 s and at most 0.6 of what is read, at which what is left (a channel each) may repeat
/// the model: the two lags at which one repeat beside a gain leaves least by least squares, and up to four peaks of the
/// response, by division of spectra. The first tells it of sounds with gaps in their spectrum, the other of many
/// repeats. What is left is 0 where `told` is. All lie further apart than what TapFit takes around a place.
std::vector<int64_t> echo_places(const std::vector<std::span<const double>>& models,
                                 const std::vector<std::vector<double>>& left, std::span<const uint8_t> told,
                                 double rate_hz, int threads);

/// Whether what is around a place is around none of the others.
inline bool is_apart(int64_t place, const std::vector<int64_t>& others) {
  return std::none_of(others.begin(), others.end(),
                      [&](int64_t other) { return std::abs(place - other) <= 2 * TapFit::around; });
}

}  // namespace heathmist::causes
