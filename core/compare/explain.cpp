#include "core/compare/explain.hpp"

#include <algorithm>
#include <cmath>
#include <set>

#include "core/compare/causes/of_pair.hpp"
#include "core/measure/coding.hpp"
#include "core/measure/lines.hpp"

namespace heathmist {

namespace {

constexpr double floor_margin = 1.41;  // +1.5 dB: residual that is no more than the floor

ClipStudy study(const Clip& clip, const Levels& levels, const Overview& overview, const Job& job) {
  ClipStudy s;
  s.words = study_words(clip, levels.bits_used.value_or(0), job.part(0, 0.3));
  s.origin = study_origin(clip, job.part(0.3, 0.5));
  s.flat_tops = find_flat_tops(clip, levels.sample_peak, job.part(0.5, 0.8));
  s.overs = find_overs(clip, overview, job.part(0.8, 1));
  return s;
}

/// Tells the remainder by the split's finer estimate, which no short window blurs.
void refine_remainder(NullReport& report, const Split& split) {
  if (split.empty()) return;
  report.sums.remainder = split.remainder_power;
  const auto coarse = on_bins_of(split.remainder, report.sums.remainder_spectrum);
  for (size_t k = 0; k < coarse.power.size(); ++k)
    report.sums.remainder_spectrum.power[k] = std::min(coarse.power[k], report.sums.residual_spectrum.power[k]);
}

void weigh_floor(Explanation& why, const NullReport& report, const Spectrum& floor) {
  why.floor = on_bins_of(floor, report.sums.residual_spectrum);
  double no_more = 0, all = 0;
  for (const auto& [low, high] : [&] {
         std::vector<std::pair<size_t, size_t>> bands;  // twelfth octaves: single bins of noise scatter too much
         const double bin_hz = report.sums.residual_spectrum.bin_hz;
         for (double hz = 20; hz < bin_hz * double(why.floor->power.size()); hz *= std::pow(2.0, 1.0 / 12))
           bands.emplace_back(size_t(hz / bin_hz),
                              std::min(why.floor->power.size(), size_t(hz * std::pow(2.0, 1.0 / 12) / bin_hz)));
         return bands;
       }()) {
    double e = 0, f = 0;
    for (size_t k = low; k < high; ++k) e += report.sums.residual_spectrum.power[k], f += why.floor->power[k];
    all += e;
    if (e <= floor_margin * f) no_more += e;
  }
  why.floor_share = all > 0 ? no_more / all : 0;
}

/// What is left with no cause but noise.
std::optional<double> rest_of(const NullReport& report) {
  if (report.causes.empty()) return report.residual_relative_db();
  const Cause& last = report.causes.back();
  return last.code == "noise" || last.code == "other_programme" || last.code == "tone" ? last.before_db : last.after_db;
}

/// A return of another rate may fold whatever else it is; one of the same rate where no cause says what its rest is.
bool may_fold(const NullReport& report) {
  if (report.ret.lossy) return false;
  if (report.master.sample_rate_hz != report.ret.sample_rate_hz) return true;
  constexpr double least_db = -110;
  if (report.kind == Kind::shifted || report.kind == Kind::level || report.kind == Kind::word_length ||
      report.kind == Kind::limited || report.kind == Kind::lossy)
    return false;
  return rest_of(report).value_or(-999) > least_db;
}

constexpr double loudest_burst_db = -50;
constexpr double most_beyond_rest = 4;   // an alias' power as measured, against what is left
constexpr double least_alias_db = 0.01;  // that an alias takes out, to be a cause

/// Aliases take the place of what they were taken for: noise, or tones of their own.
void tell_aliases(NullReport& report, const std::vector<Aliasing>& aliasing) {
  if (aliasing.empty()) return;
  const Aliasing& strongest = aliasing.front();
  Cause alias{.code = "alias", .before_db = rest_of(report)};
  std::optional<Cause> taken_for;  // a tone: the aliases stand in its place
  std::vector<Cause> others;
  size_t place = 0;
  for (Cause& c : report.causes) {
    const bool tone =
        c.code == "tone" && comes_of(aliasing, report.master.sample_rate_hz, c.values["hz"].get<double>(), 6);
    const bool burst = c.code == "clicks" && c.before_db.value_or(0) < loudest_burst_db;  // a short note, folded
    if (tone && !taken_for) taken_for = c, place = others.size();
    if (!tone && !burst && c.code != "noise" && c.code != "other_programme") others.push_back(std::move(c));
  }
  if (!taken_for) place = others.size();
  report.causes = std::move(others);
  if (taken_for) alias.before_db = taken_for->before_db;
  const double before = alias.before_db ? std::pow(10, *alias.before_db / 10) : 0;
  alias.after_db = causes::relative_db(std::max(0.0, before - strongest.power() / report.sums.master), 1);
  for (size_t p = 0; p < report.fit.pairs.size(); ++p) alias.channels.push_back(int(p));
  const FoldedBand& b = strongest.bands.front();
  alias.values = {
      {"rate_hz", strongest.rate_hz}, {"level_db", b.level_db()}, {"from_hz", b.in_low_hz}, {"to_hz", b.out_low_hz}};
  alias.text = causes::sentence_of(alias);
  if (taken_for)
    alias.after_db = taken_for->after_db, alias.by_octave = taken_for->by_octave,
    alias.over_time = taken_for->over_time;
  if (!alias.after_db || alias.before_db.value_or(0) - *alias.after_db > least_alias_db)
    report.causes.insert(report.causes.begin() + long(place), std::move(alias));
}

/// What folded lies in what the causes leave that do something to the programme; what was added it may be taken for.
double most_that_folds(const NullReport& report) {
  static const std::set<std::string> added{"tone", "hum", "clicks", "noise", "other_programme", "word_length", "lossy"};
  const auto power = [](std::optional<double> db) { return std::pow(10, db.value_or(-999) / 10); };
  double left = power(report.residual_relative_db());
  for (const Cause& c : report.causes)
    if (!c.is_of_the_fit() && !added.contains(c.code)) left -= power(c.before_db) - power(c.after_db);
  return most_beyond_rest * std::max({0.0, left, power(rest_of(report))}) * report.sums.master;
}

/// Of a loop that repeats exactly everything is lines, and any steady tone keeps its phase to one of them: where far
/// more of the master lies nearer to the middle of what folds, and none of it does, nothing folded.
bool lines_by_chance(const NullReport& report, const Aliasing& found) {
  constexpr double far_more = 10;
  const double turns_at = found.rate_hz / 2;
  return std::all_of(found.bands.begin(), found.bands.end(), [&](const FoldedBand& b) {
    if (!b.is_line || b.in_low_hz < turns_at) return false;
    const double nearer = power_between(report.sums.master_spectrum, turns_at, 0.99 * b.in_low_hz);
    return nearer > far_more * b.source;
  });
}

void look_for_aliases(Explanation& why, const Clip& master, const Comparable& pair, NullReport& report,
                      const Job& job) {
  if (!may_fold(report)) return;
  const int rate = report.master.sample_rate_hz;
  const double most = most_that_folds(report);
  for (const double hz : likely_rates(rate, report.ret.sample_rate_hz)) {
    auto found = find_aliases(master, *pair.master, *pair.ret, report.fit, hz, job);
    std::erase_if(found.bands, [&](const FoldedBand& b) { return b.power > most; });
    if (report.ret.sample_rate_hz == rate && lines_by_chance(report, found)) found.bands.clear();
    if (!found.bands.empty()) why.aliasing.push_back(std::move(found));
  }
  std::sort(why.aliasing.begin(), why.aliasing.end(),
            [](const Aliasing& a, const Aliasing& b) { return a.power() > b.power(); });
  tell_aliases(report, why.aliasing);
  if (!why.aliasing.empty() && report.sums.remainder > 0)
    report.folded_share = std::min(1.0, why.aliasing.front().power() / report.sums.remainder);
}

void look_for_shaped_noise(Explanation& why, const Comparable& pair, const NullReport& report, const Job& job) {
  if (report.kind != Kind::word_length && report.kind != Kind::noise && report.kind != Kind::converted) return;
  const int lower = std::min(report.master.sample_rate_hz, report.ret.sample_rate_hz);
  const double top = (report.master.sample_rate_hz == report.ret.sample_rate_hz ? 0.475 : 0.44) * lower;
  if (!find_shaped_noise(report.sums, top, {})) return;
  SpectraOptions options;
  options.most_blocks = 100;
  std::vector<double> lines;
  for (const SpectralLine& l : lines_of(*residual_clip(pair, report.fit), options, {}, job).lines)
    lines.push_back(l.hz);
  why.shaped_noise = find_shaped_noise(report.sums, top, lines);
}

/// Silence in the return is a dropout where the causes say so, not where it is faded, or the programme pauses, nor
/// within a mute; a jump where undoing it takes something out.
void keep_told_breaks(Continuity& continuity, const std::vector<Cause>& causes) {
  const auto told = [&](std::initializer_list<const char*> codes) {
    return std::any_of(causes.begin(), causes.end(),
                       [&](const Cause& c) { return std::find(codes.begin(), codes.end(), c.code) != codes.end(); });
  };
  const bool drops = told({"dropout", "mute"}), jumps = told({"splice", "insert", "repeat"});
  constexpr double margin_s = 0.02;
  const auto is_muted = [&](const Break& b) {
    return std::any_of(causes.begin(), causes.end(), [&](const Cause& c) {
      return c.code == "mute" && b.at_s > *c.from_s - margin_s && b.at_s + b.length_s < *c.until_s + margin_s;
    });
  };
  std::erase_if(continuity.breaks,
                [&](const Break& b) { return b.kind == BreakKind::dropout ? !drops || is_muted(b) : !jumps; });
}

/// The traces of a coder in the return that the master does not bear.
std::optional<Json> traces_of(const Clip& master, const Clip& ret, const Job& job) {
  const auto trace = find_coding(ret, job);
  if (!trace) return {};
  const auto before = find_coding(master, job);
  if (before && before->family == trace->family) return {};
  return coding_json(*trace);
}

/// What the return's samples keep to; beneath later dither where the master's do not keep to it themselves.
std::optional<int> word_length_of_return(const Clip& master, const Clip& ret, const NullReport& report) {
  constexpr int may_be_dithered_again = 23;
  const auto bits = word_length_of(ret, report.return_levels);
  if ((bits && *bits < may_be_dithered_again) || report.return_levels.sample_peak <= 0) return bits;
  const auto beneath = word_length_beneath(ret);
  if (!beneath || *beneath >= report.master_levels.bits_used.value_or(64)) return bits;
  return *beneath < word_length_beneath(master).value_or(64) ? beneath : bits;
}

BudgetFacts facts_of(const Clip& master, const Clip& ret, const NullReport& report, const Split& split,
                     const Job& job) {
  BudgetFacts facts;
  if (!report.ret.lossy) facts.find_traces = [&master, &ret, job] { return traces_of(master, ret, job); };
  facts.lossy = report.ret.lossy;
  if (facts.lossy)
    facts.lossy_values = {
        {"family", report.ret.codec},
        {"about_kbps", report.ret.bit_rate_bps ? Json(*report.ret.bit_rate_bps / 1000) : Json(nullptr)}};
  facts.gain_db = report.fit.gain_db;
  const Fit& fit = report.fit;
  facts.fit_is_plain = fit.delay_samples == 0 && fit.drift_ppm == 0 && fit.gain_db == 0 && !fit.swapped() &&
                       std::string(fit.polarity()) == "normal";
  facts.is_between_samples = fit.drift_ppm != 0 || fit.delay_samples != std::round(fit.delay_samples) ||
                             report.master.sample_rate_hz != report.ret.sample_rate_hz;
  facts.return_band_hz = report.return_bandwidth_hz;
  if (report.master_levels.bits_used) facts.master_bits = *report.master_levels.bits_used;
  if (!facts.lossy)
    (report.master.sample_rate_hz == report.ret.sample_rate_hz ? facts.bits : facts.bits_elsewhere) =
        word_length_of_return(master, ret, report);
  facts.rate_elsewhere_hz = report.ret.sample_rate_hz;
  if (split.path.difference.size() == 2) facts.path = std::make_shared<const LinearPath>(split.path);
  facts.linear_left_db = report.sums.remainder_relative_db();
  return facts;
}

}  // namespace

Spectrum on_bins_of(const Spectrum& spectrum, const Spectrum& like) {
  Spectrum result{like.bin_hz, std::vector<double>(like.power.size(), 0)};
  const double width = like.bin_hz / spectrum.bin_hz;
  for (size_t k = 0; k < result.power.size(); ++k) {
    const double from = std::max(0.0, (double(k) - 0.5) * width + 0.5), to = (double(k) + 0.5) * width + 0.5;
    for (auto n = size_t(from); n < spectrum.power.size() && double(n) < to; ++n) {
      const double share = std::min(to, double(n + 1)) - std::max(from, double(n));
      result.power[k] += std::max(0.0, share) * spectrum.power[n];
    }
  }
  return result;
}

namespace {

/// Nothing came back at all.
void tell_silence(NullReport& report) {
  Cause silent{.code = "silent_channel", .before_db = 0.0};
  Json all = Json::array();
  for (int c = 0; c < report.ret.channels; ++c) silent.channels.push_back(c), all.push_back(c);
  silent.values = {{"channels", all}, {"all", true}};
  silent.text = causes::sentence_of(silent);
  report.causes = {std::move(silent)};
  report.explained = true;
}

/// Another rate is a cause that is seen, not estimated: the comparison runs at the master's.
void tell_conversion(NullReport& report) {
  const int from = report.master.sample_rate_hz, to = report.ret.sample_rate_hz;
  if (from == to) return;
  Cause c{.code = "conversion"};
  c.before_db = c.after_db = report.causes.empty() ? report.residual_relative_db() : report.causes.front().before_db;
  for (size_t p = 0; p < report.fit.pairs.size(); ++p) c.channels.push_back(int(p));
  c.values = {{"from_hz", from}, {"to_hz", to}};
  c.text = causes::sentence_of(c);
  report.causes.insert(report.causes.begin(), std::move(c));
}

void tell_causes(Explanation& why, const Comparable& pair, const Clip& master, const Clip& ret, NullReport& report,
                 const Job& job) {
  auto budget = causes_of_pair(pair, report, why.continuity, facts_of(master, ret, report, why.split, job), job);
  report.causes = std::move(budget.causes), why.layers = std::move(budget.layers);
  tell_conversion(report);
  report.explained = true;
  keep_told_breaks(why.continuity, report.causes);
  report.breaks = int(why.continuity.breaks.size());
  report.kind = kind_of(report);
}

}  // namespace

Explanation explain(const Clip& master, const Clip& ret, const Comparable& pair, NullReport& report,
                    const ExplainOptions& options, const Job& job) {
  Explanation why;
  why.master = study(master, report.master_levels, report.master_overview, job.part(0, 0.1));
  why.ret =
      report.identical ? why.master : study(ret, report.return_levels, report.return_overview, job.part(0.1, 0.2));
  const Clip &m = *pair.master, &r = *pair.ret;
  why.gain = gain_trace(report.sums, report.fit, m.format().sample_rate_hz);
  why.depth = third_octave_depth(report.sums);
  if (is_silent(report)) tell_silence(report);
  if (report.fit.trusted && report.sums.residual > 0) {
    why.split = split_residual(m, r, report.fit, report.sums, job.part(0.2, 0.4));
    why.bands = path_bands(why.split, 6);
    why.closest = closest_moments(report.sums.depth);
    why.mask = mask_map(m, r, report.fit, job.part(0.4, 0.5));
    why.continuity = find_breaks(m, r, report.fit, report.sums, job.part(0.5, 0.55));
    if (report.return_levels.bits_used)
      why.requantised = study_requantising(m, r, report.fit, report.sums, *report.return_levels.bits_used,
                                           Job{job.stop, {}, job.threads});
    if (options.floor) weigh_floor(why, report, *options.floor);
    refine_remainder(report, why.split);
    const Job quiet{job.stop, {}, job.threads};
    tell_causes(why, pair, master, ret, report, job.part(0.55, 0.95));
    look_for_aliases(why, master, pair, report, quiet);
    if (why.aliasing.empty()) look_for_shaped_noise(why, pair, report, quiet);
  }
  if (!report.explained) tell_causes(why, pair, master, ret, report, Job{job.stop, {}, job.threads});
  report.kind = kind_of(report);
  report.findings = findings_of(report, why);
  job.report(1);
  return why;
}

}  // namespace heathmist
