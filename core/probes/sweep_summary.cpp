#include "core/probes/sweep_summary.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace heathmist {

namespace {

constexpr double ear_hz = 20000, crossing_share = 0.02;

/// Where the gain first falls by `drop_db` below that of the pass band, upwards from the middle of it. Above half the
/// return's rate there is no response any more: what comes back of it is folded.
std::optional<double> edge(const SweepReading& r, double drop_db, const std::function<double(double)>& gain_db) {
  const double limit = r.gain_db - drop_db, band = std::min(r.from_hz, r.to_hz) / 2.0;
  for (size_t n = 1; n < r.points.size(); ++n) {
    const SweepPoint &below = r.points[n - 1], &above = r.points[n];
    if (below.in_hz >= r.to_hz / 2.0) break;
    if (below.in_hz < std::min(1000.0, band / 4) || above.wanted_db() > limit || below.wanted_db() <= limit) continue;
    double low = below.in_hz, high = above.in_hz;
    while (high - low > 1e-5 * high) {
      const double middle = (low + high) / 2;
      (gain_db(middle) > limit ? low : high) = middle;
    }
    if (low > r.to_hz / 2.0) break;
    return (low + high) / 2;
  }
  return {};
}

void take_worst(SweepReading::Worst& worst, double db, double in_hz, double out_hz, int image) {
  if (db > worst.db) worst = {db, in_hz, out_hz, image};
}

void find_worst(SweepReading& r) {
  const double nyquist = r.to_hz / 2.0;
  for (const SweepPoint& p : r.points) {
    for (size_t k = 0; k < r.images.size(); ++k) {
      const int image = r.images[k];
      if (image == 0 && p.in_hz <= nyquist) continue;  // the wanted line itself
      const double out = folded_hz(image * double(r.from_hz) + p.in_hz, r.to_hz);
      take_worst(r.alias, p.image_db[k], p.in_hz, out, image);
      if (out < std::min(ear_hz, r.pass_band_hz)) take_worst(r.audible, p.image_db[k], p.in_hz, out, image);
    }
    for (int m = 0; m < SweepPoint::harmonics && p.in_hz < r.pass_band_hz; ++m) {
      const double out = folded_hz((m + 2) * p.in_hz, r.to_hz);
      if (std::abs(out - p.in_hz) < crossing_share * r.to_hz) continue;  // it crosses the wanted line there
      take_worst(r.harmonic, p.harmonic_db[size_t(m)], p.in_hz, out, m + 2);
    }
  }
}

/// Group delay between neighbours of the pass band: -dphase / domega.
void find_delay(SweepReading& r) {
  std::vector<double> delays;
  for (size_t n = 1; n < r.points.size(); ++n) {
    const SweepPoint &a = r.points[n - 1], &b = r.points[n];
    if (b.in_hz > r.pass_band_hz || b.wanted_db() < r.gain_db - 20 || a.wanted_db() < r.gain_db - 20) continue;
    delays.push_back(-std::arg(b.wanted / a.wanted) / (2 * std::numbers::pi * (b.in_hz - a.in_hz)));
  }
  if (delays.empty()) return;
  std::sort(delays.begin(), delays.end());
  r.delay_s = delays[delays.size() / 2];
  r.delay_spread_s = delays.back() - delays.front();
}

}  // namespace

void summarize(SweepReading& r, const ProbeScore& score, const std::function<double(double)>& gain_db) {
  const double band = std::min(r.from_hz, r.to_hz) / 2.0;
  r.pass_band_hz = 0.9 * band;
  r.gain_db = gain_db(std::max(r.points.front().in_hz, std::min(1000.0, band / 4)));
  r.level_dbfs = score.level_dbfs + r.gain_db;
  r.edges = {edge(r, 0.1, gain_db), edge(r, 3.0103, gain_db), edge(r, 60, gain_db)};
  double least = 1e9, greatest = -1e9, rest = 0;
  size_t count = 0;
  for (const SweepPoint& p : r.points) {
    if (p.in_hz > r.pass_band_hz) continue;
    rest += std::pow(10, p.rest_db / 10), ++count;
    least = std::min(least, p.wanted_db()), greatest = std::max(greatest, p.wanted_db());
  }
  r.ripple_db = std::max(0.0, greatest - least);
  r.rest_db = count && rest > 0 ? 10 * std::log10(rest / double(count)) : -400;
  find_worst(r);
  find_delay(r);
}

}  // namespace heathmist
