// How the charts of a report are drawn: once, on whatever takes lines and words.
//
// Places are in points from the top left; a canvas knows nothing of audio, a chart nothing of sizes.
#pragma once
#include <string>
#include <vector>

#include "core/bench/report_content.hpp"

namespace heathmist::app {

struct Spot {
  double x = 0, y = 0;
};
struct Ink {
  std::string colour;  ///< #rrggbb
  double width = 1;
  bool is_dashed = false;
};
enum class Anchor { start, middle, end };

class Canvas {
 public:
  virtual ~Canvas() = default;
  virtual void line(const std::vector<Spot>& spots, const Ink& ink) = 0;
  virtual void area(const std::vector<Spot>& spots, const std::string& colour, double opacity) = 0;
  /// `at`: on the base line.
  virtual void words(Spot at, const std::string& text, double size, Anchor anchor, const std::string& colour,
                     bool is_strong = false) = 0;
};

/// The colours that a report is printed in, by the roles of the window's light variant.
struct PrintInks {
  std::string paper, ink, soft, rule, faint, master, ret, residual, moss, straw, gorse, rust;
  const std::string& of(Severity severity) const;
  const std::string& of(ChartLine::Role role) const;
};
const PrintInks& print_inks();

double chart_height(const Chart& chart);
void draw_chart(const Chart& chart, double width, Canvas& canvas);
/// How deep a residual lies: filled from 0 dB at the left to its level; none is silence, and fills all of it.
inline constexpr double gauge_height = 22;
void draw_gauge(std::optional<double> depth_db, double width, Canvas& canvas);

}  // namespace heathmist::app
