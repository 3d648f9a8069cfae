// The sync mark by itself: sent before something else, it tells how late that comes back.
#pragma once
#include <optional>
#include <span>
#include <vector>

namespace heathmist {

/// The mark, 0.3 s at -12 dBFS.
std::vector<double> sync_mark(int sample_rate_hz);

struct HeardMark {
  double at_samples = 0;  ///< its first frame; fractions count
  double gain_db = 0;     ///< against the mark as it was sent
  bool inverted = false;
};
/// The first mark in what came back; nothing: there is none. Rates of 7 kHz and more.
std::optional<HeardMark> find_sync_mark(std::span<const double> heard, int sample_rate_hz);

}  // namespace heathmist
