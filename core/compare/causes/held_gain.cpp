// The gain at which most samples come back, to the last digit: what bends, fades or mutes others leaves these alone.
#include <algorithm>
#include <cmath>
#include <vector>

#include "core/compare/causes/excerpt.hpp"
#include "core/compare/cells.hpp"

namespace heathmist::causes {

namespace {

/// Of the loud samples, at most `most` in all: return over master.
std::vector<double> loud_ratios(const Excerpt& e, size_t most) {
  std::vector<double> ratios;
  const double loud = std::sqrt(e.master_power);
  const int64_t stride = std::max<int64_t>(1, e.frames() * e.pairs() / int64_t(most));
  for (int p = 0; p < e.pairs(); ++p)
    for (int64_t n = p; n < e.frames(); n += stride)
      if (const double x = e.master->channel(p)[size_t(n)]; e.told[size_t(n)] && std::abs(x) > loud)
        ratios.push_back(e.ret.channel(p)[size_t(n)] / x);
  return ratios;
}

}  // namespace

SampleGain held_gain(const Excerpt& e) {
  constexpr double fine = 4e-4;
  const auto ratios = loud_ratios(e, 400'000);
  if (const auto ratio = held_ratio(ratios, 1, fine)) return {20 * std::log10(*ratio), true};
  return {20 * std::log10(held_ratio(ratios, 1).value_or(1)), false};
}

bool comes_back_as_sent(const Excerpt& e) {
  constexpr double within = 2e-4, least_share = 0.25;
  const auto ratios = loud_ratios(e, 50'000);
  const auto as_sent =
      std::count_if(ratios.begin(), ratios.end(), [](double ratio) { return std::abs(ratio - 1) < within; });
  return double(as_sent) > least_share * double(ratios.size());
}

void turn_down(Excerpt& e, double db) {
  if (db == 0) return;
  e.gain_db += db;
  const double gain = std::pow(10, -db / 20);
  for (int p = 0; p < e.pairs(); ++p)
    for (double& y : e.ret.channel(p)) y *= gain;
  for (GainPiece& piece : e.course) piece.mr *= gain, piece.rr *= gain * gain;
}

}  // namespace heathmist::causes
