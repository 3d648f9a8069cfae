#include "app/report/chart_drawing.hpp"

#include <algorithm>
#include <cmath>

#include "app/theme/theme.hpp"

namespace heathmist::app {

namespace {

constexpr double beside = 44, behind = 10, above = 34, below = 34, plot_height = 132, bar_row = 30, small = 8.5;
constexpr double gauge_end_db = -144;

std::string number_words(double value) {
  if (value == 0) value = 0;  // no negative zero
  return QString::number(value, 'g', 6).replace('-', QChar(0x2212)).toStdString();
}

std::string hertz_words(double hz) { return hz >= 1000 ? number_words(hz / 1000) + "k" : number_words(hz); }

/// Round values between two, about so many.
std::vector<double> round_ticks(double low, double high, double about) {
  const double raw = (high - low) / about, size = std::pow(10, std::floor(std::log10(raw)));
  double step = size * 10;
  for (const double factor : {1.0, 2.0, 5.0})
    if (size * factor >= raw * 0.999) {
      step = size * factor;
      break;
    }
  std::vector<double> ticks;
  for (double n = std::ceil(low / step - 1e-9); n * step <= high + step * 1e-9; ++n) ticks.push_back(n * step);
  return ticks;
}

/// The plot's rectangle and its scales.
class Frame {
 public:
  Frame(const Chart& chart, double width, double height)
      : chart_(chart), x0_(beside), x1_(width - behind), y0_(above), y1_(height - below) {}
  double x(double value) const {
    const auto scaled = [&](double v) { return chart_.is_logarithmic ? std::log(std::max(v, 1e-9)) : v; };
    const double low = scaled(chart_.low_x), high = scaled(chart_.high_x);
    return x0_ + (x1_ - x0_) * std::clamp((scaled(value) - low) / (high - low), 0.0, 1.0);
  }
  double y(double value) const {
    return y1_ - (y1_ - y0_) * std::clamp((value - chart_.low_y) / (chart_.high_y - chart_.low_y), 0.0, 1.0);
  }
  std::vector<double> x_ticks() const {
    if (!chart_.is_logarithmic)
      return round_ticks(std::min(chart_.low_x, chart_.high_x), std::max(chart_.low_x, chart_.high_x), 7);
    std::vector<double> ticks;
    for (double decade = std::pow(10, std::floor(std::log10(chart_.low_x))); decade <= chart_.high_x; decade *= 10)
      for (const double factor : {1.0, 2.0, 5.0})
        if (decade * factor >= chart_.low_x && decade * factor <= chart_.high_x) ticks.push_back(decade * factor);
    return ticks;
  }
  double x0() const { return x0_; }
  double x1() const { return x1_; }
  double y0() const { return y0_; }
  double y1() const { return y1_; }

 private:
  const Chart& chart_;
  double x0_, x1_, y0_, y1_;
};

void draw_scales(const Chart& chart, const Frame& frame, Canvas& canvas) {
  const PrintInks& inks = print_inks();
  for (const double tick : frame.x_ticks()) {
    canvas.line({{frame.x(tick), frame.y0()}, {frame.x(tick), frame.y1()}}, {inks.faint, 0.6});
    canvas.words({frame.x(tick), frame.y1() + 11}, chart.is_logarithmic ? hertz_words(tick) : number_words(tick), small,
                 Anchor::middle, inks.soft);
  }
  if (chart.bars.empty())
    for (const double tick : round_ticks(chart.low_y, chart.high_y, 7)) {
      canvas.line({{frame.x0(), frame.y(tick)}, {frame.x1(), frame.y(tick)}},
                  {tick == 0 ? inks.rule : inks.faint, tick == 0 ? 1.0 : 0.6});
      canvas.words({frame.x0() - 5, frame.y(tick) + 3}, number_words(tick), small, Anchor::end, inks.soft);
    }
  canvas.line({{frame.x0(), frame.y1()}, {frame.x1(), frame.y1()}}, {inks.rule, 1});
  canvas.words({(frame.x0() + frame.x1()) / 2, frame.y1() + 24}, chart.x_title, small, Anchor::middle, inks.soft);
}

void draw_key(const Chart& chart, const Frame& frame, Canvas& canvas) {
  const PrintInks& inks = print_inks();
  double x = frame.x1();
  for (auto line = chart.lines.rbegin(); line != chart.lines.rend(); ++line) {
    canvas.words({x, above - 8}, line->name, small, Anchor::end, inks.of(line->role), true);
    x -= 5.2 * double(line->name.size()) + 6;
    canvas.line({{x - 14, above - 11}, {x, above - 11}},
                {inks.of(line->role), 1.6, line->role == ChartLine::Role::ret});
    x -= 26;
  }
}

/// Its stretches between gaps; the residual is filled, down to nothing where levels lie on both sides of it.
void draw_line(const Chart& chart, const ChartLine& line, const Frame& frame, Canvas& canvas) {
  const std::string& colour = print_inks().of(line.role);
  const bool is_residual = line.role == ChartLine::Role::residual;
  const double base = frame.y(chart.low_y == -chart.high_y ? 0 : chart.low_y);
  std::vector<Spot> stretch;
  const auto end = [&] {
    if (stretch.size() > 1) {
      if (is_residual) {
        auto area = stretch;
        area.push_back({stretch.back().x, base}), area.push_back({stretch.front().x, base});
        canvas.area(area, colour, 0.28);
      }
      canvas.line(stretch,
                  {colour, is_residual ? 0.8 : 1.3, line.role == ChartLine::Role::ret && chart.lines.size() > 1});
    }
    stretch.clear();
  };
  for (size_t n = 0; n < line.x.size(); ++n) {
    if (std::isfinite(line.y[n]))
      stretch.push_back({frame.x(line.x[n]), frame.y(line.y[n])});
    else
      end();
  }
  end();
}

void draw_bars(const Chart& chart, const Frame& frame, Canvas& canvas) {
  const PrintInks& inks = print_inks();
  double y = frame.y0();
  for (const ChartBar& bar : chart.bars) {
    canvas.words({frame.x0(), y + 9}, bar.name, 9, Anchor::start, inks.ink);
    const double from = frame.x(bar.from), to = frame.x(bar.to), up = y + 14, down = y + 22;
    const auto box = [&](double a, double b) { return std::vector<Spot>{{a, up}, {b, up}, {b, down}, {a, down}}; };
    canvas.area(box(frame.x0(), frame.x1()), inks.faint, 1);
    canvas.area(box(from, to), inks.residual, 0.85);
    y += bar_row;
  }
}

void draw_marks(const Chart& chart, const Frame& frame, Canvas& canvas) {
  double free_from = 0;  // a name that would lie on another is left out
  auto marks = chart.marks;
  std::stable_sort(marks.begin(), marks.end(), [](const ChartMark& a, const ChartMark& b) { return a.x < b.x; });
  for (const ChartMark& mark : marks) {
    const double x = frame.x(mark.x);
    canvas.line({{x, frame.y0()}, {x, frame.y1()}}, {print_inks().rust, 0.8, true});
    if (mark.text.empty() || x < free_from) continue;
    const bool at_end = x > frame.x1() - 40;
    canvas.words({at_end ? x - 3 : x + 3, frame.y0() + 8}, mark.text, small, at_end ? Anchor::end : Anchor::start,
                 print_inks().rust);
    free_from = x + 6 * double(mark.text.size()) + 6;
  }
}

}  // namespace

const std::string& PrintInks::of(Severity severity) const {
  const std::string* all[] = {&moss, &straw, &gorse, &rust};
  return *all[int(severity)];
}

const std::string& PrintInks::of(ChartLine::Role role) const {
  const std::string* all[] = {&master, &ret, &residual};
  return *all[int(role)];
}

const PrintInks& print_inks() {
  static const PrintInks inks = [] {
    const auto of = [](Role role) { return Theme::instance().light(role).name().toStdString(); };
    return PrintInks{"#ffffff",       of(Role::ink),    of(Role::soft),  of(Role::rule),
                     of(Role::faint), of(Role::master), of(Role::ret),   of(Role::residual),
                     of(Role::moss),  of(Role::straw),  of(Role::gorse), of(Role::rust)};
  }();
  return inks;
}

double chart_height(const Chart& chart) {
  return above + below + (chart.bars.empty() ? plot_height : bar_row * double(chart.bars.size()));
}

void draw_chart(const Chart& chart, double width, Canvas& canvas) {
  const Frame frame(chart, width, chart_height(chart));
  canvas.words({0, 11}, chart.title, 10, Anchor::start, print_inks().ink, true);
  canvas.words({0, above - 8}, chart.y_title, small, Anchor::start, print_inks().soft);
  draw_scales(chart, frame, canvas);
  draw_bars(chart, frame, canvas);
  for (const ChartLine& line : chart.lines) draw_line(chart, line, frame, canvas);
  draw_marks(chart, frame, canvas);
  if (chart.lines.size() > 1) draw_key(chart, frame, canvas);
}

void draw_gauge(std::optional<double> depth_db, double width, Canvas& canvas) {
  const PrintInks& inks = print_inks();
  const double share = depth_db ? std::clamp(*depth_db / gauge_end_db, 0.0, 1.0) : 1, long_x = width - 62;
  const auto box = [](double from, double to) { return std::vector<Spot>{{from, 3}, {to, 3}, {to, 9}, {from, 9}}; };
  canvas.area(box(0, long_x), inks.faint, 1);
  canvas.area(box(0, long_x * share), depth_db ? inks.residual : inks.moss, 0.9);
  for (const double db : {0.0, -60.0, -96.0, -144.0}) {
    const double x = long_x * db / gauge_end_db;
    canvas.words({x, 19}, number_words(db), 7.5, db == 0 ? Anchor::start : Anchor::middle, inks.soft);
  }
  canvas.words(
      {width, 10},
      depth_db ? QString::number(*depth_db, 'f', 1).replace('-', QChar(0x2212)).toStdString() + " dB" : "nothing left",
      9.5, Anchor::end, inks.ink, true);
}

}  // namespace heathmist::app
