// From measurements to the one word for what happened. Every threshold of that decision stands here.
#include <algorithm>
#include <cmath>
#include <numeric>

#include "core/compare/causes/of_pair.hpp"

namespace heathmist {

namespace {

constexpr double exact_db = -100;              // a float return this deep has nothing but arithmetic in its residual
constexpr double gain_step_db = 0.003;         // less is no change of level
constexpr double word_noise_margin_db = 1;     // requantising with dither leaves at most 1 LSB RMS
constexpr double shaped_noise_margin_db = 18;  // with strong noise shaping up to 8 LSB
constexpr double linear_margin_db = 10;        // a filter explains the residual when it takes that much out of it
constexpr double still_slope = 0.06;           // residual dB per dB of programme, under which it takes no notice of it
constexpr double coded_slope = 0.03;           // the same in the treble, where coded hiss stands nearly still too
constexpr double limited_share = 0.98;         // of the residual's energy that lies in the loudest samples
constexpr double limited_from = 0.25;          // ... those above this part of the peak
constexpr double limited_step = 0.002;         // ... and by how much less they come back
constexpr size_t slow_pieces = 75;             // of 20 ms: a gain that moves slower than that follows no peaks
constexpr double gain_move_db = 6;             // what a gain that moves must take out of the residual
constexpr double gain_held_by_level =
    -0.3;  // correlation of that gain with the level: a limiter goes down when it goes up
constexpr double unexplained_share =
    0.4;  // of the residual below the top of the band that no filter explains, in coding noise
constexpr double own_share = 1e-3;  // of the residual that must lie there
constexpr double least_movement_db2 =
    2;  // programme must move this much (variance) before its hold on noise can be seen

double or_silent(std::optional<double> db) { return db.value_or(-400); }

/// The RMS error, in dBFS, that writing the return at its own word length may have made, by a margin.
std::optional<double> word_noise_dbfs(const NullReport& r, double margin_db) {
  if (!r.return_levels.bits_used) return {};
  return 20 * std::log10(std::ldexp(1.0, 1 - *r.return_levels.bits_used)) + margin_db;
}

/// The residual at the return's own level is no more than its word length.
bool within_word_noise(const NullReport& r, double margin_db) {
  const auto noise = word_noise_dbfs(r, margin_db);
  return noise && or_silent(power_db(r.sums.residual)) + r.fit.gain_db <= *noise;
}

bool is_same_level(const NullReport& r) {
  return std::abs(r.fit.gain_db) < gain_step_db && std::string(r.fit.polarity()) == "normal" && !r.fit.swapped();
}

/// Clipping: one gain explains all samples up to some level, and those beyond it come back lower than that.
bool clipped(const NullReport& r) {
  const auto& by = r.sums.by_level;
  double mm = 0, mr = 0, rr = 0, all_mm = 0, all_mr = 0, all_rr = 0;
  for (size_t s = 0; s < size_t(ByLevel::steps); ++s) all_mm += by.mm[s], all_mr += by.mr[s], all_rr += by.rr[s];
  for (size_t s = 0; s + 1 < size_t(ByLevel::steps); ++s) {
    mm += by.mm[s], mr += by.mr[s], rr += by.rr[s];
    if (double(s) < ByLevel::steps * limited_from || mm <= 0 || mr <= 0) continue;
    const double gain = mr / mm;
    const double low = rr - 2 * gain * mr + gain * gain * mm, all = all_rr - 2 * gain * all_mr + gain * gain * all_mm;
    const double above = (all_mr - mr) / std::max(all_mm - mm, 1e-300);
    if (low < (1 - limited_share) * all && above < (1 - limited_step) * gain) return true;
  }
  return false;
}

/// A gain that moves: what it explains, and whether it goes down when the programme goes up. `together` pieces of 20 ms
/// have one gain.
struct MovingGain {
  double taken_out_db = 0, correlation = 0;  ///< of gain with level, weighted by energy
};
MovingGain moving_gain(const NullReport& r, size_t together = 1) {
  const auto& s = r.sums.short_pieces;
  const double g = r.fit.gain();
  double fixed = 0, moving = 0, weight = 0, sx = 0, sy = 0, sxx = 0, sxy = 0, syy = 0;
  for (size_t n = 0; n < s.mm.size(); n += together) {
    double mm = 0, mr = 0, rr = 0;
    for (size_t k = n; k < std::min(n + together, s.mm.size()); ++k)
      mm += double(s.mm[k]), mr += double(s.mr[k]), rr += double(s.rr[k]);
    if (mm <= 0 || mr <= 0) continue;
    fixed += rr - 2 * g * mr + g * g * mm;
    moving += std::max(0.0, rr - mr * mr / mm);
    const double level = 10 * std::log10(mm), gain = 20 * std::log10(mr / mm);
    weight += mm, sx += mm * level, sy += mm * gain, sxx += mm * level * level, sxy += mm * level * gain;
    syy += mm * gain * gain;
  }
  if (weight <= 0 || fixed <= 0) return {};
  const double level_var = sxx / weight - (sx / weight) * (sx / weight);
  const double gain_var = syy / weight - (sy / weight) * (sy / weight), cov = sxy / weight - sx * sy / weight / weight;
  const bool moves = level_var > 0 && gain_var > 0;
  return {10 * std::log10(fixed / std::max(moving, 1e-30)), moves ? cov / std::sqrt(level_var * gain_var) : 0};
}

/// How the residual follows the programme: dB for dB over the cells, within each band over time.
double residual_slope(const DepthCells& cells, double from_hz = 0, double to_hz = 1e9) {
  const int bands = cells.bands(), columns = cells.columns();
  double var = 0, cov = 0, count = 0;
  for (int b = 0; b < bands; ++b) {
    if (cells.band_edges_hz[size_t(b)] < from_hz || cells.band_edges_hz[size_t(b)] >= to_hz) continue;
    std::vector<double> x, y;
    for (int c = 0; c < columns; ++c) {
      const auto at = size_t(c * bands + b);
      if (cells.master[at] < 1e-12f || cells.residual[at] < 1e-18f) continue;
      x.push_back(10 * std::log10(cells.master[at]));
      y.push_back(10 * std::log10(cells.residual[at]));
    }
    if (x.size() < 4) continue;
    const double mx = std::reduce(x.begin(), x.end()) / double(x.size()),
                 my = std::reduce(y.begin(), y.end()) / double(y.size());
    for (size_t n = 0; n < x.size(); ++n) var += (x[n] - mx) * (x[n] - mx), cov += (x[n] - mx) * (y[n] - my);
    count += double(x.size());
  }
  if (count == 0) return 1;
  if (var / count < least_movement_db2) return 0;  // a steady programme has no hold to show: take noise for noise
  return cov / var;
}

constexpr double folded_most = 0.3;  // of the remainder: no coding noise is aliased programme

/// Coding takes the top of the band away, or leaves least of it there; below the top no filter explains what it does,
/// and in the treble too its noise follows the programme (where noise was merely added beside a filter it stands
/// still).
bool looks_coded(const NullReport& r) {
  const auto& s = r.sums;
  const double edge = 0.75 * std::min(r.return_bandwidth_hz.value_or(20000), 20000.0);
  const double residual = power_between(s.residual_spectrum, 100, edge),
               remainder = power_between(s.remainder_spectrum, 100, edge);
  if (r.folded_share > folded_most || remainder < unexplained_share * residual || residual < own_share * s.residual)
    return false;
  if (residual_slope(s.depth, 3000, 12000) < coded_slope) return false;
  if (r.master_bandwidth_hz && r.return_bandwidth_hz && *r.return_bandwidth_hz < 0.97 * *r.master_bandwidth_hz)
    return true;
  auto depth = [&](double from_hz, double to_hz) {
    return or_silent(
        power_db(power_between(s.residual_spectrum, from_hz, to_hz), power_between(s.master_spectrum, from_hz, to_hz)));
  };
  return depth(6000, 16000) > depth(100, 1500) + 3;
}

Kind explained_to_the_last_bit(const NullReport& r) {
  if (!is_same_level(r)) return Kind::level;
  return r.sums.residual > 0 && fewer_bits(r) && r.fit.delay_samples == std::round(r.fit.delay_samples)
             ? Kind::word_length
             : Kind::shifted;
}

Kind kind_of_residual(const NullReport& r) {
  if (r.sums.residual == 0) return explained_to_the_last_bit(r);
  const double relative = or_silent(r.sums.residual_relative_db()),
               remainder = or_silent(r.sums.remainder_relative_db());
  const bool whole_delay = r.fit.delay_samples == std::round(r.fit.delay_samples);
  if (!r.ret.lossy && (relative < exact_db || within_word_noise(r, word_noise_margin_db))) {
    const bool dither_only = is_same_level(r) && whole_delay && !fewer_bits(r) && relative >= exact_db;
    return dither_only ? Kind::noise : explained_to_the_last_bit(r);
  }
  if (r.ret.lossy) return Kind::lossy;
  const double slope = residual_slope(r.sums.depth);
  if (fewer_bits(r) && whole_delay && is_same_level(r) && slope < still_slope &&
      within_word_noise(r, shaped_noise_margin_db))
    return Kind::word_length;
  if (clipped(r)) return Kind::limited;
  if (moving_gain(r, slow_pieces).taken_out_db > gain_move_db) return Kind::changed;  // a hand on a fader
  const auto moving = moving_gain(r);
  if (moving.taken_out_db > gain_move_db && moving.correlation < gain_held_by_level &&
      remainder > relative - linear_margin_db)
    return Kind::limited;
  if (slope >= still_slope && looks_coded(r)) return Kind::lossy;
  if (remainder < relative - linear_margin_db) return Kind::linear;
  if (remainder < relative - 3) return Kind::changed;
  return slope < still_slope ? Kind::noise : Kind::changed;
}

}  // namespace

bool is_silent(const NullReport& r) { return r.return_levels.sample_peak < 1e-5 && r.master_levels.sample_peak > 1e-3; }

std::optional<int> bits_of_return(const NullReport& r) {
  for (const Cause& c : r.causes)
    if (c.code == "word_length") return c.values["bits"].get<int>();
  return r.return_levels.bits_used;
}

bool fewer_bits(const NullReport& r) {
  const auto bits = bits_of_return(r);
  return bits && (!r.master_levels.bits_used || *bits < *r.master_levels.bits_used);
}

Kind kind_of(const NullReport& r) {
  if (r.identical) return Kind::identical;
  if (is_silent(r)) return Kind::changed;
  if (!r.fit.trusted) return Kind::unrelated;
  if (r.explained) return kind_by_causes(r.causes, r);
  if (r.breaks > 0) return Kind::changed;
  const Kind kind = kind_of_residual(r);
  if (r.master.sample_rate_hz == r.ret.sample_rate_hz) return kind;
  const bool faults_beyond = kind == Kind::lossy || kind == Kind::limited;
  return faults_beyond && or_silent(r.sums.remainder_relative_db()) > -50 ? kind : Kind::converted;
}

}  // namespace heathmist
