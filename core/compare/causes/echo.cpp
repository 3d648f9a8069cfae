// Echoes: single repeats, found as peaks of a long impulse response.
#include <algorithm>
#include <cmath>

#include "core/compare/causes/estimates.hpp"
#include "core/compare/causes/response.hpp"
#include "core/dsp/fft.hpp"

namespace heathmist::causes {

namespace {

constexpr double window_s = 5;
constexpr double least_s = 0.0015;  // nearer ones are an EQ's comb
constexpr double stands_out = 12;   // times the median of the response around
constexpr double least_level = 1e-4;
constexpr size_t most_echoes = 4;
constexpr int64_t around = 24;  // samples of the response that go with a peak

struct Echo {
  int64_t at;
  double level;
};

std::vector<Echo> peaks(const std::vector<double>& h, double rate) {
  const auto reach = int64_t(h.size() / 4 * 3 / 4), least = int64_t(least_s * rate);
  std::vector<double> sizes;
  for (int64_t n = least; n < reach; ++n) sizes.push_back(std::abs(h[size_t(n)]));
  if (sizes.size() < 100) return {};
  auto sorted = sizes;
  std::nth_element(sorted.begin(), sorted.begin() + long(sorted.size() / 2), sorted.end());
  const double floor = std::max(least_level, stands_out * sorted[sorted.size() / 2]);
  std::vector<Echo> found;
  for (int round = 0; round < int(most_echoes); ++round) {
    const auto best = std::max_element(sizes.begin(), sizes.end());
    if (*best < floor || (!found.empty() && *best < 0.02 * std::abs(found.front().level))) break;
    const int64_t at = best - sizes.begin() + least;
    double level = 0;  // what the samples around it sum to
    for (int64_t n = -around; n <= around; ++n) level += h[size_t(at + n)];
    found.push_back({at, h[size_t(at)]});
    found.back().level = std::abs(level) > std::abs(h[size_t(at)]) ? level : h[size_t(at)];
    for (int64_t n = std::max<int64_t>(0, at - least - 2 * around);
         n < std::min(int64_t(sizes.size()), at - least + 2 * around); ++n)
      sizes[size_t(n)] = 0;
  }
  return found;
}

}  // namespace

std::optional<Found> estimate_echo(const Excerpt& e, const Planar& model) {
  size_t size = 4096;
  while (double(size) < window_s * e.rate_hz) size *= 2;
  while (size > 4096 && int64_t(size) * 3 > e.frames()) size /= 2;
  Response r = estimate_response(e, model, size, 3);
  std::vector<double> mean(size, 0);
  for (int p = 0; p < e.pairs(); ++p) {
    const auto h = r.impulse(size_t(p));
    for (size_t n = 0; n < size; ++n) mean[n] += h[n] / e.pairs();
  }
  const auto found = peaks(mean, e.rate_hz);
  if (found.empty()) return {};
  dsp::RealFft<double> fft(size);
  for (int p = 0; p < e.pairs(); ++p) {  // nothing but the direct sound and the echoes
    const auto h = r.impulse(size_t(p));
    std::fill(fft.time().begin(), fft.time().end(), 0.0);
    fft.time()[0] = 1;
    for (const Echo& echo : found)
      for (int64_t n = echo.at - around; n <= echo.at + around; ++n) fft.time()[size_t(n)] = h[size_t(n)];
    fft.forward();
    std::copy(fft.spectrum().begin(), fft.spectrum().end(), r.h[size_t(p)].begin());
  }
  Json echoes = Json::array();
  for (const Echo& echo : found)
    echoes.push_back({{"time_ms", 1000.0 * double(echo.at) / e.rate_hz},
                      {"level_db", 20 * std::log10(std::abs(echo.level))},
                      {"inverted", echo.level < 0}});
  Cause c{.code = "echo"};
  for (int p = 0; p < e.pairs(); ++p) c.channels.push_back(p);
  c.values = {{"time_ms", echoes[0]["time_ms"]}, {"level_db", echoes[0]["level_db"]}, {"echoes", echoes}};
  return Found{c, [r](Planar& m) { run(r, m); }};
}

}  // namespace heathmist::causes
