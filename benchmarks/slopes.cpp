#include "benchmarks/slopes.hpp"

#include <fmt/chrono.h>
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace heathmist::bench {

namespace {

using Cost = double Point::*;

double slope_of(const Course& course, Cost cost) {
  const size_t from = course.points.size() / 2;
  double count = 0, x = 0, y = 0, xx = 0, xy = 0;
  for (size_t n = course.points.size() < 4 ? 0 : from; n < course.points.size(); ++n) {
    const double size = std::log(course.points[n].size), value = std::log(std::max(1e-6, course.points[n].*cost));
    count += 1, x += size, y += value, xx += size * size, xy += size * value;
  }
  return count < 2 ? std::nan("") : (xy - x * y / count) / (xx - x * x / count);
}

std::string slope_text(double slope) {
  return std::isfinite(slope) ? fmt::format("{:.2f}{}", slope, slope > most_slope ? " !" : "") : "-";
}

/// Powers of ten, as the chart's x alone can be logarithmic.
ChartLine line_of(const Course& c, Cost cost, ChartLine::Role role, const std::string& name) {
  ChartLine line{role, name, {}, {}};
  for (const Point& p : c.points)
    line.x.push_back(p.size), line.y.push_back(p.*cost > 0 ? std::log10(p.*cost) : std::nan(""));
  return line;
}

Chart chart_of(const Course& c) {
  Chart chart{
      fmt::format("{}: slope of time {}, of memory {}", c.verb, slope_text(time_slope(c)), slope_text(memory_slope(c))),
      c.over == "seconds" ? "length in seconds" : "channels",
      "powers of ten",
      {},
      true};
  chart.lines = {line_of(c, &Point::time_s, ChartLine::Role::master, "seconds"),
                 line_of(c, &Point::memory_mib, ChartLine::Role::ret, "MiB")};
  const Point &first = c.points.front(), &last = c.points.back();
  chart.says = fmt::format("{:.2f} s and {:.0f} MiB at {}, {:.2f} s and {:.0f} MiB at {}", first.time_s,
                           first.memory_mib, first.size, last.time_s, last.memory_mib, last.size);
  chart.low_x = first.size, chart.high_x = last.size;
  for (const ChartLine& line : chart.lines)
    for (const double y : line.y) {
      if (!std::isfinite(y)) continue;
      chart.low_y = std::min(chart.low_y, std::floor(y)), chart.high_y = std::max(chart.high_y, std::ceil(y));
    }
  return chart;
}

}  // namespace

double time_slope(const Course& course) { return slope_of(course, &Point::time_s); }
double memory_slope(const Course& course) { return slope_of(course, &Point::memory_mib); }

std::string table_of(const std::vector<Course>& courses) {
  std::string table = fmt::format("{:10} {:9} {:>18} {:>18} {:>8} {:>18} {:>18} {:>8}\n", "verb", "over", "least",
                                  "most", "slope", "memory of least", "of most", "slope");
  for (const Course& c : courses) {
    if (c.points.empty()) continue;
    const Point &first = c.points.front(), &last = c.points.back();
    table += fmt::format("{:10} {:9} {:>8} {:7.2f} s {:>8} {:7.2f} s {:>8} {:14.0f} MiB {:14.0f} MiB {:>8}\n", c.verb,
                         c.over, first.size, first.time_s, last.size, last.time_s, slope_text(time_slope(c)),
                         first.memory_mib, last.memory_mib, slope_text(memory_slope(c)));
  }
  return table;
}

Json json_of(const std::vector<Course>& courses) {
  Json all = Json::array();
  const auto number = [](double v) { return std::isfinite(v) ? Json(v) : Json(nullptr); };
  for (const Course& c : courses) {
    Json points = Json::array();
    for (const Point& p : c.points)
      points.push_back({{"size", p.size}, {"time_s", p.time_s}, {"memory_mib", p.memory_mib}});
    all.push_back({{"verb", c.verb},
                   {"over", c.over},
                   {"points", points},
                   {"time_slope", number(time_slope(c))},
                   {"memory_slope", number(memory_slope(c))}});
  }
  return {{"courses", all}};
}

Report report_of(const std::vector<Course>& courses) {
  Report report;
  report.heading = "Cost over size";
  report.about = "Time of all cores and greatest memory of each verb, in powers of ten over the size";
  report.date = fmt::format("{:%Y-%m-%d}", fmt::localtime(std::time(nullptr)));
  report.program = fmt::format("Heathmist {}", HEATHMIST_VERSION);
  for (const Course& c : courses)
    if (c.points.size() > 1) report.blocks.emplace_back(chart_of(c));
  return report;
}

}  // namespace heathmist::bench
