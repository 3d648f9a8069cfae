#include "core/compare/cells.hpp"

#include <algorithm>
#include <cmath>
#include <complex>
#include <numeric>
#include <span>
#include <utility>

namespace heathmist {

namespace {

struct Cell {
  double db, power;
};

/// Third octaves of every anchor in which both agree, by their gain.
std::vector<Cell> cells_of(const std::vector<CrossSpectra>& spectra, double sample_rate_hz) {
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
  std::sort(cells.begin(), cells.end(), [](const Cell& a, const Cell& b) { return a.db < b.db; });
  return cells;
}

/// The fullest window of that width; one that holds no gain at all counts for more.
std::span<const Cell> fullest(std::span<const Cell> cells, double window_db) {
  constexpr double nearer_to_none = 1.1;
  size_t best_low = 0, best_high = 0;
  double most = 0;
  for (size_t low = 0, high = 0; high < cells.size(); ++high) {
    while (cells[high].db - cells[low].db > window_db) ++low;
    const bool none = cells[low].db <= 0.003 && cells[high].db >= -0.003;
    if (const double worth = double(high - low + 1) * (none ? nearer_to_none : 1); worth > most)
      most = worth, best_low = low, best_high = high;
  }
  return cells.subspan(best_low, best_high - best_low + 1);
}

double mean_db(std::span<const Cell> cells) {
  double sum = 0, weight = 0;
  for (const Cell& c : cells) sum += c.power * c.db, weight += c.power;
  return sum / weight;
}

}  // namespace

std::optional<HeldGain> gain_of_most_cells(const std::vector<CrossSpectra>& spectra, double sample_rate_hz) {
  constexpr double held_share = 0.18, level_share = 0.3, level_db = 0.5;
  const auto cells = cells_of(spectra, sample_rate_hz);
  if (cells.size() < 12) return {};
  const auto share = [&](std::span<const Cell> some) { return double(some.size()) / double(cells.size()); };
  auto inside = fullest(cells, 0.09);
  if (share(inside) < held_share) {
    inside = fullest(cells, level_db);
    return share(inside) < level_share ? std::nullopt : std::optional(HeldGain{mean_db(fullest(inside, 0.2)), false});
  }
  // In it the fullest narrower one: the skirts of an EQ come near its flat part, but not to it.
  for (const double window_db : {0.03, 0.01}) {
    inside = fullest(inside, window_db);
    if (inside.size() == 1) return {};
  }
  // A gain of none is simpler than any other that holds no more than twice as often.
  constexpr double none_db = 0.005, none_share = 0.12;
  const auto none = std::count_if(cells.begin(), cells.end(), [](const Cell& c) { return std::abs(c.db) < none_db; });
  if (double(none) > std::max(none_share * double(cells.size()), 0.5 * double(inside.size()))) return HeldGain{0, true};
  return HeldGain{mean_db(inside), true};
}

std::optional<double> held_ratio(std::vector<double> ratios, double none, double widest) {
  constexpr double least_share = 0.25, skewed = 0.25;  // hum beside the programme leans a wide window over
  if (ratios.size() < 1000) return {};
  std::sort(ratios.begin(), ratios.end());
  for (const double part : {2e-5, 4e-4, 4e-3}) {
    if (part > widest) return {};
    const double window = part * std::abs(none);
    const auto around = [&](double ratio, double reach) {
      return std::pair{std::lower_bound(ratios.begin(), ratios.end(), ratio - reach),
                       std::upper_bound(ratios.begin(), ratios.end(), ratio + reach)};
    };
    size_t low = 0, best_low = 0, most = 0;
    for (size_t high = 0; high < ratios.size(); ++high) {
      while (ratios[high] - ratios[low] > window) ++low;
      if (high - low + 1 > most) most = high - low + 1, best_low = low;
    }
    const double enough = least_share * double(ratios.size());
    if (double(most) < enough) continue;
    // the mean of what lies evenly around the fullest window
    double ratio = ratios[best_low + most / 2], error = 0;
    if (const auto [from, to] = around(none, 0.5 * window); double(to - from) >= enough) ratio = none;
    for (int round = 0; round < 3; ++round) {
      const auto [from, to] = around(ratio, 1.5 * window);
      ratio = std::reduce(from, to) / double(to - from);
      error = window / std::sqrt(double(to - from));
    }
    const double apart = ratio / none;
    if (!(apart > 0.5 && apart < 2)) return {};
    const double leans = part > 1e-4 ? skewed * part : 1e-7;
    return std::abs(apart - 1) > std::max(leans, 5 * error / std::abs(none)) ? ratio : none;
  }
  return {};
}

double band_coherence(const std::vector<CrossSpectra>& spectra, double sample_rate_hz) {
  double sum = 0;
  int bands = 0;
  for (double low = 50; low < sample_rate_hz / 2.3; low *= std::cbrt(2.0)) {
    const double bin_hz = sample_rate_hz / double(CrossSpectra::size);
    const auto from = size_t(std::ceil(low / bin_hz)), to = size_t(std::ceil(low * std::cbrt(2.0) / bin_hz));
    for (const auto& pair : spectra) {
      double agree = 0, power = 0;
      for (size_t k = from; k < to && k + 1 < pair.master.size(); ++k) {
        agree += pair.coherence(k);
        power = std::max(power, pair.master[k]);
      }
      if (to <= from || power < 1e-10 * pair.peak_power) continue;
      sum += agree / double(to - from);
      ++bands;
    }
  }
  return bands ? sum / bands : 0;
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
