#include "core/compare/causes/level_law.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <functional>
#include <initializer_list>
#include <iterator>
#include <map>
#include <optional>
#include <span>
#include <utility>

#include "core/compare/causes/gain_curve.hpp"
#include "core/dsp/decibels.hpp"

namespace heathmist::causes {

namespace {

constexpr double piece_s = 0.004;
constexpr double silence = 1e-9, faintest_gain = 1e-4;
constexpr double known_db = 0.1;   // a gain that is known better than that counts fully
constexpr double independent = 8;  // samples that say something of their own, one of
constexpr double worth_polish = 0.8;
constexpr double holds_by_itself = 0.9;  // that a law explains
constexpr double least_of_step = 1e-3;   // of all that is told
constexpr std::array attacks_s{0.0, 0.0005, 0.001, 0.0025, 0.005, 0.01, 0.02, 0.04, 0.08};
constexpr std::array releases_s{0.01, 0.02, 0.04, 0.08, 0.15, 0.3, 0.6, 1.2};

std::vector<double> decibels_by_pieces(const DynamicsTrace& t, double attack_s, double release_s) {
  std::vector<double> out;
  const double up = step_of(attack_s, piece_s), down = step_of(release_s, piece_s);
  double now = t.level_db.front();
  for (const double db : t.level_db) {
    now += (db - now) * (db > now ? up : down);
    out.push_back(now);
  }
  return out;
}

/// Whether a detector has forgotten what was before the stretch that a piece stands in: one rule for all that are
/// tried, or else they are judged by different pieces.
std::vector<uint8_t> forgotten(const Excerpt& e, const DynamicsTrace& t) {
  constexpr double release_s = 1.2;
  std::vector<uint8_t> is(t.gain.size(), 0);
  for (const Stretch& s : e.stretches) {
    const int64_t skip = std::min(int64_t(3 * release_s * e.rate_hz), s.frames / 4);
    for (int64_t k = (s.at + skip) / t.piece + 1; (k + 1) * t.piece <= s.at + s.frames; ++k)
      if (k < std::ssize(is)) is[size_t(k)] = 1;
  }
  return is;
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

LevelLaw law_of(const DynamicsTrace& t, const std::vector<double>& level_db, const std::vector<uint8_t>& tells) {
  constexpr double low = -90, step = 1;
  std::array<LawStep, 92> steps{};
  double all = 0, mean = 0, square = 0;
  for (size_t n = 0; n < std::min(t.gain.size(), level_db.size()); ++n) {
    if (!tells[n] || t.weight[n] <= 0 || t.gain[n] <= faintest_gain) continue;
    const double g = t.gain_db(n), w = t.sure[n];
    steps[size_t(std::clamp((level_db[n] - low) / step, 0.0, 91.0))].add(level_db[n], g, w);
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

LevelLaw law_by_pieces(const Excerpt& e, const DynamicsTrace& t) {
  LevelLaw best;
  const auto tells = forgotten(e, t);
  for (const double release : {0.01, 0.03, 0.1, 0.2, 0.4, 1.0})
    for (const double attack : {0.0, 0.003, 0.01, 0.03, 0.1}) {
      LevelLaw law = law_of(t, decibels_by_pieces(t, attack, release), tells);
      if (law.explained > best.explained) best = law, best.detector = {.attack_s = attack, .release_s = release};
    }
  return best;
}

template <size_t N>
size_t nearest(const std::array<double, N>& times, double time) {
  size_t best = 0;
  for (size_t k = 1; k < N; ++k)
    if (std::abs(times[k] - time) < std::abs(times[best] - time)) best = k;
  return best;
}

/// The laws by detectors that follow the same, at these times.
std::vector<LevelLaw> laws_with(const Excerpt& e, const DynamicsTrace& t, const Rectified& programme, LevelDetector d,
                                std::span<const DetectorTimes> times) {
  std::vector<LevelLaw> laws;
  const auto levels = programme.by_pieces(t.piece, times);
  const auto tells = forgotten(e, t);
  for (size_t k = 0; k < times.size(); ++k) {
    laws.push_back(law_of(t, levels[k], tells));
    d.attack_s = times[k].attack_s, d.release_s = times[k].release_s;
    laws.back().detector = d;
  }
  return laws;
}

/// Uphill from a detector's times, to whichever neighbour explains most.
LevelLaw climbed(const Excerpt& e, const DynamicsTrace& t, const Rectified& programme, const LevelDetector& from) {
  using Place = std::pair<size_t, size_t>;
  std::map<Place, LevelLaw> seen;
  const auto look_around = [&](const Place& at) {
    std::vector<Place> around, fresh;
    std::vector<DetectorTimes> times;
    for (size_t a = at.first - (at.first > 0); a <= std::min(at.first + 1, attacks_s.size() - 1); ++a)
      for (size_t r = at.second - (at.second > 0); r <= std::min(at.second + 1, releases_s.size() - 1); ++r)
        around.emplace_back(a, r);
    std::copy_if(around.begin(), around.end(), std::back_inserter(fresh), [&](auto& p) { return !seen.contains(p); });
    for (const auto& [a, r] : fresh) times.push_back({attacks_s[a], releases_s[r]});
    auto laws = laws_with(e, t, programme, from, times);
    for (size_t k = 0; k < fresh.size(); ++k) seen.emplace(fresh[k], std::move(laws[k]));
    Place best = at;
    for (const Place& p : around)
      if (seen.at(p).explained > seen.at(best).explained) best = p;
    return best;
  };
  Place at{nearest(attacks_s, from.attack_s), nearest(releases_s, from.release_s)};
  for (Place next = look_around(at); next != at; next = look_around(at)) at = next;
  return seen.at(at);
}

/// The times between those that were tried, and a little beyond: by these factors, one after the other, while it helps.
LevelLaw polished(const Excerpt& e, const DynamicsTrace& t, const Rectified& programme, LevelLaw best,
                  std::initializer_list<double> factors) {
  constexpr double worth = 0.005;  // of what is not explained
  for (const double by : factors)
    for (bool better = true; better;) {
      const auto [attack_s, release_s] = std::pair{best.detector.attack_s, best.detector.release_s};
      const std::array<DetectorTimes, 8> around{{{attack_s * by, release_s},
                                                 {attack_s / by, release_s},
                                                 {attack_s, release_s * by},
                                                 {attack_s, release_s / by},
                                                 {attack_s * by, release_s * by},
                                                 {attack_s * by, release_s / by},
                                                 {attack_s / by, release_s * by},
                                                 {attack_s / by, release_s / by}}};
      auto laws = laws_with(e, t, programme, best.detector, around);
      LevelLaw& first = *std::ranges::max_element(laws, {}, &LevelLaw::explained);
      better = 1 - first.explained < (1 - worth) * (1 - best.explained);
      if (better) best = std::move(first);
    }
  return best;
}

/// The gain by level, sample by sample: least squares over those that stand within half a decibel of each other.
class GainTable {
 public:
  void add(double level_db, double model, double ret) { sums_[size_t(place_of(level_db))].add(model, ret); }
  /// Between two that are known, straight; beyond them, as the last.
  void solve() {
    std::optional<size_t> known;
    for (size_t n = 0; n < sums_.size(); ++n) {
      if (!(sums_[n].mm > 0)) continue;
      const double gain = sums_[n].gain();
      for (size_t k = known ? *known + 1 : 0; k < n; ++k)
        gains_[k] = known ? std::lerp(gains_[*known], gain, double(k - *known) / double(n - *known)) : gain;
      gains_[n] = gain, known = n;
    }
    if (known) std::fill(gains_.begin() + long(*known), gains_.end(), gains_[*known]);
  }
  double at(double level_db) const {
    const double place = place_of(level_db) - 0.5;
    const auto k = size_t(std::clamp(place, 0.0, double(gains_.size() - 2)));
    return std::lerp(gains_[k], gains_[k + 1], std::clamp(place - double(k), 0.0, 1.0));
  }

 private:
  static constexpr double low = -120, a_db = 2;
  static double place_of(double level_db) { return std::clamp((level_db - low) * a_db, 0.0, 259.0); }
  std::array<GainPiece, 260> sums_{};
  std::array<double, 260> gains_{};
};

/// Of what is `heard`, piece by piece.
GainTable table_of(const Excerpt& e, const Planar& model, const std::vector<float>& levels,
                   const std::vector<uint8_t>& heard, int64_t piece) {
  GainTable table;
  for (int p = 0; p < e.pairs(); ++p)
    for (size_t n = 0; n < levels.size(); ++n)
      if (e.told[n] && heard[n / size_t(piece)]) table.add(double(levels[n]), model.channel(p)[n], e.ret.channel(p)[n]);
  return table;
}

/// Between the middles of the pieces.
double between(const std::vector<double>& of_pieces, int64_t piece, double place) {
  const double middle = std::clamp(place / double(piece) - 0.5, 0.0, double(of_pieces.size() - 1));
  const auto k = size_t(middle), next = std::min(k + 1, of_pieces.size() - 1);
  return std::lerp(of_pieces[k], of_pieces[next], middle - double(k));
}

/// What brings these gains to that of each piece; its neighbour's where none is known.
std::vector<double> corrections(const Planar& model, const DynamicsTrace& t, const std::vector<float>& gains) {
  std::vector<double> all;
  double last = 1;
  for (size_t k = 0; k < t.gain.size(); ++k) {
    double power = 0, through = 0;
    const size_t from = k * size_t(t.piece), end = std::min(gains.size(), from + size_t(t.piece));
    for (int p = 0; p < model.channels(); ++p)
      for (size_t n = from; n < end; ++n) {
        const double x = model.channel(p)[n];
        power += x * x, through += x * x * double(gains[n]);
      }
    if (t.weight[k] > 0 && through > 0) last = t.gain[k] * power / through;
    all.push_back(last);
  }
  for (size_t k = all.size(); k-- > 1;)  // what sets in comes back at its own gain from its first sample on
    if (t.weight[k] > 0 && t.weight[k - 1] == 0) all[k - 1] = all[k];
  return all;
}

/// Pieces where a detector follows what it has heard; before them, at the beginning of a stretch, it holds what nobody
/// knows.
std::vector<uint8_t> heard_by(const Excerpt& e, const DynamicsTrace& t, const LevelDetector& detector) {
  constexpr double forgets = 7;  // time constants
  std::vector<uint8_t> heard(t.gain.size(), 1);
  const auto unknown = int64_t(forgets * std::max(detector.attack_s, detector.release_s) * e.rate_hz);
  for (const Stretch& s : e.stretches)
    for (int64_t k = s.at / t.piece; k <= (s.at + std::min(unknown, s.frames)) / t.piece; ++k)
      if (k < std::ssize(heard)) heard[size_t(k)] = 0;
  return heard;
}

/// Corrections that are more than what a law is off by have other causes, and are left alone where it is heard.
void leave_to_the_law(std::vector<double>& corrections, const DynamicsTrace& t, const std::vector<uint8_t>& heard) {
  constexpr double of_the_law_db = 0.04;  // root mean square
  double square = 0, all = 0;
  for (size_t k = 0; k < corrections.size(); ++k)
    if (heard[k]) square += t.weight[k] * std::pow(dsp::db_of(corrections[k], faintest_gain), 2), all += t.weight[k];
  if (square <= of_the_law_db * of_the_law_db * all) return;
  for (size_t k = 0; k < corrections.size(); ++k)
    if (heard[k]) corrections[k] = 1;
}

}  // namespace

double DynamicsTrace::gain_db(size_t piece) const { return dsp::db_of(gain[piece], faintest_gain); }

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
  return t;
}

LevelLaw best_level_law(const Excerpt& e, const Planar& model, const DynamicsTrace& t, double worth) {
  constexpr std::array<std::pair<double, double>, 2> hopes{{{30, 1.3}, {6, 1.12}}};  // times what the best leaves
  LevelLaw best = law_by_pieces(e, t);
  if (best.explained < worth) return best;
  std::vector<LevelLaw> laws;
  LevelDetector from = best.detector;
  const bool master_too = !is_master(e, model);
  for (const auto of : {LevelDetector::Of::magnitude, LevelDetector::Of::square})
    for (const bool of_mean : {false, true})
      for (const bool of_master : {false, true}) {
        if ((of_mean && e.pairs() == 1) || (of_master && !master_too)) continue;
        from.of = of, from.of_mean = of_mean, from.of_master = of_master;
        laws.push_back(climbed(e, t, Rectified(e, model, from), from));
        from = laws.back().detector;
      }
  std::ranges::sort(laws, std::greater<>(), &LevelLaw::explained);
  if (laws.front().explained < std::max(worth_polish, best.explained))
    return laws.front().explained > best.explained ? laws.front() : best;
  best = laws.front();
  const auto polish = [&](LevelLaw law, std::initializer_list<double> by) {
    return polished(e, t, Rectified(e, model, law.detector), std::move(law), by);
  };
  for (const auto& [hopeful, by] : hopes)
    for (LevelLaw& law : laws)
      if (1 - law.explained <= hopeful * (1 - best.explained))
        if (law = polish(std::move(law), {by}); law.explained > best.explained) best = law;
  return polish(best, {1.05, 1.02});
}

SampleGains::SampleGains(const Excerpt& e, const Planar& model, const DynamicsTrace& t, const LevelLaw& law)
    : every_(law.detector.of == LevelDetector::Of::decibels || law.detector.attack_s > 0 ? 4 : 1) {
  std::vector<float> gains(size_t(e.frames()), 1.f);
  const bool by_pieces = law.detector.of == LevelDetector::Of::decibels;
  const auto heard = heard_by(e, t, law.detector);
  if (!by_pieces) {
    const auto levels = Rectified(e, model, law.detector).by_samples({law.detector.attack_s, law.detector.release_s});
    const bool enough = std::ranges::count(heard, 1) * 5 > std::ssize(heard);
    GainTable table = table_of(e, model, levels, enough ? heard : std::vector<uint8_t>(heard.size(), 1), t.piece);
    table.solve();
    LevelCourse course;
    for (size_t n = 0; n < levels.size(); ++n) {
      gains[n] = float(table.at(double(levels[n])));
      if (n % size_t(LevelCourse::every) == 0) course.dbfs.push_back(levels[n]);
    }
    level_ = std::make_shared<const LevelCourse>(std::move(course));
  }
  auto corrected = corrections(model, t, gains);
  if (!by_pieces && law.explained > holds_by_itself) leave_to_the_law(corrected, t, heard);
  for (size_t n = 0; n < gains.size(); n += size_t(every_))
    gains_.push_back(gains[n] * float(between(corrected, t.piece, double(n) + 0.5)));
}

double SampleGains::at(int64_t place) const {
  const auto k = size_t(place / every_), next = std::min(k + 1, gains_.size() - 1);
  return std::lerp(double(gains_[k]), double(gains_[next]), double(place % every_) / double(every_));
}

}  // namespace heathmist::causes
