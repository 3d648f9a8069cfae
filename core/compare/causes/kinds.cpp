// From causes to the one word. Every threshold of that decision stands here.
#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include "core/compare/causes/of_pair.hpp"

namespace heathmist {

namespace {

constexpr double matters_db = -60;  // what a cause takes out, against the master, from where on it counts by itself
constexpr double beside_coding_db = 10;    // what another cause must take out to be named beside coding
constexpr double beside_db = 40;           // ... and how far under the greatest it may lie
constexpr double unexplained_db = -100;    // what may be left with no cause, where nothing else was found
constexpr double far_under_fit_db = -80;   // ... or how far it may lie under what the fit took out
constexpr double most_unexplained_db = 6;  // a rest this near to what all causes took out leaves the pair unexplained
constexpr double no_conversions_db = -40;  // no conversion without aliases leaves more, with no cause
constexpr double most_linear_left = 0.3;   // of what filters and gains took out: with more left there is more to it
constexpr double much_left_db = -10;       // ... and of the master

const std::map<std::string, Kind> groups{{"eq", Kind::linear},
                                         {"phase", Kind::linear},
                                         {"echo", Kind::linear},
                                         {"reverb", Kind::linear},
                                         {"width", Kind::linear},
                                         {"mono", Kind::linear},
                                         {"crosstalk", Kind::linear},
                                         {"channel_delay", Kind::linear},
                                         {"channel_gain", Kind::linear},
                                         {"copied_channel", Kind::linear},
                                         {"band_limit", Kind::linear},
                                         {"alias", Kind::converted},
                                         {"clip", Kind::limited},
                                         {"distortion", Kind::limited},
                                         {"limiter", Kind::limited},
                                         {"compressor", Kind::limited},
                                         {"expander", Kind::limited},
                                         {"dc", Kind::noise},
                                         {"hum", Kind::noise},
                                         {"tone", Kind::noise},
                                         {"clicks", Kind::noise},
                                         {"noise", Kind::noise},
                                         {"word_length", Kind::word_length},
                                         {"lossy", Kind::lossy}};

/// A coder ends the band, and turns what it codes at its edges, itself.
bool is_of_the_coder(const Cause& c) {
  constexpr double lowest_hz = 35, highest_hz = 15000;
  if (c.code == "band_limit") return true;
  if (c.code != "eq") return false;
  const double hz = c.values["most_hz"].get<double>();
  return hz < lowest_hz || hz > highest_hz;
}

/// The edge of whatever put the return between the master's samples, or at another speed.
bool is_of_the_move(const Cause& c, const NullReport& r) {
  const bool moves = r.fit.drift_ppm != 0 || r.fit.delay_samples != std::round(r.fit.delay_samples);
  return moves && c.code == "band_limit" && c.values["hz"].get<double>() > converters_edge * r.master.sample_rate_hz;
}

double power_of(std::optional<double> db) { return db ? std::pow(10, *db / 10) : 0; }

/// Noise may look like the error of a word length that was there before; dither has its own moments.
bool is_dithered_by_the_book(const std::vector<Cause>& causes) {
  return std::any_of(causes.begin(), causes.end(), [](const Cause& c) {
    return c.code == "word_length" && (c.values["dither"] == "triangular" || c.values["dither"] == "rectangular");
  });
}

Kind kind_of_fit(const NullReport& r) {
  const bool level = std::abs(r.fit.gain_db) >= 0.003 || std::string(r.fit.polarity()) != "normal" || r.fit.swapped();
  if (level) return Kind::level;
  const bool moved = r.fit.delay_samples != 0 || r.fit.drift_ppm != 0;
  if (moved || !(r.sums.residual > 0)) return Kind::shifted;
  const auto bits = r.return_levels.bits_used;  // so little is left that it has no cause
  return bits && r.sums.residual < std::pow(std::ldexp(1.0, 1 - *bits), 2) ? Kind::word_length : Kind::noise;
}

}  // namespace

bool is_more_than_linear(const std::vector<Cause>& causes, const NullReport& r) {
  static const std::set<std::string> codes{"eq",        "phase",         "width",       "band_limit",
                                           "crosstalk", "channel_delay", "channel_gain"};
  double taken = 0, left = 0;
  for (const Cause& c : causes) {
    if (c.is_of_the_fit() || is_of_the_move(c, r)) continue;
    if (!codes.contains(c.code)) return false;
    left = power_of(c.after_db), taken += power_of(c.before_db) - left;
  }
  return left > most_linear_left * taken || left > std::pow(10, much_left_db / 10);
}

Kind kind_by_causes(const std::vector<Cause>& causes, const NullReport& r) {
  const bool converted = r.master.sample_rate_hz != r.ret.sample_rate_hz;
  std::map<Kind, double> taken;  // what each group took out
  double most = 0, left = power_of(r.residual_relative_db());
  for (const Cause& c : causes) {
    if (c.is_of_the_fit()) continue;
    left = power_of(c.after_db);
    if (is_of_the_move(c, r)) continue;
    const auto group = groups.find(c.code);
    const bool known = group != groups.end() && (group->second != Kind::converted || converted);
    auto& sum = taken[known ? group->second : Kind::changed];
    sum += std::max(0.0, power_of(c.before_db) - power_of(c.after_db));
    most = std::max(most, sum);
  }
  std::vector<Kind> matter;
  for (const auto& [kind, power] : taken)
    if (power == most || (power > std::pow(10, matters_db / 10) && power > most * std::pow(10, -beside_db / 10)))
      matter.push_back(kind);
  std::sort(matter.begin(), matter.end(), [&](Kind a, Kind b) { return taken[a] > taken[b]; });
  const bool unexplained = left > std::pow(10, unexplained_db / 10) &&
                           (left > most * std::pow(10, most_unexplained_db / 10) || is_more_than_linear(causes, r));
  if (converted) {
    const bool beyond = most > std::pow(10, -5.0) && !matter.empty() && matter.front() != Kind::word_length &&
                        matter.front() != Kind::linear && matter.front() != Kind::noise &&
                        matter.front() != Kind::converted;
    const bool much = left > std::pow(10, no_conversions_db / 10) && !taken.contains(Kind::converted);
    if (!beyond) return much && taken.empty() ? Kind::changed : Kind::converted;
  }
  if (taken.contains(Kind::lossy)) {  // beside coding, little is what coding itself does: it narrows the band and dulls
    const bool beside = std::any_of(causes.begin(), causes.end(), [](const Cause& c) {
      const auto group = groups.find(c.code);
      return group != groups.end() && group->second != Kind::lossy && !is_of_the_coder(c) && c.before_db &&
             *c.before_db - c.after_db.value_or(-200) > beside_coding_db;
    });
    if (!beside && !taken.contains(Kind::changed)) return Kind::lossy;
  }
  if (taken.empty()) {
    const double taken_by_fit = causes.empty() ? 0 : power_of(causes.front().before_db);
    const bool all_but_nothing = left < std::pow(10, far_under_fit_db / 10) * taken_by_fit;
    return unexplained && !all_but_nothing ? Kind::changed : kind_of_fit(r);
  }
  if (unexplained && left > std::pow(10, matters_db / 10)) return Kind::changed;
  if (matter.size() > 1) return Kind::changed;
  const Kind kind = matter.front();
  const auto word = std::find_if(causes.begin(), causes.end(), [](const Cause& c) { return c.code == "word_length"; });
  // A gain that was written to its word length is a gain; but half a step towards zero is one, too.
  const bool towards_zero = word != causes.end() && word->values.value("towards_zero", false);
  if (kind == Kind::word_length && most < 1e-5 && !towards_zero && kind_of_fit(r) == Kind::level) return Kind::level;
  if (kind == Kind::word_length && r.master_levels.bits_used && word != causes.end() &&
      word->values["bits"].get<int>() >= *r.master_levels.bits_used)
    return kind_of_fit(r) == Kind::level     ? Kind::level
           : r.fit.delay_samples != 0        ? Kind::shifted
           : is_dithered_by_the_book(causes) ? Kind::word_length
                                             : Kind::noise;
  return kind;
}

}  // namespace heathmist
