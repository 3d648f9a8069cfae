#include "core/compare/causes/level_law.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <iterator>
#include <map>
#include <optional>
#include <span>
#include <utility>

#include "core/compare/causes/gain_curve.hpp"
#include "core/dsp/decibels.hpp"
#include "core/dsp/knee.hpp"

namespace heathmist::causes {

namespace {

constexpr double piece_s = 0.004;
constexpr double silence = 1e-9, faintest_gain = 1e-4;
constexpr double known_db = 0.1;   // a gain that is known better than that counts fully
constexpr double independent = 8;  // samples that say something of their own, one of
constexpr double worth_polish = 0.8;
constexpr double least_of_bin = 1e-3;  // of all that is told
constexpr std::array attacks_s{0.0, 0.0005, 0.001, 0.0025, 0.005, 0.01, 0.02, 0.04, 0.08};
constexpr std::array releases_s{0.01, 0.02, 0.04, 0.08, 0.15, 0.3, 0.6, 1.2};

double step_of(double time_s, double every_s) { return time_s <= 0 ? 1 : 1 - std::exp(-every_s / time_s); }

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

/// What a detector follows, sample by sample, and its mean over each piece, in dB.
class Samples {
 public:
  Samples(const Excerpt& e, const Planar& model, LevelDetector::Of of, bool of_mean)
      : rate_hz_(e.rate_hz), square_(of == LevelDetector::Of::square), values_(size_t(e.frames())) {
    for (int p = 0; p < e.pairs(); ++p)
      for (size_t n = 0; n < values_.size(); ++n) {
        const auto x = float(std::abs(model.channel(p)[n]));
        values_[n] = of_mean ? values_[n] + x / float(e.pairs()) : std::max(values_[n], x);
      }
    if (square_)
      for (float& v : values_) v *= v;
  }
  struct Times {
    double attack_s, release_s;
  };
  /// The mean level over each piece, dB, by each of these times. Eight go side by side: one alone waits for itself.
  std::vector<std::vector<double>> detected(const DynamicsTrace& t, std::span<const Times> times) const {
    constexpr size_t lanes = 8;
    std::vector<std::vector<double>> out(times.size());
    for (size_t first = 0; first < times.size(); first += lanes) {
      std::array<float, lanes> up{}, down{}, now{};
      const size_t used = std::min(lanes, times.size() - first);
      for (size_t k = 0; k < used; ++k)
        up[k] = float(step_of(times[first + k].attack_s, 1.0 / rate_hz_)),
        down[k] = float(step_of(times[first + k].release_s, 1.0 / rate_hz_)), now[k] = start(t);
      for (size_t n = 0; n < values_.size();) {
        const size_t from = n, end = std::min(values_.size(), n + size_t(t.piece));
        std::array<float, lanes> sum{};
        for (; n < end; ++n)
          for (size_t k = 0; k < lanes; ++k) {
            const float off = values_[n] - now[k];
            now[k] += off * (off > 0 ? up[k] : down[k]);
            sum[k] += now[k];
          }
        for (size_t k = 0; k < used; ++k) out[first + k].push_back(decibels(double(sum[k]) / double(end - from)));
      }
    }
    return out;
  }
  /// each(place, level).
  template <class Each>
  void follow(const DynamicsTrace& t, double attack_s, double release_s, Each each) const {
    const auto up = float(step_of(attack_s, 1.0 / rate_hz_)), down = float(step_of(release_s, 1.0 / rate_hz_));
    float now = start(t);
    for (size_t n = 0; n < values_.size(); ++n) {
      const float off = values_[n] - now;
      now += off * (off > 0 ? up : down);
      each(n, now);
    }
  }
  /// The greatest of the first pieces: so it may have stood before.
  float start(const DynamicsTrace& t) const {
    const auto end = values_.begin() + std::ptrdiff_t(std::min(values_.size(), 4 * size_t(t.piece)));
    return values_.empty() ? 0.f : *std::max_element(values_.begin(), end);
  }
  double decibels(double level) const { return (square_ ? 10 : 20) * std::log10(std::max(1e-18, level)); }

 private:
  double rate_hz_;
  bool square_;
  std::vector<float> values_;
};

/// Whether a detector has forgotten what was before the stretch that a piece stands in.
std::vector<uint8_t> forgotten(const Excerpt& e, const DynamicsTrace& t, double release_s) {
  std::vector<uint8_t> is(t.gain.size(), 0);
  for (const Stretch& s : e.stretches) {
    const int64_t skip = std::min(int64_t(3 * release_s * e.rate_hz), s.frames / 4);
    for (int64_t k = (s.at + skip) / t.piece + 1; (k + 1) * t.piece <= s.at + s.frames; ++k)
      if (k < std::ssize(is)) is[size_t(k)] = 1;
  }
  return is;
}

LevelLaw law_of(const DynamicsTrace& t, const std::vector<double>& level_db, const std::vector<uint8_t>& tells) {
  constexpr double low = -90, step = 1;
  std::vector<double> sum(92, 0), weight(92, 0);
  double all = 0, mean = 0, square = 0;
  for (size_t n = 0; n < std::min(t.gain.size(), level_db.size()); ++n) {
    if (!tells[n] || t.weight[n] <= 0 || t.gain[n] <= faintest_gain) continue;
    const double g = t.gain_db(n), w = t.sure[n];
    const auto bin = size_t(std::clamp((level_db[n] - low) / step, 0.0, 91.0));
    sum[bin] += w * g, weight[bin] += w, all += w, mean += w * g, square += w * g * g;
  }
  LevelLaw law;
  if (!(all > 0)) return law;
  mean /= all;
  double between = 0;
  for (size_t k = 0; k < sum.size(); ++k) {
    if (weight[k] < least_of_bin * all) continue;
    between += weight[k] * std::pow(sum[k] / weight[k] - mean, 2);
    law.level_db.push_back(low + (double(k) + 0.5) * step), law.gain_db.push_back(sum[k] / weight[k]);
    law.weight.push_back(weight[k] / all);
  }
  const double variance = square / all - mean * mean;
  law.explained = variance > 0 ? std::min(1.0, between / all / variance) : 0;
  return law;
}

LevelLaw law_by_pieces(const Excerpt& e, const DynamicsTrace& t) {
  LevelLaw best;
  for (const double release : {0.01, 0.03, 0.1, 0.2, 0.4, 1.0}) {
    const auto tells = forgotten(e, t, release);
    for (const double attack : {0.0, 0.003, 0.01, 0.03, 0.1}) {
      LevelLaw law = law_of(t, decibels_by_pieces(t, attack, release), tells);
      if (law.explained > best.explained)
        best = law, best.detector = {LevelDetector::Of::decibels, false, attack, release};
    }
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
std::vector<LevelLaw> laws_with(const Excerpt& e, const DynamicsTrace& t, const Samples& samples, LevelDetector d,
                                std::span<const Samples::Times> times) {
  std::vector<LevelLaw> laws;
  const auto levels = samples.detected(t, times);
  for (size_t k = 0; k < times.size(); ++k) {
    laws.push_back(law_of(t, levels[k], forgotten(e, t, times[k].release_s)));
    d.attack_s = times[k].attack_s, d.release_s = times[k].release_s;
    laws.back().detector = d;
  }
  return laws;
}

/// Uphill from a detector's times, to whichever neighbour explains most.
LevelLaw climbed(const Excerpt& e, const DynamicsTrace& t, const Samples& samples, const LevelDetector& from) {
  using Place = std::pair<size_t, size_t>;
  std::map<Place, LevelLaw> seen;
  const auto look_around = [&](const Place& at) {
    std::vector<Place> around, fresh;
    std::vector<Samples::Times> times;
    for (size_t a = at.first - (at.first > 0); a <= std::min(at.first + 1, attacks_s.size() - 1); ++a)
      for (size_t r = at.second - (at.second > 0); r <= std::min(at.second + 1, releases_s.size() - 1); ++r)
        around.emplace_back(a, r);
    std::copy_if(around.begin(), around.end(), std::back_inserter(fresh), [&](auto& p) { return !seen.contains(p); });
    for (const auto& [a, r] : fresh) times.push_back({attacks_s[a], releases_s[r]});
    auto laws = laws_with(e, t, samples, from, times);
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

/// The times between those that were tried, and a little beyond.
LevelLaw polished(const Excerpt& e, const DynamicsTrace& t, const Samples& samples, LevelLaw best) {
  constexpr double no_odds = 1e-5;
  for (const double step : {1.3, 1.12})
    for (bool better = true; better;) {
      const auto [attack_s, release_s] = std::pair{best.detector.attack_s, best.detector.release_s};
      const std::array<Samples::Times, 8> around{{{attack_s * step, release_s},
                                                  {attack_s / step, release_s},
                                                  {attack_s, release_s * step},
                                                  {attack_s, release_s / step},
                                                  {attack_s * step, release_s * step},
                                                  {attack_s * step, release_s / step},
                                                  {attack_s / step, release_s * step},
                                                  {attack_s / step, release_s / step}}};
      auto laws = laws_with(e, t, samples, best.detector, around);
      LevelLaw& first = *std::ranges::max_element(laws, {}, &LevelLaw::explained);
      better = first.explained > best.explained + no_odds;
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

std::vector<float> levels_by_samples(const Excerpt& e, const Planar& model, const DynamicsTrace& t,
                                     const LevelDetector& d) {
  const Samples samples(e, model, d.of, d.of_mean);
  std::vector<float> levels;
  levels.reserve(size_t(e.frames()));
  samples.follow(t, d.attack_s, d.release_s,
                 [&](size_t, float level) { levels.push_back(float(samples.decibels(double(level)))); });
  return levels;
}

GainTable table_of(const Excerpt& e, const Planar& model, const std::vector<float>& levels) {
  GainTable table;
  for (int p = 0; p < e.pairs(); ++p)
    for (size_t n = 0; n < levels.size(); ++n)
      if (e.told[n]) table.add(double(levels[n]), model.channel(p)[n], e.ret.channel(p)[n]);
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
  LevelLaw best = law_by_pieces(e, t);
  if (best.explained < worth) return best;
  LevelDetector from = best.detector;
  for (const auto of : {LevelDetector::Of::magnitude, LevelDetector::Of::square})
    for (const bool of_mean : {false, true}) {
      if (of_mean && e.pairs() == 1) continue;
      from.of = of, from.of_mean = of_mean;
      LevelLaw law = climbed(e, t, Samples(e, model, of, of_mean), from);
      from = law.detector;
      if (law.explained > best.explained) best = std::move(law);
    }
  const LevelDetector& d = best.detector;
  if (d.of == LevelDetector::Of::decibels || best.explained < worth_polish) return best;
  return polished(e, t, Samples(e, model, d.of, d.of_mean), best);
}

SampleGains::SampleGains(const Excerpt& e, const Planar& model, const DynamicsTrace& t, const LevelLaw& law)
    : every_(law.detector.of == LevelDetector::Of::decibels || law.detector.attack_s > 0 ? 4 : 1) {
  std::vector<float> gains(size_t(e.frames()), 1.f);
  if (law.detector.of != LevelDetector::Of::decibels) {
    const auto levels = levels_by_samples(e, model, t, law.detector);
    GainTable table = table_of(e, model, levels);
    table.solve();
    for (size_t n = 0; n < levels.size(); ++n) gains[n] = float(table.at(double(levels[n])));
  }
  const auto by_pieces = corrections(model, t, gains);
  for (size_t n = 0; n < gains.size(); n += size_t(every_))
    gains_.push_back(gains[n] * float(between(by_pieces, t.piece, double(n) + 0.5)));
}

double SampleGains::at(int64_t place) const {
  const auto k = size_t(place / every_), next = std::min(k + 1, gains_.size() - 1);
  return std::lerp(double(gains_[k]), double(gains_[next]), double(place % every_) / double(every_));
}

StaticCurve static_curve_of(const LevelLaw& whole) {
  constexpr double as_good = 1.5, as_good_db = 0.05, flat_out = -1.02;  // louder comes back as loud: no knee beyond
  const LevelLaw law = above_the_floor(whole);
  StaticCurve best{.error_db = 1e300};
  for (const bool above : {true, false})
    for (const double knee_db : {0.0, 3.0, 6.0, 9.0, 12.0})
      for (double at = law.level_db.front(); at <= law.level_db.back(); at += 0.5) {
        const StaticCurve start{.threshold_db = at, .knee_db = knee_db, .slopes_above = above};
        StaticCurve c =
            fitted(law, start, [&](double level) { return dsp::into_slope(above ? level - at : at - level, knee_db); });
        if (!above) c.slope = -c.slope;
        if (c.error_db < best.error_db && (knee_db == 0 || c.slope > flat_out)) best = c;
      }
  const StaticCurve line = fitted(law, {.threshold_db = law.level_db.front(), .straight = true},
                                  [&](double level) { return level - law.level_db.front(); });
  return line.error_db < as_good * best.error_db + as_good_db ? line : best;
}

}  // namespace heathmist::causes
