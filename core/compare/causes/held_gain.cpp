// The gain at which most samples come back, to the last digit: what bends, fades or mutes others leaves these alone.
#include <cmath>

#include "core/compare/causes/excerpt.hpp"
#include "core/compare/cells.hpp"

namespace heathmist::causes {

double held_gain_db(const Excerpt& e) {
  constexpr size_t most_read = 400'000;
  std::vector<double> ratios;
  const double loud = std::sqrt(e.master_power);
  const int64_t stride = std::max<int64_t>(1, e.frames() * e.pairs() / int64_t(most_read));
  for (int p = 0; p < e.pairs(); ++p)
    for (int64_t n = p; n < e.frames(); n += stride)
      if (const double x = e.master->channel(p)[size_t(n)]; e.told[size_t(n)] && std::abs(x) > loud)
        ratios.push_back(e.ret.channel(p)[size_t(n)] / x);
  return 20 * std::log10(held_ratio(std::move(ratios), 1).value_or(1));
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
