#include "core/compare/causes/tail.hpp"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace heathmist::causes {

namespace {

constexpr double tail_from_s = 0.004;  // later than that an EQ's response has gone, but for its lowest bass
constexpr double tail_share = 3e-4;    // of the response's energy that makes a tail
constexpr double step_s = 0.005;

/// dB a second, of pieces of `step_s` that stand clear of a floor, from the one that holds most on: up to there the
/// tail grows dense. Nothing of few.
std::optional<double> slope_of(const std::vector<double>& energy, double floor) {
  double sx = 0, sy = 0, sxx = 0, sxy = 0, count = 0;
  const auto most = std::max_element(energy.begin(), energy.end()) - energy.begin();
  for (auto n = size_t(most); n < energy.size(); ++n) {
    if (energy[n] <= floor) continue;
    const double x = double(n) * step_s, y = 10 * std::log10(energy[n]);
    sx += x, sy += y, sxx += x * x, sxy += x * y, count += 1;
  }
  if (count < 4) return {};
  return (count * sxy - sx * sy) / (count * sxx - sx * sx);
}

}  // namespace

std::optional<Tail> tail_of(const std::vector<std::vector<double>>& responses, double rate_hz) {
  const size_t size = responses.front().size();
  const auto reach = size / 4 * 3 / 4, start = size_t(tail_from_s * rate_hz), step = size_t(step_s * rate_hz);
  double direct = 0;
  for (size_t n = 0; n < start; ++n) {
    const auto& own = responses.front();
    direct += own[n] * own[n] + (n ? own[size - n] * own[size - n] : 0);
  }
  std::vector<double> energy, before;
  for (size_t at = start; at + step < reach; at += step) {
    double sum = 0, ahead = 0;
    for (const auto& h : responses)
      for (size_t n = at; n < at + step; ++n) sum += h[n] * h[n], ahead += h[size - n] * h[size - n];
    energy.push_back(sum), before.push_back(ahead);
  }
  const double tail = std::reduce(energy.begin(), energy.end()), ahead = std::reduce(before.begin(), before.end());
  if (tail < tail_share * direct || tail < 10 * ahead || energy.size() < 6) return {};
  auto sorted = energy;  // dense: no few pieces hold it
  std::sort(sorted.rbegin(), sorted.rend());
  if (sorted[0] + sorted[1] > 0.6 * tail) return {};
  const auto slope = slope_of(energy, 4 * ahead / double(energy.size()));
  if (!slope) return {};
  constexpr double longest_s = 6;
  return Tail{*slope > -60 / longest_s ? longest_s : -60 / *slope, 10 * std::log10(direct / tail)};
}

}  // namespace heathmist::causes
