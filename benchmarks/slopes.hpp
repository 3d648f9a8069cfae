// Cost over size: what was measured of one verb, and how fast it grows.
#pragma once
#include <string>
#include <vector>

#include "core/bench/report_content.hpp"
#include "core/json.hpp"

namespace heathmist::bench {

struct Point {
  double size = 0;  ///< seconds, or channels
  double time_s = 0, memory_mib = 0;
};

struct Course {
  std::string verb, over;  ///< over: "seconds" or "channels"
  std::vector<Point> points;
};

/// Slope of the logarithm of the cost over that of the size, by least squares over the greater half of the points (of
/// the lesser ones what there is to start with counts). Nothing (NaN) of fewer than two.
double time_slope(const Course& course);
double memory_slope(const Course& course);

constexpr double most_slope = 1.05;  // more than that is to be explained

/// A line each: first and last point, and both slopes.
std::string table_of(const std::vector<Course>& courses);
Json json_of(const std::vector<Course>& courses);

/// A chart of each verb over each size, of more than one point, log by log.
Report report_of(const std::vector<Course>& courses);

}  // namespace heathmist::bench
