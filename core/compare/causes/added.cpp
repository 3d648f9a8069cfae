// What was added and has a shape of its own: an offset, steady lines (hum, tones), clicks.
#include <algorithm>
#include <cmath>
#include <complex>
#include <numbers>

#include "core/compare/causes/estimates.hpp"
#include "core/dsp/fft.hpp"

namespace heathmist::causes {

namespace {

constexpr double least_dc = 1e-5;    // -100 dBFS
constexpr double line_over_db = 15;  // a line above what is around it, in the quieter half of the blocks
constexpr double line_moves_db = 3;  // it stays within that from block to block
constexpr size_t most_lines = 24;
constexpr double click_over = 12;  // times the median of what is left around
constexpr double click_s = 0.002;
constexpr size_t most_clicks = 2000;

std::vector<double> left_of(const Excerpt& e, const Planar& model, int pair) {
  std::vector<double> left(size_t(e.frames()));
  const auto m = model.channel(pair), r = e.ret.channel(pair);
  for (size_t n = 0; n < left.size(); ++n) left[n] = e.told[n] ? r[n] - m[n] : 0;
  return left;
}

double median_of(std::vector<double> v) {
  if (v.empty()) return 0;
  std::nth_element(v.begin(), v.begin() + long(v.size() / 2), v.end());
  return v[v.size() / 2];
}

}  // namespace

std::optional<Found> estimate_dc(const Excerpt& e, const Planar& model) {
  Cause c{.code = "dc"};
  std::vector<double> offsets;
  double most = 0;
  for (int p = 0; p < e.pairs(); ++p) {
    const auto left = left_of(e, model, p);
    // Blocks of a second: an offset stands in all of them.
    std::vector<double> means;
    const auto block = size_t(e.rate_hz);
    double sum = 0;
    for (const double v : left) sum += v;
    for (size_t at = 0; at + block <= left.size(); at += block) {
      double part = 0;
      for (size_t n = at; n < at + block; ++n) part += left[n];
      means.push_back(part / double(block));
    }
    const double mean = means.size() >= 3 ? median_of(means) : sum / double(std::max<size_t>(1, left.size()));
    std::vector<double> away;
    for (const double m : means) away.push_back(std::abs(m - mean));
    const bool steady = means.size() < 3 || median_of(away) < 0.2 * std::abs(mean);
    offsets.push_back(std::abs(mean) > least_dc && steady ? mean : 0);
    if (offsets.back() != 0) c.channels.push_back(p);
    if (std::abs(offsets.back()) > std::abs(most)) most = offsets.back();
  }
  if (c.channels.empty()) return {};
  c.values = {{"offset", most}, {"level_dbfs", 20 * std::log10(std::abs(most))}, {"offsets", offsets}};
  return Found{c, [offsets](Planar& m) {
                 for (int p = 0; p < m.channels(); ++p)
                   for (double& x : m.channel(p)) x += offsets[size_t(p)];
               }};
}

namespace {

struct Line {
  double hz = 0;
  double power = 0;  ///< mean square over pairs
};

/// Steady lines of what is left: bins that stand out and hold still over blocks of about 1.4 s.
std::vector<Line> steady_lines(const Excerpt& e, const Planar& model) {
  size_t size = 4096;
  while (double(size) < 1.3 * e.rate_hz) size *= 2;
  while (size > 4096 && int64_t(size) * 3 > e.frames()) size /= 2;
  if (int64_t(size) > e.frames()) return {};
  const size_t bins = size / 2 + 1;
  const auto window = dsp::blackman_harris(size);
  double window_power = 0;
  for (const double w : window) window_power += w * w;
  std::vector<std::vector<float>> blocks;
  dsp::RealFft<double> fft(size);
  std::vector<std::vector<double>> left;
  for (int p = 0; p < e.pairs(); ++p) left.push_back(left_of(e, model, p));
  for (size_t at = 0; at + size <= left[0].size() && blocks.size() < 80; at += size / 2) {
    blocks.emplace_back(bins, 0.0f);
    for (const auto& l : left) {
      for (size_t n = 0; n < size; ++n) fft.time()[n] = window[n] * l[at + n];
      fft.forward();
      for (size_t k = 0; k < bins; ++k)
        blocks.back()[k] +=
            float(2 * std::norm(fft.spectrum()[k]) / (window_power * double(size) * double(left.size())));
    }
  }
  if (blocks.size() < 3) return {};
  std::vector<float> low(bins), high(bins), column(blocks.size());
  for (size_t k = 0; k < bins; ++k) {
    for (size_t n = 0; n < blocks.size(); ++n) column[n] = blocks[n][k];
    std::sort(column.begin(), column.end());
    low[k] = column[column.size() / 8], high[k] = column[column.size() * 3 / 4];
  }
  const double bin_hz = double(e.rate_hz) / double(size);
  std::vector<Line> lines;
  for (size_t k = 8; k + 40 < bins; ++k) {
    if (low[k] <= 0 || low[k] < low[k - 1] || low[k] < low[k + 1]) continue;
    std::vector<double> around;
    for (size_t away = 6; away <= 36; ++away) {
      if (k > away) around.push_back(double(high[k - away]));
      around.push_back(double(high[k + away]));
    }
    if (10 * std::log10(double(low[k]) / std::max(1e-22, median_of(around))) < line_over_db) continue;
    if (10 * std::log10(double(high[k]) / double(low[k])) > line_moves_db) continue;
    double sum = 0, moment = 0;
    for (size_t n = k - 3; n <= k + 3; ++n) sum += double(low[n]), moment += double(low[n]) * (double(n) - double(k));
    lines.push_back({(double(k) + moment / sum) * bin_hz, sum});
  }
  std::sort(lines.begin(), lines.end(), [](const Line& a, const Line& b) { return a.power > b.power; });
  if (lines.size() > most_lines) lines.resize(most_lines);
  return lines;
}

/// The phasor of each line in each pair, by projection on what is left, one line after the other, three times over;
/// the frequency is made finer by how the phase turns between the two halves.
struct Fitted {
  double hz;
  std::vector<std::complex<double>> phasors;
};

std::complex<double> project(std::span<const double> left, double turn, size_t from, size_t to) {
  std::complex<double> sum = 0;
  double weight = 0;
  const double width = double(to - from);
  for (size_t at = from; at < to;) {
    const size_t end = std::min(to, at + 256);
    auto wave = std::polar(1.0, -turn * double(at));
    const auto step = std::polar(1.0, -turn);
    for (; at < end; ++at, wave *= step) {
      const double w = 0.5 - 0.5 * std::cos(2 * std::numbers::pi * (double(at - from) + 0.5) / width);
      sum += w * left[at] * wave, weight += w;
    }
  }
  return 2.0 * sum / weight;
}

void add(std::span<double> to, double turn, std::complex<double> phasor) {
  for (size_t at = 0; at < to.size();) {
    const size_t end = std::min(to.size(), at + 256);
    auto wave = phasor * std::polar(1.0, turn * double(at));
    const auto step = std::polar(1.0, turn);
    for (; at < end; ++at, wave *= step) to[at] += wave.real();
  }
}

std::vector<Fitted> fit_lines(const Excerpt& e, const Planar& model, const std::vector<Line>& lines) {
  std::vector<std::vector<double>> left;
  for (int p = 0; p < e.pairs(); ++p) left.push_back(left_of(e, model, p));
  std::vector<Fitted> fitted;
  for (const Line& l : lines) fitted.push_back({l.hz, std::vector<std::complex<double>>(left.size(), 0.0)});
  const size_t frames = left[0].size();
  for (int round = 0; round < 4; ++round)
    for (Fitted& f : fitted) {
      const double was = 2 * std::numbers::pi * f.hz / e.rate_hz;
      for (size_t p = 0; p < left.size(); ++p) add(left[p], was, f.phasors[p]);
      double off = 0, weight = 0;
      for (const auto& l : left) {
        const auto a = project(l, was, 0, frames / 2), b = project(l, was, frames / 2, frames);
        off += std::norm(b) * std::arg(b * std::conj(a)), weight += std::norm(b);
      }
      if (weight > 0) f.hz += off / weight / double(frames / 2) * e.rate_hz / (2 * std::numbers::pi);
      const double turn = 2 * std::numbers::pi * f.hz / e.rate_hz;
      for (size_t p = 0; p < left.size(); ++p) {
        f.phasors[p] = project(left[p], turn, 0, frames);
        add(left[p], turn, -f.phasors[p]);
      }
    }
  return fitted;
}

/// 50 or 60 where most of the lines' power is of that family.
std::optional<double> mains_of(const std::vector<Fitted>& lines) {
  for (const double mains : {50.0, 60.0}) {
    double inside = 0, all = 0;
    int first = 0;
    for (const Fitted& l : lines) {
      double power = 0;
      for (const auto& p : l.phasors) power += std::norm(p);
      const double order = std::round(l.hz / mains);
      all += power;
      if (order >= 1 && order <= 40 && std::abs(l.hz - order * mains) < 0.004 * l.hz + 0.3)
        inside += power, first += order <= 3;
    }
    if (inside > 0.8 * all && first > 0) return mains;
  }
  return {};
}

}  // namespace

std::optional<Found> estimate_lines(const Excerpt& e, const Planar& model) {
  if (!e.whole) return {};
  const auto lines = steady_lines(e, model);
  if (lines.empty()) return {};
  const auto fitted = fit_lines(e, model, lines);
  const auto mains = mains_of(fitted);
  double power = 0;
  Json all = Json::array();
  for (const Fitted& f : fitted) {
    double own = 0;
    for (const auto& p : f.phasors) own += std::norm(p) / 2 / double(f.phasors.size());
    power += own;
    all.push_back({{"hz", f.hz}, {"level_dbfs", 10 * std::log10(std::max(1e-20, own))}});
  }
  Cause c{.code = mains ? "hum" : "tone"};
  for (int p = 0; p < e.pairs(); ++p) c.channels.push_back(p);
  c.values = {{"hz", mains ? *mains : fitted.front().hz},
              {"level_dbfs", 10 * std::log10(std::max(1e-20, power))},
              {"lines", all}};
  return Found{c, [fitted, rate = e.rate_hz](Planar& m) {
                 for (const Fitted& f : fitted)
                   for (int p = 0; p < m.channels(); ++p)
                     add(m.channel(p), 2 * std::numbers::pi * f.hz / rate, f.phasors[size_t(p)]);
               }};
}

std::optional<Found> estimate_clicks(const Excerpt& e, const Planar& model) {
  struct Click {
    int pair;
    int64_t from;
    std::vector<double> shape;
  };
  std::vector<Click> clicks;
  Json times = Json::array();
  std::vector<double> at_s;
  double most = 0;
  const auto block = int64_t(0.05 * e.rate_hz), longest = int64_t(click_s * e.rate_hz);
  for (int p = 0; p < e.pairs(); ++p) {
    const auto left = left_of(e, model, p);
    double power = 0;
    for (const double v : left) power += v * v;
    for (int64_t at = 0; at < e.frames(); at += block) {
      const int64_t end = std::min(e.frames(), at + block);
      std::vector<double> sizes;
      for (int64_t n = std::max<int64_t>(0, at - block); n < std::min(e.frames(), end + block); ++n)
        sizes.push_back(std::abs(left[size_t(n)]));
      const double usual = std::max(median_of(sizes), 3e-7);
      for (int64_t n = at; n < end; ++n) {
        if (std::abs(left[size_t(n)]) < click_over * usual) continue;
        int64_t last = n;
        for (int64_t k = n; k < std::min(e.frames(), last + longest / 2); ++k)
          if (std::abs(left[size_t(k)]) > 3 * usual) last = k;
        if (last - n > longest) {  // too long for a click
          n = last;
          continue;
        }
        const int64_t from = std::max<int64_t>(0, n - longest / 8), to = std::min(e.frames(), last + longest / 8 + 1);
        clicks.push_back({p, from, {left.begin() + from, left.begin() + to}});
        for (int64_t k = n; k <= last; ++k) most = std::max(most, std::abs(left[size_t(k)]));
        at_s.push_back(e.seconds_at(n));
        n = to;
        if (clicks.size() > most_clicks) return {};
      }
    }
  }
  if (clicks.empty()) return {};
  // Clicks are rare and hold most of what is left where they stand.
  if (double(clicks.size()) > 20 * double(e.frames()) / e.rate_hz) return {};
  std::sort(at_s.begin(), at_s.end());
  at_s.erase(std::unique(at_s.begin(), at_s.end(), [](double a, double b) { return std::abs(a - b) < 0.005; }),
             at_s.end());
  for (size_t n = 0; n < std::min<size_t>(at_s.size(), 100); ++n) times.push_back(at_s[n]);
  Cause c{.code = "clicks"};
  for (int p = 0; p < e.pairs(); ++p)
    if (std::any_of(clicks.begin(), clicks.end(), [&](const Click& k) { return k.pair == p; })) c.channels.push_back(p);
  c.from_s = at_s.front(), c.until_s = at_s.back();
  c.values = {{"count", at_s.size()}, {"times_s", times}, {"peak_dbfs", 20 * std::log10(most)}};
  return Found{c, [clicks](Planar& m) {
                 for (const Click& k : clicks)
                   for (size_t n = 0; n < k.shape.size(); ++n) m.channel(k.pair)[size_t(k.from) + n] += k.shape[n];
               }};
}

}  // namespace heathmist::causes
