// An offset that was added.
#include <algorithm>
#include <cmath>

#include "core/compare/causes/estimates.hpp"
#include "core/dsp/median.hpp"

namespace heathmist::causes {

namespace {

constexpr double least_dc = 1e-5;  // -100 dBFS
constexpr double least_gain_db = 5e-4;

/// What the gain lies off for the offset: a gain that was fitted with no offset beside it leans on what the model has
/// of one itself. By least squares.
double gain_beside(const Excerpt& e, const Planar& model, const std::vector<double>& offsets) {
  GainPiece sum;
  for (int p = 0; p < e.pairs(); ++p)
    for (size_t n = 0; n < size_t(e.frames()); ++n)
      if (e.told[n]) sum.add(model.channel(p)[n], e.ret.channel(p)[n] - offsets[size_t(p)]);
  const double db = sum.gain() > 0 ? 20 * std::log10(sum.gain()) : 0;
  return std::abs(db) > least_gain_db ? sum.gain() : 1;
}

}  // namespace

std::optional<Found> estimate_dc(const Excerpt& e, const Model& model) {
  Cause c{.code = "dc"};
  std::vector<double> offsets;
  double most = 0;
  for (int p = 0; p < e.pairs(); ++p) {
    const auto left = left_of(e, model, p);
    // Blocks of a second: an offset stands in all of them.
    std::vector<double> means;
    const auto block = size_t(e.rate_hz);
    double sum = 0;
    for (const double v : left) sum += v;
    for (size_t at = 0; at + block <= left.size(); at += block) {
      double part = 0;
      for (size_t n = at; n < at + block; ++n) part += left[n];
      means.push_back(part / double(block));
    }
    const double mean = means.size() >= 3 ? dsp::median(means) : sum / double(std::max<size_t>(1, left.size()));
    std::vector<double> away;
    for (const double m : means) away.push_back(std::abs(m - mean));
    const bool steady = means.size() < 3 || dsp::median(away) < 0.2 * std::abs(mean);
    offsets.push_back(std::abs(mean) > least_dc && steady ? mean : 0);
    if (offsets.back() != 0) c.channels.push_back(p);
    if (std::abs(offsets.back()) > std::abs(most)) most = offsets.back();
  }
  if (c.channels.empty()) return {};
  const double gain = gain_beside(e, model, offsets);
  c.values = {{"offset", most},
              {"level_dbfs", 20 * std::log10(std::abs(most))},
              {"offsets", offsets},
              {"level_db", 20 * std::log10(gain)}};
  return Found{c, [offsets, gain](const Places&, Planar& m) {
                 for (int p = 0; p < m.channels(); ++p)
                   for (double& x : m.channel(p)) x = gain * x + offsets[size_t(p)];
               }};
}

}  // namespace heathmist::causes
