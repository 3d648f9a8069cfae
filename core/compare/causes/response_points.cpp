#include "core/compare/causes/response_points.hpp"

#include <algorithm>
#include <cmath>
#include <complex>
#include <optional>

#include "core/dsp/median.hpp"

namespace heathmist::causes {

namespace {

constexpr double least_alike = 0.5;      // of the bins of a point, in phase
constexpr double well_known_db2 = 0.09;  // a point by itself
constexpr double half_known = 0.7;       // coherence

/// Where a bin holds no more than a Hann window lets in from its neighbours (side lobes fall as 1 / (pi d^3)), it tells
/// of them.
bool is_leakage(const std::vector<double>& power, size_t k) {
  constexpr size_t nearest = 3, farthest = 48;
  constexpr double clear = 4;
  for (size_t d = nearest; d <= farthest; ++d) {
    const double side = std::max(k >= d ? power[k - d] : 0, k + d < power.size() ? power[k + d] : 0);
    if (power[k] < clear * side * std::pow(0.318 / (double(d) * double(d) * double(d)), 2)) return true;
  }
  return false;
}

/// Points of two channels at one place of the band.
struct Both {
  size_t first, second;
};
std::vector<Both> at_one_place(const std::vector<std::vector<ShapePoint>>& points) {
  std::vector<Both> both;
  for (size_t a = 0, b = 0; a < points[0].size() && b < points[1].size();) {
    const double apart = points[0][a].hz / points[1][b].hz - 1;
    if (std::abs(apart) < 0.01)
      both.push_back({a++, b++});
    else
      (apart < 0 ? a : b) += 1;
  }
  return both;
}

/// What the second channel's response lies over the first's at a place, and how well that is known.
struct Apart {
  double db, known_db;
  bool clear;  // in both channels
};
std::vector<Apart> apart_at(const std::vector<std::vector<ShapePoint>>& points, const std::vector<Both>& both) {
  std::vector<Apart> all;
  for (const auto& [first, second] : both) {
    const ShapePoint &a = points[0][first], &b = points[1][second];
    all.push_back({b.db - a.db, std::sqrt(a.variance_db2 + b.variance_db2), std::min(a.weight, b.weight) > 0.5});
  }
  return all;
}

/// The level of the second channel's response over the first's where both were turned alike, as far as they are known;
/// nothing where they were not: at a fifth of the places, or at a third of an octave on end. Less than chance makes of
/// it is none.
std::optional<double> apart_alike(const std::vector<Apart>& all) {
  constexpr double alike_db = 0.1, known_to = 2, over_chance = 3, of_median = 1.86;  // its error over the usual one
  constexpr size_t enough = 12, on_end = 4;
  std::vector<double> clear;
  for (const Apart& each : all)
    if (each.clear) clear.push_back(each.db);
  if (clear.size() < enough) return {};
  const double middle = dsp::median(clear);
  size_t beyond = 0, run = 0;
  double before = 0;
  for (const Apart& each : all) {
    const double off = each.db - middle;
    const bool is_beyond = std::abs(off) > std::max(alike_db, known_to * each.known_db);
    run = !is_beyond ? 0 : off * before > 0 ? run + 1 : 1;
    before = off;
    beyond += is_beyond && each.clear;
    if (run >= on_end) return {};
  }
  if (beyond * 5 >= clear.size()) return {};
  for (double& db : clear) db = std::abs(db - middle);
  const double by_chance = over_chance * of_median * dsp::median(clear) / std::sqrt(double(clear.size()));
  return std::abs(middle) < by_chance ? 0 : middle;
}

/// Two channels that were turned alike, as one: each place of both by how well it is known, at the first's level.
std::vector<ShapePoint> as_one(const std::vector<std::vector<ShapePoint>>& points, const std::vector<Both>& both,
                               double apart_db) {
  constexpr double least_variance_db2 = 1e-8;
  std::vector<ShapePoint> one;
  std::vector<bool> taken(points[1].size());
  size_t next = 0;
  for (size_t n = 0; n < points[0].size(); ++n) {
    ShapePoint p = points[0][n];
    if (next < both.size() && both[next].first == n) {
      const ShapePoint& o = points[1][both[next].second];
      const double own = 1 / std::max(least_variance_db2, p.variance_db2),
                   other = 1 / std::max(least_variance_db2, o.variance_db2), part = other / (own + other);
      p.db += part * (o.db - apart_db - p.db);
      p.h += part * (o.h * std::pow(10, -apart_db / 20) - p.h);
      p.weight = std::max(p.weight, o.weight), p.variance_db2 = 1 / (own + other);
      taken[both[next++].second] = true;
    }
    one.push_back(p);
  }
  for (size_t n = 0; n < taken.size(); ++n)
    if (!taken[n]) {
      one.push_back(points[1][n]);
      one.back().db -= apart_db, one.back().h *= std::pow(10, -apart_db / 20);
    }
  std::sort(one.begin(), one.end(), [](const ShapePoint& a, const ShapePoint& b) { return a.hz < b.hz; });
  return one;
}

}  // namespace

Bins bins_around(const Response& r, double hz) {
  const auto from = size_t(std::ceil(hz * std::exp2(-1.0 / 24) / r.bin_hz)),
             to = std::min(r.h.front().size() - 1, size_t(hz * std::exp2(1.0 / 24) / r.bin_hz));
  return {std::max<size_t>(1, std::min(from, to)), to};
}
bool tells(const std::vector<double>& power, double most, size_t k) {
  return power[k] >= 1e-13 * most && !is_leakage(power, k);
}

std::vector<ShapePoint> points_of(const Response& r, size_t pair, bool may_be_low) {
  std::vector<ShapePoint> points;
  const auto& h = r.h[pair];
  const auto& power = r.power[pair];
  const double most = *std::max_element(power.begin(), power.end());
  const double top = r.bin_hz * double(h.size() - 1);
  for (double hz = 20; hz < 0.985 * top; hz *= std::exp2(1.0 / 12)) {
    const auto [from, to] = bins_around(r, hz);
    double magnitude = 0, weight = 0, place = 0, in_all = 0, bins = 0, added = 0, spread = 0;
    std::complex<double> mean = 0;
    for (size_t k = from; k <= to; ++k) {
      if (!tells(power, most, k)) continue;
      const double w = r.certainty[pair][k];
      // what lies over the bin raises it: Bendat and Piersol, Random Data, 9.2
      const double known = w / std::max(1e-6, 1 - w / r.averages[pair]);
      if (may_be_low && power[k] > 0) added += w * r.left[pair][k] / power[k];
      magnitude += w * std::norm(h[k]) * known / (1 + known), in_all += known, spread += w * w * r.variance[pair][k],
          bins += 1, mean += w * h[k], weight += w, place += w * double(k);
    }
    const double at_hz = weight > 0 ? place / weight * r.bin_hz : 0;  // bins are wide in the bass
    if (bins > several_bins && weight < least_certain * bins) continue;
    // A path's phase hardly turns within a twelfth octave; noise has none.
    if (!(weight > 0) || std::norm(mean) < least_alike * magnitude * weight ||
        (!points.empty() && at_hz < 1.001 * points.back().hz))
      continue;
    if (weight < half_known * bins * r.averages[pair]) magnitude = std::norm(mean) / weight;  // noise adds to no mean
    const double left_out_db = may_be_low && magnitude > 0 ? 10 * std::log10(1 + added / magnitude) : 0;
    constexpr double of_share_db2 = 37.7;  // (10 / ln 10)^2 2: of a magnitude whose square's is 1
    const double by_what_is_left_db2 = of_share_db2 * spread / (weight * weight) + left_out_db * left_out_db,
                 variance_db2 = std::max(of_share_db2 / in_all, by_what_is_left_db2);
    points.push_back({at_hz, 10 * std::log10(std::max(1e-9, magnitude / weight)),
                      std::min(1.0, weight / 8) / (1 + by_what_is_left_db2 / well_known_db2), mean / weight,
                      variance_db2});
  }
  return points;
}

std::vector<EqShape> shapes_of(const std::vector<std::vector<ShapePoint>>& points, double rate_hz,
                               double untouched_db) {
  if (points.size() == 2) {
    const auto both = at_one_place(points);
    if (const auto apart = apart_alike(apart_at(points, both))) {
      const EqShape one = shape_of(as_one(points, both, *apart), rate_hz, untouched_db);
      EqShape other = one;
      other.flat_db += *apart;
      return {one, other};
    }
  }
  std::vector<EqShape> each;
  for (const auto& own : points) each.push_back(shape_of(own, rate_hz, untouched_db));
  return each;
}

}  // namespace heathmist::causes
