// A gain that follows the programme's own level: limiter, compressor, expander.
#include <algorithm>
#include <cmath>
#include <memory>

#include "core/compare/causes/estimates.hpp"
#include "core/compare/causes/sample_gains.hpp"
#include "core/compare/causes/static_curve.hpp"
#include "core/dsp/median.hpp"

namespace heathmist::causes {

namespace {

constexpr double least_range_db = 0.15;
constexpr double least_fast = 0.02;
constexpr double follows = 0.35;                             // share of the gain's variance that the level must explain
constexpr double surely_follows = 0.97;                      // ... of one that moves no faster than a hand
constexpr double may_follow = 0.3, may_surely_follow = 0.6;  // as far as the level of whole pieces tells
constexpr double limiter_spread_db = 1.0;                    // of the return's peaks where the gain is down
constexpr double limiter_ratio = 10, steep_ratio = 2.7, most_lawful = 0.95;
constexpr double steepest = -1.5;        // dB a dB: louder peaks come back quieter, as where something fades in
constexpr double same_height_db = 0.02;  // of peaks that a limiter brought back, where there are only a few
constexpr double limiter_rise = 0.15;    // dB by which a peak comes back higher where it is a dB higher

/// Share of the gain's movement (in dB, weighted) that is faster than a third of a second: a hand moves slower.
double fast_share(const DynamicsTrace& t, double rate_hz) {
  constexpr double slow_s = 0.17;
  const auto reach = int64_t(slow_s * rate_hz / double(t.piece));
  const auto count = int64_t(t.gain.size());
  std::vector<double> sum{0}, weight{0};
  for (int64_t n = 0; n < count; ++n) {
    const double w = std::sqrt(t.weight[size_t(n)]);
    sum.push_back(sum.back() + w * t.gain_db[size_t(n)]), weight.push_back(weight.back() + w);
  }
  const double mean = weight.back() > 0 ? sum.back() / weight.back() : 0;
  double fast = 0, all = 0;
  for (int64_t n = 0; n < count; ++n) {
    const auto from = size_t(std::max<int64_t>(0, n - reach)), to = size_t(std::min(count, n + reach + 1));
    const double w = std::sqrt(t.weight[size_t(n)]), around = weight[to] - weight[from];
    if (!(around > 0)) continue;
    const double db = t.gain_db[size_t(n)];
    fast += w * std::pow(db - (sum[to] - sum[from]) / around, 2), all += w * std::pow(db - mean, 2);
  }
  return all > 0 ? fast / all : 0;
}

/// Peaks of the programme that the gain has just come down for: what they would come back at, and do.
struct Peaks {
  std::vector<double> would, does;
};
Peaks peaks_turned_down(const DynamicsTrace& t, double usual_db, double most_db) {
  Peaks peaks;
  for (size_t n = 1; n + 1 < t.gain.size(); ++n) {
    if (t.weight[n] <= 0 || t.gain[n] > t.gain[n - 1] || t.gain[n] > t.gain[n + 1]) continue;
    const double down = t.gain_db[n] - usual_db;
    if (down >= std::min(-0.3, 0.3 * most_db) || t.level_db[n] + usual_db <= t.return_db[n]) continue;
    const auto greatest = [n](const std::vector<double>& db) {
      return *std::max_element(db.begin() + long(n) - 1, db.begin() + long(n) + 2);
    };
    peaks.would.push_back(greatest(t.level_db) + usual_db), peaks.does.push_back(greatest(t.return_db));
  }
  return peaks;
}

/// By how much peaks come back higher where they are higher: the median over all two of them that lie apart (Theil
/// 1950, Sen 1968). Nothing where too few do.
std::optional<double> rise_of(const Peaks& peaks) {
  constexpr double apart_db = 1;
  constexpr size_t least = 6;
  std::vector<double> rises;
  for (size_t a = 0; a < peaks.would.size(); ++a)
    for (size_t b = a + 1; b < std::min(peaks.would.size(), a + 200); ++b)
      if (const double further = peaks.would[b] - peaks.would[a]; std::abs(further) > apart_db)
        rises.push_back((peaks.does[b] - peaks.does[a]) / further);
  return rises.size() < least ? std::nullopt : std::optional(dsp::median(rises));
}

/// A limiter brings peaks of any height back at one level. What lets the start of a peak through, and keeps to a law of
/// less than its ratio, is none.
bool limits(const Peaks& peaks, double ratio, const LevelLaw& law) {
  if (ratio > limiter_ratio) return true;
  if (law.explained > most_lawful && law.detector.attack_s > 0) return false;
  auto does = peaks.does;
  std::sort(does.begin(), does.end());
  if (does.size() < 4) return does.size() > 1 && does.back() - does.front() < same_height_db;
  const double spread = does[does.size() * 9 / 10] - does[does.size() / 4];
  const bool steep = ratio > steep_ratio;
  if (const auto rise = rise_of(peaks)) return *rise < limiter_rise && spread < (steep ? 2 : 1) * limiter_spread_db;
  return steep && spread < 2 * limiter_spread_db;
}

/// Of the gain: what nine tenths of it do not go beyond, and how far under that it comes, dB. Nothing of so few pieces.
struct Reduction {
  double usual_db = 0, most_db = 0, mean_db = 0;
};
Reduction reduction_of(const DynamicsTrace& t, const std::vector<uint8_t>& counts) {
  constexpr size_t least_pieces = 50;
  std::vector<double> db;
  double weight = 0, mean = 0;
  for (size_t n = 0; n < t.gain.size(); ++n)
    if (t.weight[n] > 0 && counts[n]) db.push_back(t.gain_db[n]);
  if (db.size() < least_pieces) return {};
  std::sort(db.begin(), db.end());
  const double usual = db[db.size() * 9 / 10];
  for (size_t n = 0; n < t.gain.size(); ++n)
    if (t.weight[n] > 0 && counts[n]) weight += t.weight[n], mean += t.weight[n] * std::min(0.0, t.gain_db[n] - usual);
  return {usual, db[db.size() / 1000] - usual, mean / weight};
}

/// Multiplies a model by a gain of the places of an excerpt.
template <class Gain>
PutIn multiplied_by(Gain gain_at, const Places& own) {
  return [gain_at, own](const Places& where, Planar& m) {
    where.each_shared(own, [&](int64_t at, int64_t in_own, int64_t frames) {
      for (int64_t n = 0; n < frames; ++n) {
        const double gain = gain_at(in_own + n);
        for (int p = 0; p < m.channels(); ++p) m.channel(p)[size_t(at + n)] *= gain;
      }
    });
  };
}

// At every level that occurs: what a curve, or an error of another cause, may leave.
constexpr double hardly_a_ratio = 1.05, hardly_down_db = 0.6;

}  // namespace

std::optional<Found> estimate_dynamics(const Excerpt& e, const Model& model) {
  const DynamicsTrace t = dynamics_trace(e, model);
  Reduction down = reduction_of(t, std::vector<uint8_t>(t.gain.size(), 1));
  if (-down.most_db < least_range_db) return {};
  const bool fast = fast_share(t, e.rate_hz) >= least_fast;
  const LevelLaw law = best_level_law(e, model, t, fast ? may_follow : may_surely_follow);
  if (law.explained < (fast ? follows : surely_follows) || law.level_db.size() < 3) return {};
  // Beside a hand on the gain, what comes before the level is known may be what is wrong with that.
  if (model.hears != Model::Hears::either)
    if (const Reduction own = reduction_of(t, heard_by(e, t, law.detector)); own.most_db < 0) down = own;
  const StaticCurve curve = static_curve_of(law);
  if (curve.slopes_above && curve.slope < steepest) return {};
  const bool falls = curve.slope < 0;  // less gain the louder it is
  const double ratio = falls ? 1 / std::max(1e-3, 1 + curve.slope) : 1 + curve.slope;
  if (curve.straight && ratio < hardly_a_ratio && -down.most_db < hardly_down_db) return {};
  const Peaks peaks = peaks_turned_down(t, down.usual_db, down.most_db);
  Cause c{.code = !falls ? "expander" : limits(peaks, ratio, law) ? "limiter" : "compressor"};
  for (int p = 0; p < e.pairs(); ++p) c.channels.push_back(p);
  c.values = {{"threshold_dbfs", curve.straight ? Json(nullptr) : Json(curve.threshold_db)},
              {"above", curve.slopes_above},
              {"knee_db", curve.straight ? Json(nullptr) : Json(curve.knee_db)},
              {"most_reduction_db", -down.most_db},
              {"mean_reduction_db", -down.mean_db},
              {"makeup_db", down.usual_db},
              {"attack_ms", 1000 * law.detector.attack_s},
              {"release_ms", 1000 * law.detector.release_s},
              {"follows", law.explained}};
  if (c.code == "limiter")
    c.values["ceiling_dbfs"] =
        peaks.does.empty() ? Json(nullptr) : Json(*std::max_element(peaks.does.begin(), peaks.does.end()));
  else
    c.values["ratio"] = ratio;
  const auto gains = std::make_shared<const SampleGains>(e, model, t, law);
  Found found{c, multiplied_by([gains](int64_t place) { return gains->at(place); }, e)};
  Found lawful{c, multiplied_by([gains](int64_t place) { return gains->of_law_at(place); }, e)};
  found.by_law = std::make_shared<const Found>(std::move(lawful));
  found.follows = gains->level();
  return found;
}

}  // namespace heathmist::causes
