#include "core/measure/masking.hpp"

#include <algorithm>
#include <array>
#include <cmath>

namespace heathmist {

namespace {

constexpr double nothing_db = -200;

double power(double db) { return std::exp(db * 0.23025850929940457); }
double decibel(double p) { return p > 0 ? 10 * std::log10(p) : nothing_db; }

/// How far around a line it must stand out to be tonal, in bins of a 1024-point block (step 4, layer II).
int neighbourhood(double bin_of_1024) {
  return bin_of_1024 < 63 ? 2 : bin_of_1024 < 127 ? 3 : bin_of_1024 < 255 ? 6 : 12;
}

bool is_tonal(std::span<const double> level, size_t k, int reach) {
  if (!(level[k] > level[k - 1] && level[k] >= level[k + 1])) return false;
  for (int j = 2; j <= reach; ++j)
    if (level[k] - level[k - size_t(j)] < 7 || level[k] - level[k + size_t(j)] < 7) return false;
  return true;
}

}  // namespace

double bark_of(double hz) {
  const double f = hz / 1000;
  return 13 * std::atan(0.76 * f) + 3.5 * std::atan(f * f / 56.25);
}

double threshold_in_quiet_db(double hz) {
  const double f = std::max(hz, 20.0) / 1000;
  return 3.64 * std::pow(f, -0.8) - 6.5 * std::exp(-0.6 * (f - 3.3) * (f - 3.3)) + 0.001 * f * f * f * f;
}

double masked_level_db(const Masker& masker, double bark) {
  const double dz = bark - masker.bark, x = masker.level_db;
  if (dz < -3 || dz >= 8) return nothing_db;
  const double index = masker.tonal ? -1.525 - 0.275 * masker.bark - 4.5 : -1.525 - 0.175 * masker.bark - 0.5;
  const double function = dz < -1  ? 17 * (dz + 1) - (0.4 * x + 6)
                          : dz < 0 ? (0.4 * x + 6) * dz
                          : dz < 1 ? -17 * dz
                                   : -(dz - 1) * (17 - 0.15 * x) - 17;
  return x + index + function;
}

int masking_block(int sample_rate_hz) {
  int size = 128;
  while (size * 64 < sample_rate_hz) size *= 2;
  return size;
}

std::vector<double> critical_band_edges(double top_hz) {
  static constexpr std::array<double, 25> edges{0,    100,  200,  300,  400,  510,   630,  770,  920,
                                                1080, 1270, 1480, 1720, 2000, 2320,  2700, 3150, 3700,
                                                4400, 5300, 6400, 7700, 9500, 12000, 15500};
  std::vector<double> below;
  for (const double hz : edges)
    if (hz < top_hz) below.push_back(hz);
  below.push_back(std::min(top_hz, 20000.0));
  return below;
}

std::vector<Masker> find_maskers(std::span<const double> level_db, double bin_hz) {
  struct Place {
    Masker masker;
    double hz;
  };
  std::vector<Place> found;
  const auto edges = critical_band_edges(bin_hz * double(level_db.size() - 1));
  std::vector<bool> taken(level_db.size(), false);
  for (size_t k = 3; k + 13 < level_db.size() && double(k) * bin_hz < 20000; ++k) {
    const int reach = neighbourhood(double(k) * bin_hz / 46.875);
    if (int(k) <= reach || !is_tonal(level_db, k, reach)) continue;
    const double level = decibel(power(level_db[k - 1]) + power(level_db[k]) + power(level_db[k + 1]));
    for (size_t n = k - size_t(reach); n <= k + size_t(reach); ++n) taken[n] = true;
    found.push_back({{bark_of(double(k) * bin_hz), level, true}, double(k) * bin_hz});
  }
  for (size_t b = 0; b + 1 < edges.size(); ++b) {
    double sum = 0, weighted = 0;
    for (auto k = size_t(std::ceil(edges[b] / bin_hz)); k < level_db.size() && double(k) * bin_hz < edges[b + 1]; ++k) {
      if (taken[k] || k == 0) continue;
      const double p = power(level_db[k]);
      sum += p;
      weighted += p * std::log(double(k));
    }
    if (!(sum > 0)) continue;
    const double hz = std::exp(weighted / sum) * bin_hz;
    found.push_back({{bark_of(hz), decibel(sum), false}, hz});
  }
  std::erase_if(
      found, [](const auto& f) { return f.masker.level_db < threshold_in_quiet_db(std::clamp(f.hz, 20.0, 20000.0)); });
  // Of tonal maskers less than half a Bark apart only the strongest stays (step 5b).
  std::vector<Masker> kept;
  for (const auto& [m, hz] : found) {
    if (m.tonal && !kept.empty() && kept.back().tonal && m.bark - kept.back().bark < 0.5) {
      if (m.level_db > kept.back().level_db) kept.back() = m;
      continue;
    }
    kept.push_back(m);
  }
  return kept;
}

std::vector<double> band_thresholds_db(const std::vector<Masker>& maskers, std::span<const double> edges_hz) {
  std::vector<double> thresholds;
  for (size_t b = 0; b + 1 < edges_hz.size(); ++b) {
    double least = 1e9;
    for (const double share : {0.17, 0.5, 0.83}) {
      const double hz = edges_hz[b] + share * (edges_hz[b + 1] - edges_hz[b]), z = bark_of(hz);
      double sum = power(threshold_in_quiet_db(hz));
      for (const Masker& m : maskers)
        if (const double level = masked_level_db(m, z); level > -60) sum += power(level);
      least = std::min(least, decibel(sum));
    }
    thresholds.push_back(least);
  }
  return thresholds;
}

}  // namespace heathmist
