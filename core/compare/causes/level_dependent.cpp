// A gain that follows the programme's own level: limiter, compressor, expander.
#include <algorithm>
#include <cmath>

#include "core/compare/causes/estimates.hpp"
#include "core/compare/causes/gain_curve.hpp"
#include "core/dsp/median.hpp"

namespace heathmist::causes {

namespace {

constexpr double piece_s = 0.004;
constexpr double least_range_db = 0.15;
constexpr double least_fast = 0.02;
constexpr double follows = 0.35;           // share of the gain's variance that the level must explain
constexpr double limiter_spread_db = 1.0;  // of the return's peaks where the gain is down
constexpr double limiter_ratio = 8;
constexpr double steepest = -1.5;        // dB a dB: louder peaks come back quieter, as where something fades in
constexpr double same_height_db = 0.02;  // of peaks that a limiter brought back, where there are only a few
constexpr double limiter_rise = 0.15;    // dB by which a peak comes back higher where it is a dB higher

struct Trace {
  int64_t piece = 1;
  std::vector<double> gain;      // of a piece; that of its neighbours where the model is silent
  std::vector<double> level_db;  // of the model: greatest |sample| of any channel
  std::vector<double> return_db;
  std::vector<double> weight;
  double at(double n) const {
    const double place = std::clamp(n / double(piece) - 0.5, 0.0, double(gain.size() - 1));
    const auto k = size_t(place), next = std::min(k + 1, gain.size() - 1);
    return gain[k] + (place - double(k)) * (gain[next] - gain[k]);
  }
};

Trace trace_of(const Excerpt& e, const Planar& model) {
  Trace t{std::max<int64_t>(8, int64_t(piece_s * e.rate_hz)), {}, {}, {}, {}};
  const GainCurve c = gain_curve(e, model, t.piece);
  double last = 1;
  for (size_t n = 0; n < c.pieces.size(); ++n) {
    const auto& p = c.pieces[n];
    double peak = 1e-9, back = 1e-9;
    for (int ch = 0; ch < e.pairs(); ++ch)
      for (int64_t k = int64_t(n) * t.piece; k < std::min(e.frames(), (int64_t(n) + 1) * t.piece); ++k) {
        peak = std::max(peak, std::abs(model.channel(ch)[size_t(k)]));
        back = std::max(back, std::abs(e.ret.channel(ch)[size_t(k)]));
      }
    const bool tells = p.mm > 1e-6 * c.loudest && p.mr > 0 && p.mr * p.mr > 0.8 * p.mm * p.rr;
    if (tells) last = p.gain();
    t.gain.push_back(last), t.weight.push_back(tells ? p.mm : 0);
    t.level_db.push_back(20 * std::log10(peak)), t.return_db.push_back(20 * std::log10(back));
  }
  for (size_t n = t.gain.size(); n-- > 1;)  // what sets in comes back at its own gain from its first sample on
    if (t.weight[n] > 0 && t.weight[n - 1] == 0) t.gain[n - 1] = t.gain[n];
  return t;
}

/// The level as a detector with these times sees it, in dB.
std::vector<double> detected(const Trace& t, double attack_s, double release_s) {
  std::vector<double> out;
  const double up = 1 - std::exp(-piece_s / std::max(1e-6, attack_s)), down = 1 - std::exp(-piece_s / release_s);
  double now = t.level_db.front();
  for (const double db : t.level_db) {
    now += (db - now) * (db > now ? (attack_s <= 0 ? 1 : up) : down);
    out.push_back(now);
  }
  return out;
}

/// Mean gain in dB over steps of 1 dB of the detected level, and the share of its variance that this explains.
struct LevelLaw {
  std::vector<double> level, gain, weight;
  double explained = 0, attack_s = 0, release_s = 0;
};
LevelLaw law_of(const Trace& t, const std::vector<double>& level) {
  constexpr double low = -90, step = 1;
  std::vector<double> sum(92, 0), weight(92, 0);
  double all = 0, mean = 0, square = 0;
  const auto of = [&](size_t n) { return std::sqrt(t.weight[n]); };
  for (size_t n = 0; n < t.gain.size(); ++n) {
    if (t.weight[n] <= 0 || t.gain[n] <= 1e-4) continue;
    const double g = 20 * std::log10(t.gain[n]);
    const auto bin = size_t(std::clamp((level[n] - low) / step, 0.0, 91.0));
    sum[bin] += of(n) * g, weight[bin] += of(n), all += of(n), mean += of(n) * g, square += of(n) * g * g;
  }
  LevelLaw law;
  if (!(all > 0)) return law;
  mean /= all;
  double between = 0;
  for (size_t k = 0; k < sum.size(); ++k) {
    if (weight[k] < 1e-4 * all) continue;
    between += weight[k] * std::pow(sum[k] / weight[k] - mean, 2);
    law.level.push_back(low + (double(k) + 0.5) * step), law.gain.push_back(sum[k] / weight[k]);
    law.weight.push_back(weight[k] / all);
  }
  const double variance = square / all - mean * mean;
  law.explained = variance > 0 ? between / all / variance : 0;
  return law;
}

LevelLaw best_law(const Trace& t) {
  LevelLaw best;
  for (const double attack : {0.0, 0.003, 0.01, 0.03, 0.1})
    for (const double release : {0.01, 0.03, 0.1, 0.2, 0.4, 1.0}) {
      LevelLaw law = law_of(t, detected(t, attack, release));
      if (law.explained > best.explained) best = law, best.attack_s = attack, best.release_s = release;
    }
  return best;
}

/// Two straight lines with a corner: flat on one side, sloped on the other.
struct Corner {
  double at = 0, slope = 0, flat = 0, error = 1e300;
  bool above = true;  ///< sloped above the corner
};
Corner corner_of(const LevelLaw& law) {
  Corner best;
  for (const bool above : {true, false})
    for (double at = law.level.front(); at <= law.level.back(); at += 0.5) {
      double w = 0, sx = 0, sy = 0, sxx = 0, sxy = 0;
      for (size_t k = 0; k < law.level.size(); ++k) {
        const double x = above ? std::max(0.0, law.level[k] - at) : std::min(0.0, law.level[k] - at);
        w += law.weight[k], sx += law.weight[k] * x, sy += law.weight[k] * law.gain[k];
        sxx += law.weight[k] * x * x, sxy += law.weight[k] * x * law.gain[k];
      }
      const double bend = w * sxx - sx * sx;
      if (!(bend > 1e-9)) continue;
      Corner c{at, (w * sxy - sx * sy) / bend, 0, 0, above};
      c.flat = (sy - c.slope * sx) / w;
      for (size_t k = 0; k < law.level.size(); ++k) {
        const double x = above ? std::max(0.0, law.level[k] - at) : std::min(0.0, law.level[k] - at);
        c.error += law.weight[k] * std::pow(c.flat + c.slope * x - law.gain[k], 2);
      }
      if (c.error < best.error) best = c;
    }
  return best;
}

/// Share of the gain's movement (in dB, weighted) that is faster than a third of a second: a hand moves slower.
double fast_share(const Trace& t) {
  const auto reach = int64_t(0.17 / piece_s);
  const auto count = int64_t(t.gain.size());
  std::vector<double> sum{0}, weight{0};
  for (int64_t n = 0; n < count; ++n) {
    const double w = std::sqrt(t.weight[size_t(n)]);
    sum.push_back(sum.back() + w * 20 * std::log10(std::max(1e-4, t.gain[size_t(n)]))),
        weight.push_back(weight.back() + w);
  }
  const double mean = weight.back() > 0 ? sum.back() / weight.back() : 0;
  double fast = 0, all = 0;
  for (int64_t n = 0; n < count; ++n) {
    const auto from = size_t(std::max<int64_t>(0, n - reach)), to = size_t(std::min(count, n + reach + 1));
    const double w = std::sqrt(t.weight[size_t(n)]), around = weight[to] - weight[from];
    if (!(around > 0)) continue;
    const double db = 20 * std::log10(std::max(1e-4, t.gain[size_t(n)]));
    fast += w * std::pow(db - (sum[to] - sum[from]) / around, 2), all += w * std::pow(db - mean, 2);
  }
  return all > 0 ? fast / all : 0;
}

/// Peaks of the programme that the gain has just come down for: what they would come back at, and do.
struct Peaks {
  std::vector<double> would, does;
};
Peaks peaks_turned_down(const Trace& t, double usual_db, double most_db) {
  Peaks peaks;
  for (size_t n = 1; n + 1 < t.gain.size(); ++n) {
    if (t.weight[n] <= 0 || t.gain[n] > t.gain[n - 1] || t.gain[n] > t.gain[n + 1]) continue;
    const double down = 20 * std::log10(std::max(1e-4, t.gain[n])) - usual_db;
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

/// A limiter brings peaks of any height back at one level.
bool limits(const Peaks& peaks, double ratio) {
  if (ratio > limiter_ratio) return true;
  auto does = peaks.does;
  std::sort(does.begin(), does.end());
  if (does.size() < 4) return does.size() > 1 && does.back() - does.front() < same_height_db;
  const double spread = does[does.size() * 9 / 10] - does[does.size() / 4];
  const bool steep = ratio > limiter_ratio / 3;
  if (const auto rise = rise_of(peaks)) return *rise < limiter_rise && spread < (steep ? 2 : 1) * limiter_spread_db;
  return steep && spread < 2 * limiter_spread_db;
}

}  // namespace

std::optional<Found> estimate_dynamics(const Excerpt& e, const Model& model) {
  const Trace t = trace_of(e, model);
  if (t.gain.size() < 50 || fast_share(t) < least_fast) return {};
  const LevelLaw law = best_law(t);
  if (law.explained < follows || law.level.size() < 3) return {};
  const Corner corner = corner_of(law);
  if (corner.above && corner.slope < steepest) return {};
  std::vector<double> db;
  double weight = 0, mean = 0;
  for (size_t n = 0; n < t.gain.size(); ++n)
    if (t.weight[n] > 0) db.push_back(20 * std::log10(std::max(1e-4, t.gain[n])));
  if (db.size() < 50) return {};
  std::sort(db.begin(), db.end());
  const double usual = db[db.size() * 9 / 10], most = db[db.size() / 1000] - usual;
  if (-most < least_range_db) return {};
  for (size_t n = 0; n < t.gain.size(); ++n)
    if (t.weight[n] > 0)
      weight += t.weight[n], mean += t.weight[n] * std::min(0.0, 20 * std::log10(std::max(1e-4, t.gain[n])) - usual);
  const bool falls = corner.slope < 0;  // less gain the louder it is
  const double ratio = falls ? 1 / std::max(1e-3, 1 + corner.slope) : 1 + corner.slope;
  const Peaks peaks = peaks_turned_down(t, usual, most);
  Cause c{.code = !falls ? "expander" : limits(peaks, ratio) ? "limiter" : "compressor"};
  for (int p = 0; p < e.pairs(); ++p) c.channels.push_back(p);
  c.values = {{"threshold_dbfs", corner.at},
              {"most_reduction_db", -most},
              {"mean_reduction_db", weight > 0 ? -mean / weight : 0},
              {"makeup_db", usual},
              {"attack_ms", 1000 * law.attack_s},
              {"release_ms", 1000 * law.release_s},
              {"follows", law.explained}};
  if (c.code == "limiter")
    c.values["ceiling_dbfs"] =
        peaks.does.empty() ? Json(nullptr) : Json(*std::max_element(peaks.does.begin(), peaks.does.end()));
  else
    c.values["ratio"] = ratio;
  return Found{c, [t, own = static_cast<const Places&>(e)](const Places& where, Planar& m) {
                 where.each_shared(own, [&](int64_t at, int64_t in_own, int64_t frames) {
                   for (int64_t n = 0; n < frames; ++n) {
                     const double gain = t.at(double(in_own + n) + 0.5);
                     for (int p = 0; p < m.channels(); ++p) m.channel(p)[size_t(at + n)] *= gain;
                   }
                 });
               }};
}

}  // namespace heathmist::causes
