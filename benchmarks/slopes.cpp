#include "benchmarks/slopes.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <functional>

#include "core/audio/atomic_file.hpp"

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

constexpr double wide = 420, high = 300, left = 56, right = 64, top = 34, bottom = 40;  // of a panel, in pixels

/// A logarithmic axis over whole decades.
struct Axis {
  double low = 1, high = 10, from = 0, to = 1;
  double at(double value) const { return from + (to - from) * std::log(value / low) / std::log(high / low); }
};
Axis axis_of(std::vector<double> values, double from, double to) {
  const auto [least, most] = std::minmax_element(values.begin(), values.end());
  Axis axis{std::pow(10, std::floor(std::log10(*least))), std::pow(10, std::ceil(std::log10(*most))), from, to};
  if (axis.high <= axis.low) axis.high = 10 * axis.low;
  return axis;
}

std::string line_of(const Course& c, Cost cost, const Axis& x, const Axis& y, const char* colour,
                    const std::string& name) {
  std::string points;
  for (const Point& p : c.points) points += fmt::format("{:.1f},{:.1f} ", x.at(p.size), y.at(std::max(1e-3, p.*cost)));
  const Point& last = c.points.back();
  return fmt::format(
      "<polyline points='{}' fill='none' stroke='{}' stroke-width='2'/>"
      "<text x='{:.1f}' y='{:.1f}' fill='{}'>{}</text>\n",
      points, colour, x.at(last.size) + 6, y.at(std::max(1e-3, last.*cost)) + 4, colour, name);
}

std::string panel_of(const Course& c, double begin) {
  std::vector<double> sizes, costs;
  for (const Point& p : c.points)
    sizes.push_back(p.size), costs.push_back(std::max(1e-3, p.time_s)), costs.push_back(std::max(1e-3, p.memory_mib));
  const Axis x = axis_of(sizes, begin + left, begin + wide - right), y = axis_of(costs, high - bottom, top);
  std::string svg;
  const auto text = [&](double at_x, double at_y, const char* anchor, const std::string& words) {
    svg += fmt::format("<text x='{:.1f}' y='{:.1f}' text-anchor='{}'>{}</text>\n", at_x, at_y, anchor, words);
  };
  for (double v = x.low; v <= 1.001 * x.high; v *= 10) {
    svg +=
        fmt::format("<line x1='{0:.1f}' x2='{0:.1f}' y1='{1}' y2='{2}' stroke='#ddd'/>", x.at(v), top, high - bottom);
    text(x.at(v), high - bottom + 16, "middle", fmt::format("{:g}", v));
  }
  for (double v = y.low; v <= 1.001 * y.high; v *= 10) {
    svg += fmt::format("<line x1='{1}' x2='{2}' y1='{0:.1f}' y2='{0:.1f}' stroke='#ddd'/>", y.at(v), x.from, x.to);
    text(x.from - 6, y.at(v) + 4, "end", fmt::format("{:g}", v));
  }
  text((x.from + x.to) / 2, high - 6, "middle", c.over == "seconds" ? "length in seconds" : "channels");
  text(x.from, top - 14, "start",
       fmt::format("{}: slope of time {:.2f}, of memory {:.2f}", c.verb, time_slope(c), memory_slope(c)));
  return svg + line_of(c, &Point::time_s, x, y, "#1f5f8b", "s") +
         line_of(c, &Point::memory_mib, x, y, "#a8551c", "MiB");
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

std::filesystem::path picture_of(const std::filesystem::path& folder, const std::string& verb) {
  return folder / (verb + ".svg");
}

void draw(const std::vector<Course>& courses, const std::filesystem::path& folder) {
  std::filesystem::create_directories(folder);
  std::vector<std::string> done;
  for (const Course& c : courses) {
    if (std::find(done.begin(), done.end(), c.verb) != done.end()) continue;
    done.push_back(c.verb);
    std::string panels;
    double begin = 0;
    for (const Course& own : courses)
      if (own.verb == c.verb && own.points.size() > 1) panels += panel_of(own, begin), begin += wide;
    AtomicFile out{Destination(picture_of(folder, c.verb))};
    out.write(
        fmt::format("<svg xmlns='http://www.w3.org/2000/svg' width='{}' height='{}' font-family='sans-serif' "
                    "font-size='12'>\n<rect width='100%' height='100%' fill='white'/>\n{}</svg>\n",
                    std::max(begin, wide), high, panels));
    out.commit();
  }
}

}  // namespace heathmist::bench
