// The middle value.
#pragma once
#include <algorithm>
#include <span>
#include <vector>

namespace heathmist::dsp {

/// Of an even count the upper of the two middle values; 0 of none.
inline double median(std::span<const double> values) {
  if (values.empty()) return 0;
  std::vector<double> sorted(values.begin(), values.end());
  const auto middle = sorted.begin() + long(sorted.size() / 2);
  std::nth_element(sorted.begin(), middle, sorted.end());
  return *middle;
}

}  // namespace heathmist::dsp
