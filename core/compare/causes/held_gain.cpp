// The gain at which most samples come back, to the last digit: what bends, fades or mutes others leaves these alone.
#include <algorithm>
#include <array>
#include <cmath>
#include <numeric>

#include "core/compare/causes/excerpt.hpp"

namespace heathmist::causes {

namespace {

constexpr std::array windows{2e-5, 4e-4, 4e-3};  // of the ratio, that samples are taken to agree within
constexpr double least_share = 0.25;             // of the samples that tell
constexpr size_t most_read = 400'000;

}  // namespace

double held_gain_db(const Excerpt& e) {
  std::vector<double> ratios;
  const double loud = std::sqrt(e.master_power);
  const int64_t stride = std::max<int64_t>(1, e.frames() * e.pairs() / int64_t(most_read));
  for (int p = 0; p < e.pairs(); ++p)
    for (int64_t n = p; n < e.frames(); n += stride)
      if (const double x = e.master->channel(p)[size_t(n)]; e.told[size_t(n)] && std::abs(x) > loud)
        ratios.push_back(e.ret.channel(p)[size_t(n)] / x);
  if (ratios.size() < 1000) return 0;
  std::sort(ratios.begin(), ratios.end());
  for (const double window : windows) {
    size_t low = 0, best_low = 0, most = 0;
    for (size_t high = 0; high < ratios.size(); ++high) {
      while (ratios[high] - ratios[low] > window) ++low;
      if (high - low + 1 > most) most = high - low + 1, best_low = low;
    }
    if (double(most) < least_share * double(ratios.size())) continue;
    // the mean of what lies evenly around the fullest window
    double gain = ratios[best_low + most / 2], error = 0;
    for (int round = 0; round < 3; ++round) {
      const auto from = std::lower_bound(ratios.begin(), ratios.end(), gain - 1.5 * window),
                 to = std::upper_bound(from, ratios.end(), gain + 1.5 * window);
      gain = std::reduce(from, to) / double(to - from);
      error = window / std::sqrt(double(to - from));
    }
    return gain > 0.5 && gain < 2 && std::abs(gain - 1) > std::max(1e-7, 5 * error) ? 20 * std::log10(gain) : 0;
  }
  return 0;
}

void turn_down(Excerpt& e, double db) {
  if (db == 0) return;
  const double gain = std::pow(10, -db / 20);
  for (int p = 0; p < e.pairs(); ++p)
    for (double& y : e.ret.channel(p)) y *= gain;
  for (GainPiece& piece : e.course) piece.mr *= gain, piece.rr *= gain * gain;
}

}  // namespace heathmist::causes
