#include "core/bench/report_charts.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>

#include "core/compare/phrases.hpp"
#include "core/measure/spectrum.hpp"

namespace heathmist {

namespace {

using Role = ChartLine::Role;

constexpr size_t most_points = 300;
constexpr double nothing_db = -180;  // what is under it is not drawn
constexpr double no_number = std::numeric_limits<double>::quiet_NaN();

double kept(double db) { return std::isfinite(db) && db > nothing_db ? db : no_number; }

/// Up to most_points of evenly spaced values, the greatest of each stretch.
ChartLine over_time(Role role, const char* name, const std::vector<float>& values, double first_s, double step_s) {
  ChartLine line{role, name, {}, {}};
  const size_t points = std::min(most_points, values.size());
  for (size_t n = 0; n < points; ++n) {
    const size_t from = n * values.size() / points, to = std::max(from + 1, (n + 1) * values.size() / points);
    double greatest = nothing_db;
    for (size_t k = from; k < to; ++k)
      if (std::isfinite(values[k])) greatest = std::max(greatest, double(values[k]));
    line.x.push_back(first_s + step_s * (double(from + to) / 2));
    line.y.push_back(kept(greatest));
  }
  return line;
}

/// Whole tens of dB around all that is drawn, `least` high at the least.
void set_levels(Chart& chart, double least, double floor) {
  double low = std::numeric_limits<double>::max(), high = std::numeric_limits<double>::lowest();
  for (const ChartLine& line : chart.lines)
    for (const double y : line.y)
      if (std::isfinite(y)) low = std::min(low, y), high = std::max(high, y);
  if (low > high) low = -60, high = 0;
  chart.high_y = std::ceil((high + 1) / 10) * 10;
  chart.low_y = std::max(floor, std::floor((low - 1) / 10) * 10);
  if (chart.high_y - chart.low_y < least) chart.low_y = chart.high_y - least;
}

void set_range_of_x(Chart& chart) {
  chart.low_x = std::numeric_limits<double>::max(), chart.high_x = std::numeric_limits<double>::lowest();
  for (const ChartLine& line : chart.lines)
    for (const double x : line.x) chart.low_x = std::min(chart.low_x, x), chart.high_x = std::max(chart.high_x, x);
  if (chart.low_x >= chart.high_x) chart.low_x = 0, chart.high_x = 1;
}

Chart over_frequency(const std::string& title, const std::string& y_title) {
  Chart chart{title, "Frequency, Hz", y_title, ""};
  chart.is_logarithmic = true;
  chart.low_x = 20, chart.high_x = 20000;
  return chart;
}

std::string level_of(std::optional<double> db) {
  return db ? fmt::format("the residual lies {} the master", over_text(*db)) : "nothing is left of it";
}

}  // namespace

Chart loudness_chart(const NullReport& report) {
  const bool is_short = report.sums.master_pieces.size() < 60;  // under 6 s there is hardly a line
  const int span = is_short ? 4 : 30;
  Chart chart{"Loudness over time", "Time, s", is_short ? "Momentary, LUFS" : "Short-term, LUFS", ""};
  const double rate = report.master.sample_rate_hz;
  const double first_s = rate > 0 ? double(report.sums.first) / rate : 0;
  const auto add = [&](Role role, const char* name, const LoudnessPieces& pieces) {
    chart.lines.push_back(over_time(role, name, sliding_lufs(pieces, span), first_s + 0.1 * (span - 1), 0.1));
  };
  add(Role::residual, "residual", report.sums.residual_pieces);
  add(Role::master, "master", report.sums.master_pieces);
  add(Role::ret, "return", report.sums.return_pieces);
  set_levels(chart, 40, -120);
  set_range_of_x(chart);
  chart.low_x = first_s;
  chart.says = fmt::format("Loudness of master, return and residual over {} s: {}.",
                           number_text(report.sums.seconds, 0), level_of(report.residual_relative_db()));
  return chart;
}

Chart spectra_chart(const NullReport& report) {
  Chart chart = over_frequency("Spectra", "Level, dBFS a sixth of an octave");
  const double top = std::max(100.0, report.master.sample_rate_hz / 2.0);
  chart.high_x = std::min(top, 48000.0);
  const auto add = [&](Role role, const char* name, const Spectrum& spectrum) {
    if (spectrum.power.empty()) return;
    const SpectrumLine line = smoothed(spectrum, chart.low_x, chart.high_x, int(most_points), true, 6);
    ChartLine drawn{role, name, line.hz, line.db};
    for (size_t n = 0; n < drawn.y.size(); ++n) {  // a bin's power stands for its share of the band
      const double bins = std::max(1.0, line.hz[n] * (std::exp2(1.0 / 12) - std::exp2(-1.0 / 12)) / spectrum.bin_hz);
      drawn.y[n] = kept(drawn.y[n] + 10 * std::log10(bins));
    }
    chart.lines.push_back(std::move(drawn));
  };
  add(Role::residual, "residual", report.sums.residual_spectrum);
  add(Role::master, "master", report.sums.master_spectrum);
  add(Role::ret, "return", report.sums.return_spectrum);
  set_levels(chart, 60, -160);
  chart.says = fmt::format("Spectra of master, return and residual: {}.", level_of(report.residual_relative_db()));
  return chart;
}

Chart depth_chart(const NullReport& report) {
  Chart chart = over_frequency("How deep the residual lies, by third octave", "Residual against master, dB");
  ChartLine line{Role::residual, "residual against master", {}, {}};
  std::optional<DepthBand> least;
  for (const DepthBand& band : third_octave_depth(report.sums)) {
    if (band.centre_hz < 20) continue;
    line.x.push_back(band.centre_hz);
    line.y.push_back(band.depth_db ? kept(*band.depth_db) : no_number);
    if (band.depth_db && (!least || *band.depth_db > *least->depth_db)) least = band;
  }
  if (!line.x.empty()) chart.high_x = std::max(20000.0, line.x.back());
  chart.lines.push_back(std::move(line));
  set_levels(chart, 40, -160);
  chart.high_y = std::max(chart.high_y, 0.0);
  if (least)
    chart.says = fmt::format("It comes closest at {}, {} dB under the master.", hertz_text(least->centre_hz),
                             number_text(-*least->depth_db, 1));
  return chart;
}

std::optional<Chart> budget_chart(const NullReport& report) {
  Chart chart{"What each cause took out of the residual", "Left against the master, dB", "", ""};
  for (const Cause& cause : report.causes) {
    if (!cause.before_db || cause.is_of_the_fit()) continue;
    const double after = cause.after_db.value_or(nothing_db);
    chart.bars.push_back({cause.text.empty() ? cause.code : cause.text, *cause.before_db, std::max(after, -144.0)});
  }
  if (chart.bars.empty()) return {};
  chart.low_x = 0, chart.high_x = -60;
  for (const ChartBar& bar : chart.bars) chart.high_x = std::min({chart.high_x, bar.from, bar.to});
  chart.high_x = std::floor(chart.high_x / 20) * 20;
  chart.says = "What is left of the residual, cause by cause, in the order they were taken out.";
  return chart;
}

std::optional<Chart> path_chart(const Explanation& why) {
  Chart chart = over_frequency("Level of the return against the master", "dB");
  ChartLine line{Role::ret, "return against master", {}, {}};
  double widest = 1;
  for (const PathBand& band : why.bands) {
    const bool is_sure = band.master > 0 && band.coherence > 0.1;
    line.x.push_back(std::sqrt(band.low_hz * band.high_hz));
    line.y.push_back(is_sure ? band.magnitude_db : no_number);
    if (is_sure) widest = std::max(widest, std::abs(band.magnitude_db));
  }
  if (line.x.empty()) return {};
  chart.high_x = std::max(20000.0, line.x.back());
  widest = widest > 6 ? std::min(60.0, std::ceil(widest / 6) * 6) : std::ceil(widest);
  chart.low_y = -widest, chart.high_y = widest;
  chart.lines.push_back(std::move(line));
  chart.says = "Level of the return against the master over frequency.";
  return chart;
}

std::optional<Chart> mask_chart(const Explanation& why) {
  if (why.mask.bands() < 1) return {};
  Chart chart = over_frequency("Residual against what the programme masks", "Over the mask, dB");
  ChartLine line{Role::residual, "95 % of the blocks stay under this", {}, {}};
  for (int n = 0; n < why.mask.bands(); ++n) {
    const double low = std::max(20.0, why.mask.band_edges_hz[size_t(n)]), high = why.mask.band_edges_hz[size_t(n) + 1];
    line.x.push_back(std::sqrt(low * high));
    line.y.push_back(kept(why.mask.band_db[size_t(n)]));
  }
  chart.high_x = std::max(20000.0, line.x.back());
  chart.lines.push_back(std::move(line));
  set_levels(chart, 40, -100);
  chart.high_y = std::max(chart.high_y, 10.0);
  chart.says =
      fmt::format("By a model of hearing the programme masks {} % of the residual's cells; above 0 dB it does not.",
                  number_text(100 * why.mask.covered_share, 0));
  return chart;
}

std::optional<Chart> gain_chart(const Explanation& why) {
  if (why.gain.db.size() < 2) return {};
  Chart chart{"Gain over time", "Time, s", "dB", ""};
  ChartLine line{Role::ret, "return against master", {}, {}};
  const size_t points = std::min(most_points, why.gain.db.size());
  for (size_t n = 0; n < points; ++n) {  // the one furthest from none: a dip of 20 ms is to be seen
    const size_t from = n * why.gain.db.size() / points, to = std::max(from + 1, (n + 1) * why.gain.db.size() / points);
    double furthest = no_number;
    for (size_t k = from; k < to; ++k) {
      const double db = why.gain.db[k];
      if (std::isfinite(db) && (std::isnan(furthest) || std::abs(db) > std::abs(furthest))) furthest = db;
    }
    line.x.push_back(why.gain.first_s + why.gain.piece_s * (double(from + to) / 2));
    line.y.push_back(furthest);
  }
  chart.lines.push_back(std::move(line));
  double low = -1, high = 1;
  for (const double y : chart.lines[0].y)
    if (std::isfinite(y)) low = std::min(low, y), high = std::max(high, y);
  chart.low_y = std::max(-60.0, std::floor(low / 3) * 3), chart.high_y = std::min(60.0, std::ceil(high / 3) * 3);
  set_range_of_x(chart);
  chart.says = fmt::format("Gain of the return over time; it is pulled down most, by {} dB, at {}.",
                           number_text(-why.gain.deepest_db, 1), clock_text(why.gain.deepest_at_s));
  return chart;
}

Chart spot_chart(const AnalysisResult& result, double at_s, const std::string& text, const Job& job) {
  const Fit& fit = result.report->fit;
  const Clip& master = *result.pair.master;
  const int rate = master.format().sample_rate_hz;
  const auto at = int64_t(std::llround(at_s * rate));
  const int64_t frames = std::max<int64_t>(16, rate / 200), first = std::max<int64_t>(0, at - frames / 2);
  job.check();
  Planar m, r;
  AlignedMaster(master, fit).read(first, frames, m);
  AlignedReturn(*result.pair.ret, fit).read(first, frames, r);
  const auto residual_of = [&](const ChannelPair& pair) {
    std::vector<double> residual(size_t(frames), 0.0);
    take_residual(m.channel(pair.master), r.channel(pair.ret), pair, fit.gain(), residual);
    return residual;
  };
  std::vector<double> residual;
  ChannelPair shown;
  double greatest = -1;
  for (const ChannelPair& pair : fit.pairs) {
    auto one = residual_of(pair);
    double peak = 0;
    for (const double x : one) peak = std::max(peak, std::abs(x));
    if (peak > greatest) greatest = peak, residual = std::move(one), shown = pair;
  }
  Chart chart{"The samples at " + clock_text(at_s), "Time, s", "Full scale = 1", text};
  std::vector<double> x(static_cast<size_t>(frames)), master_y(static_cast<size_t>(frames)),
      ret_y(static_cast<size_t>(frames));
  const double sign = shown.inverted ? -1 : 1, gain = fit.gain();
  for (size_t n = 0; n < x.size(); ++n) {
    x[n] = double(first + int64_t(n)) / rate;
    master_y[n] = m.channel(shown.master)[n];
    ret_y[n] = sign * r.channel(shown.ret)[n] / (gain > 0 ? gain : 1);
  }
  double top = 1e-6;
  for (const auto* values : {&master_y, &ret_y, &residual})
    for (const double y : *values) top = std::max(top, std::abs(y));
  chart.low_x = x.front(), chart.high_x = x.back(), chart.low_y = -top * 1.1, chart.high_y = top * 1.1;
  chart.lines = {{Role::residual, "residual", x, residual},
                 {Role::master, "master", x, master_y},
                 {Role::ret, "return", x, ret_y}};
  chart.marks = {{at_s, ""}};
  return chart;
}

std::optional<Chart> chart_of(Evidence evidence, const AnalysisResult& result) {
  const NullReport& report = *result.report;
  switch (evidence) {
    case Evidence::lanes:
    case Evidence::fit:
      return loudness_chart(report);
    case Evidence::spectra:
      return spectra_chart(report);
    case Evidence::depth:
      return depth_chart(report);
    case Evidence::path:
      return result.why ? path_chart(*result.why) : std::nullopt;
    case Evidence::parts:
      return budget_chart(report);
    case Evidence::mask:
      return result.why ? mask_chart(*result.why) : std::nullopt;
    case Evidence::course:
      return result.why ? gain_chart(*result.why) : std::nullopt;
    case Evidence::words:
      return {};
  }
  return {};
}

}  // namespace heathmist
