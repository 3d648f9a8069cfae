// A gain that moves slowly: a hand on a fader, an automation, a leveller.
#include <algorithm>
#include <cmath>

#include "core/compare/causes/estimates.hpp"
#include "core/compare/causes/gain_curve.hpp"

namespace heathmist::causes {

namespace {

constexpr double knot_s = 0.25;
constexpr double most_ride_knots = 1200;
constexpr double least_ride_db = 0.1;

struct RideCurve {
  double knot = 1;  // frames
  std::vector<double> gains;
  double at(double n) const {
    const double place = std::clamp(n / knot - 0.5, 0.0, double(gains.size() - 1));
    const auto k = std::min(size_t(place), gains.size() - 1), next = std::min(k + 1, gains.size() - 1);
    return gains[k] + (place - double(k)) * (gains[next] - gains[k]);
  }
};

/// Knots by least squares over hat functions: a tridiagonal system, solved from one end (Thomas). Even pieces only.
std::vector<double> knots_of(const GainCurve& c, double knot, size_t count) {
  std::vector<double> diagonal(count, 0), beside(count, 0), right(count, 0);
  double mm_all = 0, mr_all = 0;
  for (size_t n = 0; n < c.pieces.size(); ++n) {
    if (n / 5 % 2) continue;
    const double place = std::clamp(c.middle[n] / knot - 0.5, 0.0, double(count - 1));
    const auto k = size_t(place);
    const double b = place - double(k), a = 1 - b;
    const auto& p = c.pieces[n];
    mm_all += p.mm, mr_all += p.mr;
    diagonal[k] += a * a * p.mm, right[k] += a * p.mr;
    if (k + 1 < count) diagonal[k + 1] += b * b * p.mm, beside[k] += a * b * p.mm, right[k + 1] += b * p.mr;
  }
  const double usual = mm_all > 0 ? mr_all / mm_all : 1, stiff = 1e-5 * mm_all / double(count);
  for (size_t k = 0; k < count; ++k) {  // silent knots follow their neighbours
    diagonal[k] += stiff * ((k > 0) + (k + 1 < count)) + 1e-3 * stiff, right[k] += 1e-3 * stiff * usual;
    if (k + 1 < count) beside[k] -= stiff;
  }
  for (size_t k = 1; k < count; ++k) {
    const double share = beside[k - 1] / diagonal[k - 1];
    diagonal[k] -= share * beside[k - 1], right[k] -= share * right[k - 1];
  }
  std::vector<double> gains(count, usual);
  if (mm_all <= 0) return gains;
  for (size_t k = count; k-- > 0;) gains[k] = (right[k] - (k + 1 < count ? beside[k] * gains[k + 1] : 0)) / diagonal[k];
  return gains;
}

}  // namespace

std::optional<Found> estimate_gain_ride(const Excerpt& e, const Model& model) {
  const GainCurve c = gain_course(e, model);
  if (c.pieces.size() < 8) return {};
  const double length = c.middle.back() + 0.5 * double(c.piece);
  RideCurve curve{std::max(knot_s * e.rate_hz, length / most_ride_knots), {}};
  const auto count = size_t(std::ceil(length / curve.knot));
  if (count < 3) return {};
  curve.gains = knots_of(c, curve.knot, count);
  std::vector<bool> heard(count, false);
  for (size_t n = 0; n < c.pieces.size(); ++n)
    if (c.pieces[n].mm > 1e-4 * c.loudest) heard[std::min(count - 1, size_t(c.middle[n] / curve.knot))] = true;
  std::vector<double> db;
  Json points = Json::array();
  for (size_t k = 0; k < count; ++k) {
    if (curve.gains[k] <= 1e-3) return {};
    const double level = 20 * std::log10(curve.gains[k]);
    if (heard[k]) db.push_back(level);
    points.push_back({e.seconds_of((double(k) + 0.5) * curve.knot), level});
  }
  if (db.size() < 3) return {};
  std::sort(db.begin(), db.end());
  const double range = db[db.size() * 95 / 100] - db[db.size() / 20];
  if (range < least_ride_db) return {};
  Cause cause{.code = "gain_ride"};
  cause.values = {{"range_db", range}, {"most_db", db.back()}, {"least_db", db.front()}, {"curve", points}};
  return Found{cause, [curve](const Places& where, Planar& m) {
                 apply_gain(where, m, [&](int64_t n) { return curve.at(double(n) + 0.5); });
               }};
}

}  // namespace heathmist::causes
