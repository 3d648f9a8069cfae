#include "core/compare/causes/static_curve.hpp"

#include <algorithm>
#include <cmath>

#include "core/dsp/knee.hpp"

namespace heathmist::causes {

namespace {

/// Weighted least squares of the gain on into(level): the curve's slope, what is flat, and its error.
template <class Into>
StaticCurve fitted(const LevelLaw& law, StaticCurve curve, Into into) {
  double w = 0, sx = 0, sy = 0, sxx = 0, sxy = 0;
  for (size_t k = 0; k < law.level_db.size(); ++k) {
    const double x = into(law.level_db[k]), v = law.weight[k];
    w += v, sx += v * x, sy += v * law.gain_db[k], sxx += v * x * x, sxy += v * x * law.gain_db[k];
  }
  const double bend = w * sxx - sx * sx;
  curve.error_db = 1e300;
  if (!(bend > 1e-9)) return curve;
  curve.slope = (w * sxy - sx * sy) / bend, curve.flat_db = (sy - curve.slope * sx) / w;
  double square = 0;
  for (size_t k = 0; k < law.level_db.size(); ++k)
    square += law.weight[k] * std::pow(curve.flat_db + curve.slope * into(law.level_db[k]) - law.gain_db[k], 2);
  curve.error_db = std::sqrt(square / w);
  return curve;
}

/// A gate goes down no farther than it is set: what lies in the lower part of a wide range says nothing of its slope.
LevelLaw above_the_floor(const LevelLaw& law) {
  constexpr double wide_db = 12, share = 0.6;
  constexpr size_t least_steps = 4;
  const auto [least, most] = std::minmax_element(law.gain_db.begin(), law.gain_db.end());
  if (*most - *least < wide_db) return law;
  LevelLaw upper{.explained = law.explained, .detector = law.detector};
  for (size_t k = 0; k < law.level_db.size(); ++k)
    if (law.gain_db[k] > *most - share * (*most - *least)) {
      upper.level_db.push_back(law.level_db[k]), upper.gain_db.push_back(law.gain_db[k]);
      upper.weight.push_back(law.weight[k]);
    }
  return upper.level_db.size() < least_steps ? law : upper;
}

}  // namespace

StaticCurve static_curve_of(const LevelLaw& whole) {
  constexpr double as_good = 1.5, as_good_db = 0.05, flat_out = -1.02;  // louder comes back as loud: no knee beyond
  const LevelLaw law = above_the_floor(whole);
  const auto at_threshold = [&law](bool above, double knee_db, double at) {
    const StaticCurve start{.threshold_db = at, .knee_db = knee_db, .slopes_above = above};
    StaticCurve c =
        fitted(law, start, [&](double level) { return dsp::into_slope(above ? level - at : at - level, knee_db); });
    if (!above) c.slope = -c.slope;
    if (knee_db > 0 && c.slope <= flat_out) c.error_db = 1e300;
    return c;
  };
  const auto best_between = [&](StaticCurve best, double from, double until, double every) {
    for (double at = from; at <= until; at += every)
      if (auto c = at_threshold(best.slopes_above, best.knee_db, at); c.error_db < best.error_db) best = c;
    return best;
  };
  StaticCurve best{.error_db = 1e300};
  for (const bool above : {true, false})
    for (const double knee_db : {0.0, 3.0, 6.0, 9.0, 12.0}) {
      const StaticCurve none{.knee_db = knee_db, .slopes_above = above, .error_db = 1e300};
      const auto coarse = best_between(none, law.level_db.front(), law.level_db.back(), 0.5);
      const auto c = best_between(coarse, coarse.threshold_db - 0.5, coarse.threshold_db + 0.5, 0.02);
      if (c.error_db < best.error_db) best = c;
    }
  const StaticCurve line = fitted(law, {.threshold_db = law.level_db.front(), .straight = true},
                                  [&](double level) { return level - law.level_db.front(); });
  return line.error_db < as_good * best.error_db + as_good_db ? line : best;
}

}  // namespace heathmist::causes
