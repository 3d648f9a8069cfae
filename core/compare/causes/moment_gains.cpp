#include "core/compare/causes/moment_gains.hpp"

#include <algorithm>
#include <cmath>
#include <complex>
#include <span>

#include "core/dsp/decibels.hpp"
#include "core/dsp/fft.hpp"

namespace heathmist::causes {

namespace {

constexpr double moment_s = 0.04;

/// The gain of one band of one pair in one moment.
struct GainCell {
  size_t moment, band;
  double db, weight, energy;
};

/// All of them, band by band and pair by pair.
struct GainCells {
  size_t size = 256, moments = 0, bands = 0;
  std::vector<GainCell> cells{};
};

struct BandOfBins {
  size_t from, until;
};
/// A third of an octave wide, or three bins.
std::vector<BandOfBins> bands_of_moment(size_t bins) {
  constexpr size_t least_bins = 3;
  std::vector<BandOfBins> bands;
  for (size_t from = 1, until; from + least_bins <= bins; from = until) {
    until = std::min(bins, std::max(from + least_bins, size_t(double(from) * std::exp2(1.0 / 3))));
    bands.push_back({from, until});
  }
  return bands;
}

/// Nothing of bands that hold next to nothing, or where hardly any of the return is the model's.
void add_moment(GainCells& g, size_t moment, size_t first_band, std::span<const BandOfBins> bands,
                std::span<const std::complex<double>> m, std::span<const std::complex<double>> r) {
  constexpr double least_alike = 0.5, faintest = 1e-8, well_known_db = 0.3, of_ratio_db = 8.686;
  const size_t first = g.cells.size();
  double loudest = 0;
  for (size_t b = 0; b < bands.size(); ++b) {
    double mm = 0, rr = 0;
    std::complex<double> mr = 0;
    for (size_t k = bands[b].from; k < bands[b].until; ++k)
      mm += std::norm(m[k]), rr += std::norm(r[k]), mr += std::conj(m[k]) * r[k];
    if (!(mm > 0) || !(rr > 0)) continue;
    loudest = std::max(loudest, mm);
    const double alike = std::min(1 - 1e-9, std::norm(mr) / (mm * rr));
    if (alike < least_alike) continue;
    const double off_db2 = of_ratio_db * of_ratio_db * (1 / alike - 1) / double(bands[b].until - bands[b].from);
    const double weight = 1 / (1 + off_db2 / (well_known_db * well_known_db));
    g.cells.push_back({moment, first_band + b, dsp::db_of(std::abs(mr) / mm, 1e-6), weight, mm});
  }
  const auto faint = [&](const GainCell& c) { return c.energy <= faintest * loudest; };
  g.cells.erase(std::remove_if(g.cells.begin() + long(first), g.cells.end(), faint), g.cells.end());
}

GainCells gain_cells(const Excerpt& e, const Planar& model) {
  GainCells g;
  while (double(g.size) < moment_s * e.rate_hz) g.size *= 2;
  const size_t frames = size_t(e.frames()), hop = g.size / 2;
  if (frames < 2 * g.size) return g;
  const auto window = dsp::hann(g.size);
  const auto bands = bands_of_moment(g.size / 2 + 1);
  g.moments = (frames - g.size) / hop + 1, g.bands = bands.size() * size_t(e.pairs());
  dsp::RealFft<double> of_model(g.size), of_return(g.size);
  for (size_t n = 0; n < g.moments; ++n) {
    if (!e.tells_all(int64_t(n * hop), int64_t(g.size))) continue;
    for (int p = 0; p < e.pairs(); ++p) {
      for (size_t k = 0; k < g.size; ++k)
        of_model.time()[k] = window[k] * model.channel(p)[n * hop + k],
        of_return.time()[k] = window[k] * e.ret.channel(p)[n * hop + k];
      of_model.forward(), of_return.forward();
      add_moment(g, n, size_t(p) * bands.size(), bands, of_model.spectrum(), of_return.spectrum());
    }
  }
  return g;
}

/// The gains of `which`, with those of the others known.
void solve_for(std::vector<double>& gains, size_t GainCell::*which, const std::vector<double>& others,
               size_t GainCell::*other, const std::vector<GainCell>& cells) {
  std::vector<double> sum(gains.size()), weight(gains.size());
  for (const GainCell& c : cells) sum[c.*which] += c.weight * (c.db - others[c.*other]), weight[c.*which] += c.weight;
  for (size_t n = 0; n < gains.size(); ++n)
    if (weight[n] > 0) gains[n] = sum[n] / weight[n];
}

/// What stands at no cell is what stood before, or the first that is known.
void fill_in(std::vector<double>& gains, const std::vector<GainCell>& cells) {
  std::vector<uint8_t> known(gains.size(), 0);
  for (const GainCell& c : cells) known[c.moment] = 1;
  const auto first = size_t(std::find(known.begin(), known.end(), 1) - known.begin());
  for (size_t n = 0; n < gains.size(); ++n)
    if (!known[n]) gains[n] = n > first ? gains[n - 1] : first < gains.size() ? gains[first] : 0;
}

/// Root mean square about the mean, as often and as much as each is known.
double spread_of(const std::vector<double>& moments, const std::vector<GainCell>& cells) {
  double all = 0, sum = 0, square = 0;
  for (const GainCell& c : cells) {
    const double db = moments[c.moment];
    all += c.weight, sum += c.weight * db, square += c.weight * db * db;
  }
  return all > 0 ? std::sqrt(std::max(0.0, square / all - sum * sum / all / all)) : 0;
}

}  // namespace

MomentGains moment_gains(const Excerpt& e, const Planar& model) {
  constexpr int turns = 60;
  const GainCells g = gain_cells(e, model);
  MomentGains gains{.hop = int64_t(g.size / 2), .db = std::vector<double>(g.moments)};
  std::vector<double> bands(g.bands);
  for (int turn = 0; turn < turns; ++turn) {
    solve_for(gains.db, &GainCell::moment, bands, &GainCell::band, g.cells);
    solve_for(bands, &GainCell::band, gains.db, &GainCell::moment, g.cells);
  }
  fill_in(gains.db, g.cells);
  gains.spread_db = spread_of(gains.db, g.cells);
  return gains;
}

void put_in(const MomentGains& g, Planar& model) {
  if (g.db.empty()) return;
  for (size_t n = 0; n < size_t(model.frames()); ++n) {
    const double place = std::clamp(double(n) / double(g.hop) - 1, 0.0, double(g.db.size() - 1));
    const auto k = size_t(place), next = std::min(k + 1, g.db.size() - 1);
    const double gain = dsp::gain_of(std::lerp(g.db[k], g.db[next], place - double(k)));
    for (int p = 0; p < model.channels(); ++p) model.channel(p)[n] *= gain;
  }
}

}  // namespace heathmist::causes
