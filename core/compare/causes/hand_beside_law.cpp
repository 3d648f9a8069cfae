#include "core/compare/causes/hand_beside_law.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <optional>

#include "core/compare/causes/gain_curve.hpp"
#include "core/compare/causes/level_law.hpp"
#include "core/dsp/decibels.hpp"
#include "core/dsp/median.hpp"

namespace heathmist::causes {

namespace {

constexpr double least_gain = 1e-4;

/// What mostly comes to a level, in decibels of it: the median of the gains there, which what a hand did for less than
/// half of the time does not move; between levels straight, beyond them as the last.
class GainByLevel {
 public:
  void add(double level_db, double gain_db) { gains_[size_t(std::lround(place_of(level_db)))].push_back(gain_db); }
  void solve() {
    std::optional<size_t> known;
    for (size_t n = 0; n < db_.size(); ++n) {
      if (gains_[n].empty()) continue;
      db_[n] = dsp::median(gains_[n]);
      for (size_t k = known ? *known + 1 : 0; k < n; ++k)
        db_[k] = known ? std::lerp(db_[*known], db_[n], double(k - *known) / double(n - *known)) : db_[n];
      known = n;
    }
    if (known) std::fill(db_.begin() + long(*known), db_.end(), db_[*known]);
  }
  double at(double level_db) const {
    const double place = place_of(level_db);
    const auto k = std::min(size_t(place), db_.size() - 2);
    return std::lerp(db_[k], db_[k + 1], place - double(k));
  }
  /// The greatest gain before it that comes to this much with it.
  double before(double level_db, double in_all_db) const {
    constexpr double least_db = -140, most_db = 40, within_db = 0.02;
    double low = least_db, high = most_db;
    while (high - low > 1e-3) {
      const double middle = 0.5 * (low + high);
      (middle + at(level_db + middle) <= in_all_db + within_db ? low : high) = middle;
    }
    return low;
  }

 private:
  static double place_of(double level_db) { return std::clamp(level_db + 120, 0.0, 130.0); }
  std::array<std::vector<double>, 131> gains_{};
  std::array<double, 131> db_{};
};

/// Keeps other causes where these leave less by the law alone. What is left so then.
double keep_lawful(CauseSet& causes, const CauseSet& other, double left) {
  const double then = other.lawful().left();
  if (then >= left) return left;
  causes.kept = other.kept;
  return then;
}

/// The law anew; whether it hears what was before the hand or behind it may not show but in all of what it leaves.
double law_anew(CauseSet& causes, const CauseSet& with, size_t law, double left) {
  const View v = with.view_without(law);
  const Estimate& e = *with.kept[law].of;
  for (const auto hears : {Model::Hears::model, Model::Hears::master})
    if (const FoundPtr found = with.estimated(e, v, hears)) {
      CauseSet other = with;
      other.kept[law].found = found;
      left = keep_lawful(causes, other, left);
    }
  return left;
}

/// A hand anew, from what the law makes by itself, and the law beside that.
double take_turn(CauseSet& causes, size_t hand, size_t law, double left) {
  CauseSet with = causes;
  with.kept[hand].found = causes.estimated(*causes.kept[hand].of, causes.lawful().view_without(hand));
  return with.kept[hand].found ? law_anew(causes, with, law, left) : left;
}

}  // namespace

bool is_hand_on_gain(const Estimate& e) {
  return &e == &named("fade") || &e == &named("other_fade") || &e == &named("gain_step") || &e == &named("tremolo");
}

bool is_how_a_detector_settles(const Cause& c) {
  constexpr double least_db = 1, settles_s = 1;
  if (c.code != "gain_step") return false;
  const Json& steps = c.values["steps"];
  const auto size_of = [](const Json& step) { return std::abs(step["step_db"].get<double>()); };
  const Json& most = *std::max_element(steps.begin(), steps.end(),
                                       [&](const Json& a, const Json& b) { return size_of(a) < size_of(b); });
  return size_of(most) < least_db || most["at_s"].get<double>() < settles_s;
}

bool has_hand_beside_law(const CauseSet& causes) {
  return causes.keeps(named("dynamics")) &&
         std::ranges::any_of(causes.kept, [](const Kept& k) { return is_hand_on_gain(*k.of); });
}

Excerpt without_law_behind_hand(Excerpt e, const Planar& model, const LevelCourse* heard) {
  constexpr double piece_s = 0.01, attack_s = 0.01, release_s = 0.2;
  const DynamicsTrace trace = heard ? DynamicsTrace{} : dynamics_trace(e, model);
  const auto of_pieces = heard ? std::vector<float>{} : decibels_by_pieces(trace, attack_s, release_s);
  const auto level_at = [&](int64_t place) {
    return heard ? heard->at(place) : double(of_pieces[std::min(of_pieces.size() - 1, size_t(place / trace.piece))]);
  };
  const GainCurve in_all = gain_curve(e, model, int64_t(piece_s * e.rate_hz));
  std::vector<double> level_db, all_db;  // of those that tell
  std::vector<size_t> which;
  GainByLevel law;
  for (size_t k = 0; k < in_all.pieces.size(); ++k) {
    if (!in_all.tells(k) || !(in_all.pieces[k].mr > 0)) continue;
    which.push_back(k);
    level_db.push_back(level_at(std::min(e.frames() - 1, int64_t(in_all.middle[k]))));
    all_db.push_back(dsp::db_of(in_all.pieces[k].gain(), least_gain));
    law.add(level_db.back(), all_db.back());
  }
  if (which.empty()) return e;
  law.solve();
  std::vector<double> of_law;
  for (size_t n = 0; n < which.size(); ++n)
    of_law.resize(which[n] + 1, std::pow(10, (all_db[n] - law.before(level_db[n], all_db[n])) / 20));
  of_law.resize(in_all.pieces.size(), of_law.back());
  for (int64_t n = 0; n < e.frames(); ++n) {
    const double gain = at_place_of_pieces(of_law, in_all.piece, double(n));
    for (int p = 0; p < e.pairs(); ++p) e.ret.channel(p)[size_t(n)] /= gain;
  }
  return e;
}

void bring_hands_beside_law(CauseSet& causes, const Job& job) {
  constexpr int most_rounds = 6;
  constexpr double worth_a_turn_db = 0.5;
  const auto law = causes.place_of("dynamics");
  if (!has_hand_beside_law(causes) || causes.view_without({}).before() == causes.hands_settled) return;
  double now = law_anew(causes, CauseSet(causes), *law, causes.lawful().left());
  for (int round = 0; round < most_rounds && now > causes.master_share(well_explained); ++round) {
    const double before = now;
    for (size_t n = 0; n < causes.kept.size(); ++n) {
      job.check();
      if (is_hand_on_gain(*causes.kept[n].of)) now = take_turn(causes, n, *law, now);
    }
    if (db_of(before, now) < worth_a_turn_db) break;
  }
  causes.hands_settled = causes.view_without({}).before();
}

}  // namespace heathmist::causes
