// What the rest is: the error of a word length, coding noise, noise, another programme. Each by its own evidence.
#include <algorithm>
#include <array>
#include <cmath>
#include <numeric>

#include "core/compare/causes/budget.hpp"
#include "core/compare/causes/rest_lines.hpp"
#include "core/compare/requantised.hpp"
#include "core/dsp/fft.hpp"
#include "core/dsp/median.hpp"

namespace heathmist::causes {

namespace {

constexpr size_t fft_size = 2048;
constexpr double still_slope = 0.08;  // dB of the rest per dB of programme, under which it takes no notice of it
constexpr double keeps_time_slope = 0.25;
constexpr double unlike = 0.15;           // correlation, up to which it is nothing like it, however their levels lie
constexpr double least_movement_db2 = 2;  // the programme must move this much before its hold can be seen
constexpr double least_noise_db = -112;
constexpr double loud_db = -60;    // a programme's level, from which on it is told from noise
constexpr double coherent_db = 6;  // what a filter takes out by itself is the programme's
constexpr double most_in_few_moments = 0.5;
constexpr double programme_moves_db = 3.5;  // a programme's bands move by that; noise of any colour stands still
constexpr double model_error_db = 12;
constexpr double most_alike = 0.45;  // correlation, from which on it is the programme's own
constexpr double most_alike_with_lines = 0.8;
constexpr double least_lines = 0.1, least_own = 0.1;      // shares: notes of its own
constexpr double few_own = 0.015, hardly_coherent = 0.2;  // ... or so few, where nothing is made of the programme
constexpr double most_lines_in_noise = 0.5;
constexpr double most_coherent = 0.4;  // of what is no programme of its own
// Of what is none of the programme's, whatever was taken out before it.
constexpr double hardly_like = 0.25, few_coherent = 0.12;
constexpr double too_loud_db = -6;  // beside other causes: then it is not known what these left of the programme
constexpr int many_lines = 10;      // more than hum or tones that were not found
constexpr double shaped_tilt_db = 6;
constexpr double most_shaped_steps2 = 400, most_crest = 12;  // noise has no peaks like a programme's

/// Levels of model and rest over time in third octaves.
struct Cells {
  int bands = 0;
  std::vector<double> model, rest;  // columns x bands, dB
  std::vector<double> spectrum;     // of the rest, mean power per bin
  std::vector<double> columns;      // of the rest, power in all bins
  std::vector<int64_t> at;          // place of each column
  double coherent = 0;              // share of the rest that a gain free to move over time and band makes of the model
  double bin_hz = 1, column_s = 1;
};

/// What of the rest in some bins is the model's, turned and scaled: the sum of cross-spectra, squared, over the model's
/// power (least squares with one complex number).
double coherent_power(dsp::RealFft<double>& model, dsp::RealFft<double>& rest, size_t from, size_t to) {
  std::complex<double> cross = 0;
  double power = 1e-30;
  for (size_t k = from; k < to; ++k)
    cross += rest.spectrum()[k] * std::conj(model.spectrum()[k]), power += std::norm(model.spectrum()[k]);
  return std::norm(cross) / power;
}

Cells cells_of(const Excerpt& e, const Planar& model) {
  constexpr size_t several = 12;  // bins of a cell: of fewer too much is coherent by chance
  Cells c;
  c.bin_hz = double(e.rate_hz) / double(fft_size);
  c.spectrum.assign(fft_size / 2 + 1, 0);
  std::vector<size_t> edges;
  for (double hz = 150; hz < 0.49 * e.rate_hz; hz *= std::cbrt(2.0)) edges.push_back(size_t(std::ceil(hz / c.bin_hz)));
  c.bands = int(edges.size()) - 1;
  dsp::RealFft<double> a(fft_size), b(fft_size);
  const auto window = dsp::hann(fft_size);
  const int64_t hop = std::max<int64_t>(int64_t(fft_size), e.frames() / 4000);
  c.column_s = double(hop) / e.rate_hz;
  double coherent = 0, of = 0;
  for (int64_t at = 0; at + int64_t(fft_size) <= e.frames(); at += hop) {
    if (!e.told[size_t(at)] || !e.told[size_t(at) + fft_size - 1]) continue;
    std::vector<double> m(size_t(c.bands), 0), r(size_t(c.bands), 0);
    double all = 0;
    for (int p = 0; p < e.pairs(); ++p) {
      for (size_t n = 0; n < fft_size; ++n) {
        const double x = model.channel(p)[size_t(at) + n];
        a.time()[n] = window[n] * x, b.time()[n] = window[n] * (e.ret.channel(p)[size_t(at) + n] - x);
      }
      a.forward(), b.forward();
      for (size_t k = 0; k < c.spectrum.size(); ++k)
        c.spectrum[k] += std::norm(b.spectrum()[k]), all += std::norm(b.spectrum()[k]);
      for (int band = 0; band < c.bands; ++band) {
        const size_t from = edges[size_t(band)], to = edges[size_t(band) + 1];
        double power = 0;
        for (size_t k = from; k < to; ++k)
          m[size_t(band)] += std::norm(a.spectrum()[k]), power += std::norm(b.spectrum()[k]);
        r[size_t(band)] += power;
        if (to - from >= several) coherent += coherent_power(a, b, from, to), of += power;
      }
    }
    c.columns.push_back(all), c.at.push_back(at);
    for (int band = 0; band < c.bands; ++band) {
      c.model.push_back(10 * std::log10(m[size_t(band)] + 1e-18));
      c.rest.push_back(10 * std::log10(r[size_t(band)] + 1e-18));
    }
  }
  c.coherent = of > 0 ? coherent / of : 0;
  return c;
}

constexpr double hardly_there = 1e-5;  // of the most
constexpr size_t least_columns = 12;

/// What is there for a moment only has no spectrum that noise, or another programme, would be known by.
bool is_of_a_moment(const Cells& c) {
  if (c.columns.size() < 2 * least_columns) return false;
  const double least = hardly_there * *std::max_element(c.columns.begin(), c.columns.end());
  return size_t(std::count_if(c.columns.begin(), c.columns.end(), [&](double v) { return v > least; })) < least_columns;
}

/// The columns in which there is a rest at all, where it sets in and ends but few times; all, where it is there
/// throughout, or comes and goes.
Cells where_it_is(const Cells& c) {
  constexpr size_t most_runs = 3;
  if (c.columns.empty()) return c;
  const double least = hardly_there * *std::max_element(c.columns.begin(), c.columns.end());
  Cells there = c;
  there.model.clear(), there.rest.clear(), there.columns.clear(), there.at.clear();
  size_t runs = 0;
  for (size_t k = 0; k < c.columns.size(); ++k) {
    if (c.columns[k] <= least) continue;
    runs += k == 0 || c.columns[k - 1] <= least;
    const auto from = long(k) * c.bands;
    there.model.insert(there.model.end(), c.model.begin() + from, c.model.begin() + from + c.bands);
    there.rest.insert(there.rest.end(), c.rest.begin() + from, c.rest.begin() + from + c.bands);
    there.columns.push_back(c.columns[k]), there.at.push_back(c.at[k]);
  }
  return runs <= most_runs && there.columns.size() >= least_columns ? there : c;
}

struct Behaviour {
  double slope = 0;     ///< dB of the rest for a dB of programme, within each band; as much of it as lies there
  double moves_db = 0;  ///< deviation of the rest's level, median over bands
};
Behaviour behaviour_of(const Cells& c) {
  Behaviour b;
  const int columns = c.bands ? int(c.rest.size()) / c.bands : 0;
  if (columns < 4) return b;
  double var = 0, cov = 0, count = 0;
  std::vector<double> moves;
  const double most = *std::max_element(c.model.begin(), c.model.end());
  for (int band = 0; band < c.bands; ++band) {
    double sx = 0, sy = 0, sxx = 0, sxy = 0, syy = 0, n = 0, ry = 0, ryy = 0;
    for (int k = 0; k < columns; ++k) {
      const double x = c.model[size_t(k * c.bands + band)], y = c.rest[size_t(k * c.bands + band)];
      ry += y, ryy += y * y;
      if (x < most - 110 || y < -150) continue;
      sx += x, sy += y, sxx += x * x, sxy += x * y, syy += y * y, n += 1;
    }
    moves.push_back(std::sqrt(std::max(0.0, ryy / columns - ry / columns * ry / columns)));
    if (n < 4) continue;
    const double weight = std::pow(10, ry / columns / 10);
    var += weight * (sxx - sx * sx / n), cov += weight * (sxy - sx * sy / n), count += weight * n;
  }
  if (count > 0 && var / count >= least_movement_db2) b.slope = cov / var;
  std::nth_element(moves.begin(), moves.begin() + long(moves.size() / 2), moves.end());
  b.moves_db = moves[moves.size() / 2];
  return b;
}

/// Greatest correlation of the two patterns of level over time and band, at any shift of up to two seconds: what is
/// made of the programme (a tail, the programme at another place) moves as it does, earlier or later.
double resemblance(const Cells& c, double column_s) {
  const int columns = c.bands ? int(c.rest.size()) / c.bands : 0, reach = std::min(int(2 / column_s), columns / 3);
  const auto centred = [&](std::vector<double> db) {
    const double floor = *std::max_element(db.begin(), db.end()) - 90;
    for (int band = 0; band < c.bands; ++band) {
      double sum = 0;
      for (int k = 0; k < columns; ++k) {
        double& v = db[size_t(k * c.bands + band)];
        sum += v = std::max(v, floor);
      }
      for (int k = 0; k < columns; ++k) db[size_t(k * c.bands + band)] -= sum / columns;
    }
    return db;
  };
  if (columns < 12) return 0;
  const auto model = centred(c.model), rest = centred(c.rest);
  double most = 0;
  for (int lag = -reach; lag <= reach; ++lag) {
    double xy = 0, xx = 0, yy = 0;
    for (int k = std::max(0, -lag); k < std::min(columns, columns - lag); ++k)
      for (int band = 0; band < c.bands; ++band) {
        const double x = model[size_t(k * c.bands + band)], y = rest[size_t((k + lag) * c.bands + band)];
        xy += x * y, xx += x * x, yy += y * y;
      }
    if (xx > 0 && yy > 0) most = std::max(most, xy / std::sqrt(xx * yy));
  }
  return most;
}

/// Mean square of a Hann window's transform, one-sided, of `pairs` channels together.
double scale_of(int pairs) { return 2 / (0.375 * double(fft_size) * double(fft_size) * pairs); }

/// What most moments hold: an edge, or a click that was not found, is not noise.
double usual_power(const Cells& c, int pairs) {
  return c.columns.empty() ? 0 : dsp::median(c.columns) * scale_of(pairs);
}

double density_db(const std::vector<double>& s, double from, double to) {
  const auto low = std::max<size_t>(2, size_t(double(s.size()) * from)), high = size_t(double(s.size()) * to);
  return 10 * std::log10(std::reduce(s.begin() + long(low), s.begin() + long(high)) / double(high - low) + 1e-30);
}

double log_mean_in_steps(const Cells& c, int pairs, double step) {
  return log_mean_density(c.spectrum) * scale_of(pairs) / double(std::max<size_t>(1, c.columns.size())) / (step * step);
}

WordError error_of(const Excerpt& e, const Planar& model, double step) {
  WordErrorSums sums;
  for (int p = 0; p < e.pairs(); ++p)
    for (size_t n = 0; n < size_t(e.frames()); ++n)
      if (e.told[n]) {
        const double x = model.channel(p)[n];
        sums.add((e.ret.channel(p)[n] - x) / step, x / step);
      }
  return sums.moments();
}

/// The pairs that hold what is left, where others hold next to nothing of it.
std::vector<int> loud_pairs(const Excerpt& e, const Planar& model) {
  constexpr double next_to_nothing = 1e-3;
  std::vector<double> power;
  for (int p = 0; p < e.pairs(); ++p) {
    const auto left = left_of(e, model, p);
    power.push_back(std::inner_product(left.begin(), left.end(), left.begin(), 0.0));
  }
  const double most = *std::max_element(power.begin(), power.end());
  std::vector<int> loud;
  for (int p = 0; p < e.pairs(); ++p)
    if (power[size_t(p)] > next_to_nothing * most) loud.push_back(p);
  return loud;
}

std::optional<Cause> word_length(const Excerpt& e, const Planar& model, const BudgetFacts& facts, const Cells& cells,
                                 const Behaviour& behaviour) {
  if (!facts.bits) return {};
  const double step = std::ldexp(1.0, 1 - *facts.bits) / std::pow(10, facts.gain_db / 20);
  const WordError error = error_of(e, model, step);
  constexpr double most_mean = 0.65;  // half a step is cutting's: more is an offset
  if (std::abs(error.mean) > most_mean) return {};
  const double tilt = density_db(cells.spectrum, 0.75, 0.97) - density_db(cells.spectrum, 0.02, 0.25);
  const bool shaped = std::abs(tilt) > shaped_tilt_db && error.variance > 0.2 && error.variance < most_shaped_steps2 &&
                      behaviour.slope < still_slope && error.reach < most_crest * std::sqrt(error.variance) &&
                      log_mean_in_steps(cells, e.pairs(), step) < most_shaped_log_mean;
  const bool plain = error.variance < 0.45;
  if (!plain && !shaped) return {};
  constexpr double half_a_step = 0.15;  // tolerance
  const bool towards_zero = error.is_towards_zero(half_a_step);
  const bool truncated = error.is_truncated(half_a_step) || towards_zero;
  const double reach = error.reach - (truncated ? 0.5 : 0), variance = error.dither_variance(half_a_step);
  const auto near = [&](double expected) { return std::abs(variance - expected) < 0.15 * expected + 0.004; };
  const char* dither = shaped                         ? "shaped"
                       : variance < 0.125             ? "none"
                       : near(1.0 / 6) && reach < 1.1 ? "rectangular"
                       : near(1.0 / 4)                ? "triangular"
                                                      : "other";
  Cause c{.code = "word_length"};
  for (int p = 0; p < e.pairs(); ++p) c.channels.push_back(p);
  c.values = {{"bits", *facts.bits},      {"truncated", truncated},   {"towards_zero", towards_zero},
              {"dither", dither},         {"mean_steps", error.mean}, {"variance_steps2", error.variance},
              {"peak_steps", error.reach}};
  if (shaped) c.values["tilt_db"] = tilt;
  if (towards_zero) c.values["level_db"] = 20 * std::log10(1 + error.by_value);
  return c;
}

/// The error of the word length that a return of another rate was written to, by the density of noise over the band
/// that both share, brought to all of the return's: a twelfth of a step squared, with dither a sixth or a quarter
/// (Lipshitz, Wannamaker and Vanderkooy 1992); or shaped, and louder. Louder and not shaped is noise.
std::optional<Cause> word_length_elsewhere(const Excerpt& e, const BudgetFacts& facts, const Cells& cells,
                                           double level_dbfs) {
  constexpr double near_db = 0.8, most_steps2 = 0.45, softest_db = -14, loudest_db = 18;
  if (!facts.bits_elsewhere || *facts.bits_elsewhere >= 24) return {};
  const double shared = std::min(1.0, double(facts.rate_elsewhere_hz) / e.rate_hz);
  const double scale = scale_of(e.pairs()) * facts.rate_elsewhere_hz / cells.bin_hz / 2 / double(cells.columns.size());
  const double step_db = 20 * std::log10(std::ldexp(1.0, 1 - *facts.bits_elsewhere));
  const double steps_db =
      density_db(cells.spectrum, 0.05 * shared, 0.6 * shared) + 10 * std::log10(scale) + facts.gain_db - step_db;
  const double tilt =
      density_db(cells.spectrum, 0.7 * shared, 0.9 * shared) - density_db(cells.spectrum, 0.02 * shared, 0.25 * shared);
  const bool shaped = tilt > shaped_tilt_db && level_dbfs - step_db < loudest_db;
  const bool plain = steps_db > softest_db && steps_db < 10 * std::log10(most_steps2);
  if (!shaped && !plain) return {};
  const auto near = [&](double steps2) { return std::abs(steps_db - 10 * std::log10(steps2)) < near_db; };
  const char* dither = shaped           ? "shaped"
                       : near(1.0 / 12) ? "none"
                       : near(1.0 / 6)  ? "rectangular"
                       : near(1.0 / 4)  ? "triangular"
                                        : nullptr;
  Cause c{.code = "word_length"};
  for (int p = 0; p < e.pairs(); ++p) c.channels.push_back(p);
  c.values = {{"bits", *facts.bits_elsewhere}, {"truncated", dither ? Json(false) : Json(nullptr)}};
  c.values["dither"] = dither ? Json(dither) : Json(nullptr);
  return c;
}

/// Whether what is so loud is another programme: it moves as none of the programme's own would, or has notes of its
/// own. Music that was laid on top keeps time with it, and takes some notice.
struct LoudRest {
  bool is_programme = false;
  double in_lines = 0;  // share of its power, where that was looked at
  double like = 1;      // the programme: correlation
};
LoudRest loud_rest(const Excerpt& e, const Planar& model, const Cells& cells, const Behaviour& behaviour, bool moves,
                   bool as_the_gain_may) {
  const double like = resemblance(cells, cells.column_s), slope = behaviour.slope;
  if (moves && !as_the_gain_may && (like < unlike || (like < most_alike && slope < keeps_time_slope)))
    return {true, 0, like};
  const RestLines lines = lines_in_rest(e, model);
  const bool own_notes = lines.share > least_lines &&
                         lines.own > (cells.coherent < hardly_coherent ? few_own : least_own) &&
                         like < most_alike_with_lines;
  const bool held_notes =
      !moves && lines.share > most_lines_in_noise && lines.count >= many_lines && slope < still_slope;
  return {own_notes || held_notes, lines.share, like};
}

}  // namespace

bool is_error_of_word_length(const Excerpt& e, const Planar& model, const BudgetFacts& facts) {
  if (facts.lossy || !facts.bits || !relative_db(power_left(e, model), e.master_power)) return false;
  const Cells cells = cells_of(e, model);
  const auto word = word_length(e, model, facts, cells, behaviour_of(cells));
  if (!word) return false;
  constexpr double most_steps = 8;  // that rounding and any dither keep to: what goes beyond was added
  const double variance = word->values["variance_steps2"].get<double>();
  return word->values["peak_steps"].get<double>() < std::max(most_steps, most_crest * std::sqrt(variance));
}

std::optional<Cause> cause_of_rest(const Excerpt& e, const Planar& model, const BudgetFacts& facts) {
  const double rest = power_left(e, model);
  const auto rest_db = relative_db(rest, e.master_power);
  if (!rest_db) return {};
  const Cells all = cells_of(e, model);
  Cause c;
  for (int p = 0; p < e.pairs(); ++p) c.channels.push_back(p);
  if (facts.lossy) {
    c.code = "lossy", c.values = facts.lossy_values;
    return c;
  }
  if (auto word = word_length(e, model, facts, all, behaviour_of(all))) {
    if (*facts.bits >= 24 && (!facts.fit_is_plain || facts.taken_db))
      return {};  // as all is written that was worked out
    return word;
  }
  if (is_of_a_moment(all)) return {};
  const Cells cells = where_it_is(all);
  const Behaviour behaviour = behaviour_of(cells);
  const bool is_loud = *rest_db > loud_db, moves = is_loud && behaviour.moves_db > programme_moves_db;
  if (facts.linear_left_db && !facts.taken_db && *rest_db > *facts.linear_left_db + coherent_db) return {};
  if (cells.coherent > most_coherent) return {};  // a gain that moves over time and band makes it of the programme
  const LoudRest on_top = is_loud ? loud_rest(e, model, cells, behaviour, moves, facts.gain_follows) : LoudRest{};
  double level_dbfs = 10 * std::log10(rest) + facts.gain_db;
  if (on_top.is_programme) {
    // What a filter or a compressor is not known better by lies far under what it took out, and is like the programme.
    const bool may_be_model_error = facts.taken_db && *rest_db < *facts.taken_db - model_error_db;
    if (may_be_model_error && (on_top.like > hardly_like || cells.coherent > few_coherent)) return {};
    if (facts.taken_db && *rest_db > too_loud_db) return {};
    c.code = "other_programme", c.values = {{"level_db", *rest_db}, {"level_dbfs", level_dbfs}};
    return c;
  }
  if (moves || on_top.in_lines > most_lines_in_noise || *rest_db < least_noise_db || behaviour.slope > still_slope)
    return {};
  const bool steady = behaviour.moves_db < 3;
  if (facts.taken_db && !steady) return {};
  const double usual = usual_power(cells, e.pairs());
  const bool in_part = cells.columns.size() < all.columns.size();
  if (in_part && e.whole)
    c.from_s = e.seconds_at(cells.at.front()), c.until_s = e.seconds_at(cells.at.back() + int64_t(fft_size));
  if (steady && (in_part || usual < most_in_few_moments * rest)) {
    level_dbfs = 10 * std::log10(usual + 1e-30) + facts.gain_db;
    if (relative_db(usual, e.master_power).value_or(-999) < least_noise_db) return {};
  }
  const double low = density_db(cells.spectrum, 0.01, 0.05), high = density_db(cells.spectrum, 0.5, 0.9);
  c.code = "noise";
  if (const auto loud = loud_pairs(e, model); loud.size() < size_t(e.pairs())) c.channels = loud;
  c.values = {{"level_dbfs", level_dbfs},
              {"level_db", *rest_db},
              {"colour", std::abs(high - low) < 3 ? "white"
                         : high < low             ? "falling"
                                                  : "rising"},
              {"tilt_db", high - low},
              {"steady", steady}};
  if (steady)
    if (auto word = word_length_elsewhere(e, facts, cells, level_dbfs)) return word;
  return c;
}

}  // namespace heathmist::causes
