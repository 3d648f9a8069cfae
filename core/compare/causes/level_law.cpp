#include "core/compare/causes/level_law.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <initializer_list>
#include <span>
#include <utility>

#include "core/compare/causes/gain_curve.hpp"
#include "core/dsp/decibels.hpp"
#include "core/dsp/median.hpp"

namespace heathmist::causes {

namespace {

constexpr double piece_s = 0.004;
constexpr double silence = 1e-9, faintest_gain = 1e-4;
constexpr double known_db = 0.1;   // a gain that is known better than that counts fully
constexpr double independent = 8;  // samples that say something of their own, one of
constexpr double worth_polish = 0.8;
constexpr int least_times = 5;          // that a gain acts before it tells what kind of detector it follows
constexpr double least_of_step = 1e-3;  // of all that is told
constexpr std::array attacks_s{0.0, 0.0005, 0.001, 0.0025, 0.005, 0.01, 0.02, 0.04, 0.08};
constexpr std::array releases_s{0.01, 0.02, 0.04, 0.08, 0.15, 0.3, 0.6, 1.2};

/// The pieces that laws are made of.
struct KnownPieces {
  std::vector<size_t> pieces;
  std::vector<double> gain_db, sure;
};

/// Those with a gain where a detector has forgotten what was before the stretch: one rule for all that are tried, or
/// else they are judged by different pieces.
KnownPieces known_pieces(const Excerpt& e, const DynamicsTrace& t) {
  constexpr double release_s = 1.2;
  KnownPieces all;
  for (const Stretch& s : e.stretches) {
    const int64_t skip = std::min(int64_t(3 * release_s * e.rate_hz), s.frames / 4);
    for (int64_t piece = (s.at + skip) / t.piece + 1; (piece + 1) * t.piece <= s.at + s.frames; ++piece) {
      const auto k = size_t(piece);
      if (k >= t.gain.size() || t.weight[k] <= 0 || t.gain[k] <= faintest_gain) continue;
      all.pieces.push_back(k), all.gain_db.push_back(t.gain_db[k]), all.sure.push_back(t.sure[k]);
    }
  }
  return all;
}

/// How often the gain acts: comes off what it mostly is, by more than a part of the way that it ever goes. What lasts
/// counts again and again.
int times_of_action(const KnownPieces& known) {
  constexpr double part = 0.1;
  constexpr size_t apart = 12, lasts = 60;  // pieces
  if (known.gain_db.empty()) return 0;
  const double usual = dsp::median(known.gain_db);
  double most = 0;
  for (const double db : known.gain_db) most = std::max(most, std::abs(db - usual));
  int times = 0;
  size_t last = 0, acting = 0;
  for (size_t n = 0; n < known.pieces.size(); ++n) {
    if (std::abs(known.gain_db[n] - usual) <= part * most) continue;
    if (times == 0 || known.pieces[n] - last > apart || ++acting % lasts == 0) ++times;
    last = known.pieces[n];
  }
  return times;
}

/// The gains that stand within a step of level, and the straight line through them: least squares.
struct LawStep {
  double weight = 0, level = 0, gain = 0, level2 = 0, level_gain = 0;
  void add(double level_db, double gain_db, double w) {
    weight += w, level += w * level_db, gain += w * gain_db;
    level2 += w * level_db * level_db, level_gain += w * level_db * gain_db;
  }
  void add(const LawStep& o) {
    weight += o.weight, level += o.level, gain += o.gain, level2 += o.level2, level_gain += o.level_gain;
  }
  double mean_level() const { return level / weight; }
  double mean_gain() const { return gain / weight; }
  /// Of the sum of squares about this mean, what the line explains.
  double explained_about(double mean) const {
    constexpr double level_varies = 1e-3;  // dB^2
    const double spread = level2 - level * mean_level(), along = level_gain - level * mean_gain();
    const double line = spread > level_varies * weight ? along * along / spread : 0;
    return weight * std::pow(mean_gain() - mean, 2) + line;
  }
};

/// Neighbours are one step until that weighs enough.
std::vector<LawStep> wide_enough(std::span<const LawStep> steps, double least) {
  std::vector<LawStep> out;
  LawStep open;
  for (const LawStep& s : steps) {
    open.add(s);
    if (open.weight >= least) out.push_back(std::exchange(open, {}));
  }
  if (!out.empty()) out.back().add(open);
  return out;
}

LevelLaw law_of(const KnownPieces& known, const std::vector<float>& level_db) {
  constexpr double low = -90, step = 1;
  std::array<LawStep, 92> steps{};
  double all = 0, mean = 0, square = 0;
  for (size_t n = 0; n < known.pieces.size(); ++n) {
    const double level = double(level_db[known.pieces[n]]), g = known.gain_db[n], w = known.sure[n];
    steps[size_t(std::clamp((level - low) / step, 0.0, 91.0))].add(level, g, w);
    all += w, mean += w * g, square += w * g * g;
  }
  LevelLaw law;
  if (!(all > 0)) return law;
  mean /= all;
  double explained = 0;
  for (const LawStep& s : wide_enough(steps, least_of_step * all)) {
    explained += s.explained_about(mean);
    law.level_db.push_back(s.mean_level()), law.gain_db.push_back(s.mean_gain());
    law.weight.push_back(s.weight / all);
  }
  const double variance = square / all - mean * mean;
  law.explained = variance > 0 ? std::min(1.0, explained / all / variance) : 0;
  return law;
}

LevelLaw law_by_pieces(const KnownPieces& known, const DynamicsTrace& t) {
  LevelLaw best;
  for (const double release : {0.01, 0.03, 0.1, 0.2, 0.4, 1.0})
    for (const double attack : {0.0, 0.003, 0.01, 0.03, 0.1}) {
      LevelLaw law = law_of(known, decibels_by_pieces(t, attack, release));
      if (law.explained > best.explained) best = law, best.detector = {.attack_s = attack, .release_s = release};
    }
  return best;
}

/// The search of detectors over one excerpt.
struct DetectorSearch {
  const Excerpt& e;
  const Planar& model;
  int64_t piece;
  KnownPieces known;

  /// Of these times of a detector, those whose law explains most.
  LevelLaw best_of(const Rectified& programme, LevelDetector d, std::span<const DetectorTimes> times) const {
    LevelLaw best;
    const auto levels = programme.by_pieces(piece, times);
    for (size_t k = 0; k < times.size(); ++k) {
      LevelLaw law = law_of(known, levels[k]);
      if (k > 0 && law.explained <= best.explained) continue;
      d.attack_s = times[k].attack_s, d.release_s = times[k].release_s;
      best = std::move(law), best.detector = d;
    }
    return best;
  }

  LevelLaw coarse(const LevelDetector& d) const {
    std::vector<DetectorTimes> times;
    for (const double attack : attacks_s)
      for (const double release : releases_s) times.push_back({attack, release});
    return best_of(Rectified(e, model, d), d, times);
  }

  /// The times between those that were tried, and a little beyond: by these factors, one after the other, while it
  /// helps.
  LevelLaw polished(LevelLaw best, std::initializer_list<double> factors) const {
    constexpr double worth = 0.005;  // of what is not explained
    const Rectified programme(e, model, best.detector);
    for (const double by : factors)
      for (bool better = true; better;) {
        LevelLaw next = best_of(programme, best.detector, around(best.detector, by));
        better = 1 - next.explained < (1 - worth) * (1 - best.explained);
        if (better) best = std::move(next);
      }
    return best;
  }

  /// Up to two factors to either side.
  static std::vector<DetectorTimes> around(const LevelDetector& d, double by) {
    std::vector<DetectorTimes> times;
    for (int a = d.attack_s > 0 ? -2 : 0; a <= (d.attack_s > 0 ? 2 : 0); ++a)
      for (int r = -2; r <= 2; ++r)
        if (a != 0 || r != 0) times.push_back({d.attack_s * std::pow(by, a), d.release_s * std::pow(by, r)});
    return times;
  }

  /// What is done with each of several laws, on as many threads as an estimate may use.
  template <class Work>
  void each_of(std::vector<LevelLaw>& laws, Work work) const {
    for_each_segment(
        std::ssize(laws), Job{{}, {}, e.threads}, [] { return 0; },
        [&](int, int64_t n) { laws[size_t(n)] = work(std::move(laws[size_t(n)])); });
  }
};

/// Every kind of detector that a programme tells apart, each as a law yet to be found.
std::vector<LevelLaw> kinds_of_detectors(const Excerpt& e, const Model& model) {
  std::vector<LevelLaw> kinds;
  const bool may_hear_master = model.hears != Model::Hears::model && !is_master(e, model),
             may_hear_model = model.hears != Model::Hears::master || is_master(e, model);
  for (const auto of : {LevelDetector::Of::magnitude, LevelDetector::Of::square})
    for (const bool of_mean : {false, true})
      for (const bool of_master : {false, true})
        if ((!of_mean || e.pairs() > 1) && (of_master ? may_hear_master : may_hear_model))
          kinds.push_back({.detector = {.of = of, .of_mean = of_mean, .of_master = of_master}});
  return kinds;
}

}  // namespace

std::vector<float> decibels_by_pieces(const DynamicsTrace& t, double attack_s, double release_s) {
  std::vector<float> out;
  const double up = step_of(attack_s, piece_s), down = step_of(release_s, piece_s);
  double now = t.level_db.front();
  for (const double db : t.level_db) {
    now += (db - now) * (db > now ? up : down);
    out.push_back(float(now));
  }
  return out;
}

DynamicsTrace dynamics_trace(const Excerpt& e, const Planar& model) {
  DynamicsTrace t{.piece = std::max<int64_t>(8, int64_t(piece_s * e.rate_hz))};
  const GainCurve c = gain_curve(e, model, t.piece);
  double last = 1;
  for (size_t n = 0; n < c.pieces.size(); ++n) {
    const auto& p = c.pieces[n];
    double peak = 0, back = 0;
    for (int ch = 0; ch < e.pairs(); ++ch)
      for (int64_t k = int64_t(n) * t.piece; k < std::min(e.frames(), (int64_t(n) + 1) * t.piece); ++k) {
        peak = std::max(peak, std::abs(model.channel(ch)[size_t(k)]));
        back = std::max(back, std::abs(e.ret.channel(ch)[size_t(k)]));
      }
    const double alike = p.mm > 0 && p.rr > 0 ? p.mr * p.mr / (p.mm * p.rr) : 0;
    const bool tells = p.mm > 1e-6 * c.loudest && p.mr > 0 && alike > 0.8;
    if (tells) last = p.gain();
    const double off_db2 = tells ? std::pow(20 / std::log(10), 2) * (1 / alike - 1) * independent / double(t.piece) : 0;
    t.gain.push_back(last), t.weight.push_back(tells ? p.mm : 0);
    t.sure.push_back(tells ? 1 / (1 + off_db2 / (known_db * known_db)) : 0);
    t.level_db.push_back(dsp::db_of(peak, silence)), t.return_db.push_back(dsp::db_of(back, silence));
  }
  for (size_t n = t.gain.size(); n-- > 1;)  // what sets in comes back at its own gain from its first sample on
    if (t.weight[n] > 0 && t.weight[n - 1] == 0) t.gain[n - 1] = t.gain[n];
  for (const double gain : t.gain) t.gain_db.push_back(dsp::db_of(gain, faintest_gain));
  return t;
}

LevelLaw best_level_law(const Excerpt& e, const Model& model, const DynamicsTrace& t, double worth) {
  constexpr std::array<std::pair<double, double>, 2> hopes{{{30, 1.3}, {6, 1.12}}};  // times what the best leaves
  const DetectorSearch search{e, model, t.piece, known_pieces(e, t)};
  LevelLaw best = law_by_pieces(search.known, t);
  if (best.explained < worth) return best;
  auto laws = kinds_of_detectors(e, model);
  if (times_of_action(search.known) < least_times) laws.resize(1);
  search.each_of(laws, [&](const LevelLaw& law) { return search.coarse(law.detector); });
  const auto first = [&] { return *std::ranges::max_element(laws, {}, &LevelLaw::explained); };
  if (LevelLaw found = first(); found.explained < std::max(worth_polish, best.explained))
    return found.explained > best.explained ? found : best;
  for (const auto& [hopeful, by] : hopes) {
    const double most = hopeful * (1 - first().explained);
    std::erase_if(laws, [&](const LevelLaw& law) { return 1 - law.explained > most; });
    search.each_of(laws, [&](LevelLaw law) { return search.polished(std::move(law), {by}); });
  }
  return search.polished(first(), {1.05, 1.02});
}

}  // namespace heathmist::causes
