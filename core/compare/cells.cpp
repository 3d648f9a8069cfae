#include "core/compare/cells.hpp"

#include <algorithm>
#include <cmath>
#include <complex>
#include <span>

namespace heathmist {

std::optional<double> gain_of_most_cells_db(const std::vector<CrossSpectra>& spectra, double sample_rate_hz) {
  struct Cell {
    double db, power;
  };
  std::vector<Cell> cells;
  const double bin_hz = sample_rate_hz / double(CrossSpectra::size);
  for (const auto& pair : spectra)
    for (size_t a = 0; a < pair.by_anchor.size(); ++a) {
      double greatest = 0;
      for (const double power : pair.master_by_anchor[a]) greatest = std::max(greatest, power);
      for (double low = 100; low < 0.45 * sample_rate_hz; low *= std::cbrt(2.0)) {
        double mm = 0, rr = 0;
        std::complex<double> mr = 0;
        const auto from = size_t(std::ceil(low / bin_hz)), to = size_t(std::ceil(low * std::cbrt(2.0) / bin_hz));
        for (size_t k = from; k < std::min(to, pair.cross.size()); ++k)
          mm += pair.master_by_anchor[a][k], rr += pair.ret_by_anchor[a][k], mr += pair.by_anchor[a][k];
        if (mm < 1e-7 * greatest || mm <= 0 || std::norm(mr) < 0.99 * mm * rr) continue;
        cells.push_back({20 * std::log10(std::abs(mr) / mm), mm});
      }
    }
  if (cells.size() < 12) return {};
  std::sort(cells.begin(), cells.end(), [](const Cell& a, const Cell& b) { return a.db < b.db; });
  // The fullest window, and in it the fullest narrower one: the skirts of an EQ come near its flat part, but not to it.
  constexpr double held_share = 0.18, nearer_to_none = 1.1;
  std::span<const Cell> inside = cells;
  for (const double window_db : {0.09, 0.03, 0.01}) {
    size_t best_low = 0, best_high = 0;
    double most = 0;
    for (size_t low = 0, high = 0; high < inside.size(); ++high) {
      while (inside[high].db - inside[low].db > window_db) ++low;
      const bool none = inside[low].db <= 0.003 && inside[high].db >= -0.003;
      if (const double worth = double(high - low + 1) * (none ? nearer_to_none : 1); worth > most)
        most = worth, best_low = low, best_high = high;
    }
    inside = inside.subspan(best_low, best_high - best_low + 1);
    if (inside.size() == 1 || (window_db > 0.08 && double(inside.size()) < held_share * double(cells.size())))
      return {};
  }
  double sum = 0, weight = 0;
  for (const Cell& c : inside) sum += c.power * c.db, weight += c.power;
  return sum / weight;
}

bool is_filtered(const std::vector<CrossSpectra>& spectra) {
  constexpr double steady = 0.98, least_spread_db = 0.06, least_turn = 0.06;
  constexpr size_t least_bands = 10;
  std::vector<double> levels, turns;
  for (double low = 0.002; low < 0.85; low *= std::cbrt(2.0)) {  // of half the rate
    const auto from = size_t(std::ceil(low * CrossSpectra::size / 2)),
               to = size_t(std::ceil(low * std::cbrt(2.0) * CrossSpectra::size / 2));
    for (const auto& pair : spectra) {
      double mm = 0, rr = 0;
      std::complex<double> mr = 0;
      for (size_t k = from; k < std::min(to, pair.cross.size()); ++k)
        mm += pair.master[k], rr += pair.ret[k], mr += pair.cross[k];
      if (mm > 1e-9 * pair.peak_power && std::norm(mr) > steady * mm * rr) {
        levels.push_back(10 * std::log10(rr / mm));
        if (&pair == &spectra.front())  // one channel's: the others may have delays of their own
          turns.push_back(std::arg(mr * mr) / 2);
      }
    }
  }
  const auto spread = [](std::vector<double>& v) {
    std::sort(v.begin(), v.end());
    return v[v.size() * 9 / 10] - v[v.size() / 10];
  };
  return (levels.size() >= least_bands && spread(levels) > least_spread_db) ||
         (turns.size() >= least_bands && spread(turns) > least_turn);
}

}  // namespace heathmist
