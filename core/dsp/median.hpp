// The middle value, and the line that few outliers bend.
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

/// y = height + slope x by the median of the slopes between all points and the median of the heights (Theil 1950, Sen
/// 1968); a slope of 0 where no two points differ in x.
struct MedianLine {
  double slope = 0, height = 0;
};
inline MedianLine median_line(std::span<const double> x, std::span<const double> y) {
  std::vector<double> slopes, heights;
  for (size_t i = 0; i < x.size(); ++i)
    for (size_t k = i + 1; k < x.size(); ++k)
      if (x[k] != x[i]) slopes.push_back((y[k] - y[i]) / (x[k] - x[i]));
  const double slope = median(slopes);
  for (size_t i = 0; i < x.size(); ++i) heights.push_back(y[i] - slope * x[i]);
  return {slope, median(heights)};
}

}  // namespace heathmist::dsp
