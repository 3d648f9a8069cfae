// What the explanation adds to the findings: from its measurements to plain sentences. Thresholds stand here.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include "core/compare/explain.hpp"
#include "core/compare/finding_place.hpp"
#include "core/compare/phrases.hpp"
#include "core/compare/waterfall.hpp"

namespace heathmist {

namespace {

constexpr double worth_splitting_db = -100;  // a residual under that is arithmetic
constexpr double mask_over_db = 3;           // residual over the mask that is worth a caution
constexpr double note_below_db = -60;        // a cause that leaves less than that by itself needs no care
constexpr double empty_codes = 0.1;          // share of codes that are never hit
constexpr double empty_dbfs = -96;           // above 24 kHz: no more than the dither of 16 bits
constexpr double least_edge_db = 40;         // a fall within a sixth of an octave that only a steep filter makes
constexpr double floor_all = 0.9, floor_part = 0.3;
constexpr size_t most_breaks_told = 8;
constexpr size_t most_folds_told = 3;
constexpr double fold_fault_db = -70, fold_caution_db = -100;  // of what lands under 20 kHz, against the master

struct Explainer {
  const NullReport& r;
  const Explanation& w;
  std::vector<Finding> said;

  Finding& say(std::string code, Severity severity, std::string text, std::string detail, Evidence evidence) {
    said.push_back({std::move(code), severity, std::move(text), std::move(detail), {}, {}, {}, evidence});
    return said.back();
  }
  void split() {
    const auto relative = r.residual_relative_db(), remainder = r.sums.remainder_relative_db();
    const bool by_filter = std::all_of(r.causes.begin(), r.causes.end(), [](const Cause& c) {
      return c.code == "delay" || c.code == "gain" || evidence_of(c.code) == Evidence::path;
    });
    if (!by_filter && r.kind != Kind::lossy && r.kind != Kind::converted) return;  // the budget says it better
    if (w.split.empty() || !relative || *relative < worth_splitting_db || !remainder) return;
    const double share = std::clamp(1 - r.sums.remainder / r.sums.residual, 0.0, 1.0);
    auto& f = say("split", Severity::note,
                  share < 0.02    ? "No level, EQ or phase explains the residual: it is all remainder."
                  : share > 0.995 ? fmt::format("Level, EQ and phase take {} dB off the residual.",
                                                number_text(-10 * std::log10(std::max(1 - share, 1e-20)), 0))
                                  : fmt::format("Level, EQ and phase explain {} % of the residual.",
                                                number_text(100 * share, share > 0.95 || share < 0.1 ? 1 : 0)),
                  fmt::format("The remainder (distortion, coding noise, dither, added noise) lies {} the master.",
                              over_text(*remainder)),
                  Evidence::parts);
    f.value = *remainder, f.unit = "dB";
  }

  /// One finding a cause; what the fit took out, the verdict's own words and the breaks stand there already.
  void causes() {
    static const std::set<std::string> told_elsewhere{"conversion",  "delay", "drift",  "gain",   "swap",   "polarity",
                                                      "word_length", "lossy", "splice", "insert", "repeat", "dropout"};
    for (const Cause& c : r.causes) {
      if (c.code == "word_length") word_length(c);
      if (told_elsewhere.contains(c.code) && !(c.code == "dropout" && w.continuity.breaks.empty())) continue;
      if (c.code == said.front().code) continue;
      const bool takes_nothing = c.before_db == c.after_db;
      const bool in_headline = said.front().text.find(c.text.substr(0, c.text.size() - 1)) != std::string::npos;
      if (in_headline && takes_nothing) continue;
      if (!in_headline && is_told_by_the_bandwidth(c)) continue;
      auto& f = in_headline ? say(finding_code(c.code), severity_of(c), weight_text(c), c.text, evidence_of(c.code))
                            : say(finding_code(c.code), severity_of(c), c.text, budget_text(c), evidence_of(c.code));
      f.value = value_of(c), f.unit = unit_of(c), f.at_s = c.from_s, f.band_hz = band_of(c);
      if (c.from_s) f.when_s = std::pair{*c.from_s, c.until_s.value_or(*c.from_s)};
    }
  }

  /// One edge is told once.
  bool is_told_by_the_bandwidth(const Cause& c) const {
    constexpr double same_edge = 1.15;
    return c.code == "band_limit" && std::any_of(said.begin(), said.end(), [&](const Finding& f) {
             const double ratio = f.code == "bandwidth" ? c.values["hz"].get<double>() / f.value.value_or(1) : 0;
             return ratio < same_edge && ratio > 1 / same_edge;
           });
  }

  /// Beside other causes; by itself its dither says it.
  void word_length(const Cause& c) {
    if (r.kind == Kind::word_length || r.kind == Kind::noise ||
        said.front().text.find(c.text.substr(0, c.text.size() - 1)) != std::string::npos)
      return;
    const bool plain = c.values["dither"].is_string() && c.values["dither"] == "none";
    auto& f = say("word_length", plain ? Severity::caution : Severity::note, c.text, budget_text(c), Evidence::words);
    f.value = c.values["bits"].get<double>(), f.unit = "bits";
  }

  static std::string finding_code(const std::string& code) {
    return code == "phase" ? "phase_not_loss" : code == "tone" ? "steady_tone" : code == "dc" ? "dc_offset" : code;
  }
  Severity severity_of(const Cause& c) const {
    static const std::set<std::string> faults{"mute",          "dropout", "silent_channel", "copied_channel",
                                              "channel_delay", "clicks",  "other_programme"};
    if (c.values.contains("of_mono")) return Severity::note;
    if (faults.contains(c.code)) return Severity::fault;
    if (c.code == "phase") return Severity::note;
    return c.before_db.value_or(-999) > note_below_db ? Severity::caution : Severity::note;
  }
  static Evidence evidence_of(const std::string& code) {
    static const std::set<std::string> linear{"eq", "phase", "echo", "reverb", "band_limit", "crosstalk"},
        course{"wow", "fade", "gain_step", "gain_ride", "limiter", "compressor", "expander"};
    return linear.contains(code) ? Evidence::path : course.contains(code) ? Evidence::course : Evidence::lanes;
  }
  /// What the headline has said already, by its weight.
  std::string weight_text(const Cause& c) const {
    std::string label = cause_label(c.code);
    label[0] = char(std::toupper(static_cast<unsigned char>(label[0])));
    std::string text = budget_text(c);
    text[0] = char(std::tolower(static_cast<unsigned char>(text[0])));
    return label + ": " + text;
  }
  std::string budget_text(const Cause& c) const {
    const auto level = [](std::optional<double> db) {
      return db ? number_text(*db, 1) + " dBr" : std::string("nothing");
    };
    return fmt::format("Taken out, the residual comes from {} to {}.", level(c.before_db), level(c.after_db));
  }
  /// The number that a cause is known by.
  static std::pair<const char*, const char*> number_of(const std::string& code) {
    static const std::map<std::string, std::pair<const char*, const char*>> numbers{
        {"channel_delay", {"delay_samples", "samples"}},
        {"wow", {"depth_samples", "samples"}},
        {"channel_gain", {"gain_db", "dB"}},
        {"fade", {"length_s", "s"}},
        {"gain_step", {"step_db", "dB"}},
        {"gain_ride", {"range_db", "dB"}},
        {"mute", {"length_s", "s"}},
        {"width", {"side_db", "dB"}},
        {"crosstalk", {"level_db", "dB"}},
        {"eq", {"most_db", "dB"}},
        {"phase", {"rms_deg", "degrees"}},
        {"band_limit", {"hz", "Hz"}},
        {"echo", {"time_ms", "ms"}},
        {"reverb", {"t60_s", "s"}},
        {"clip", {"level_dbfs", "dBFS"}},
        {"distortion", {"thd_percent", "%"}},
        {"limiter", {"most_reduction_db", "dB"}},
        {"compressor", {"most_reduction_db", "dB"}},
        {"expander", {"most_reduction_db", "dB"}},
        {"dc", {"offset", "full scale"}},
        {"hum", {"level_dbfs", "dBFS"}},
        {"tone", {"hz", "Hz"}},
        {"clicks", {"count", "clicks"}},
        {"noise", {"level_dbfs", "dBFS"}},
        {"other_programme", {"level_db", "dB"}}};
    const auto known = numbers.find(code);
    return known == numbers.end() ? std::pair{"", ""} : known->second;
  }
  static std::optional<double> value_of(const Cause& c) {
    const std::string key = number_of(c.code).first;
    return !key.empty() && c.values.contains(key) && c.values[key].is_number()
               ? std::optional(c.values[key].get<double>())
               : std::nullopt;
  }
  static std::string unit_of(const Cause& c) { return number_of(c.code).second; }

  void mask() {
    if (w.mask.bands() < 1 || !r.residual_relative_db() || *r.residual_relative_db() < worth_splitting_db) return;
    const bool over = w.mask.worst_db > mask_over_db;
    auto& f = say("masking", over && w.mask.covered_share < 0.9 ? Severity::caution : Severity::note,
                  over ? fmt::format("Hint: the programme masks the residual in {} % of its cells.",
                                     number_text(100 * w.mask.covered_share, w.mask.covered_share > 0.99 ? 2 : 0))
                       : std::string("Hint: the programme masks the residual throughout."),
                  over ? fmt::format("It stands out most at {}, {} to {}, by {} dB. A model, not a verdict on hearing.",
                                     clock_text(w.mask.worst_at_s), hertz_text(w.mask.worst_low_hz),
                                     hertz_text(w.mask.worst_high_hz), number_text(w.mask.worst_db, 1))
                       : std::string("A model, not a verdict on hearing."),
                  Evidence::mask);
    f.value = w.mask.worst_db, f.unit = "dB";
    f.at_s = w.mask.worst_at_s;
  }

  void closest() {
    if (w.closest.empty() || r.kind == Kind::identical) return;
    const CloseMoment& c = w.closest.front();
    auto& f =
        say("closest", Severity::note, fmt::format("It comes closest to the programme at {}.", clock_text(c.at_s)),
            fmt::format("The residual lies {} it there; from {} to {} it lies {}.", over_text(c.depth_db),
                        hertz_text(c.low_hz), hertz_text(c.high_hz), over_text(c.cell_db)),
            Evidence::depth);
    f.value = c.depth_db, f.unit = "dB", f.at_s = c.at_s;
    f.when_s = std::pair{c.at_s, c.at_s}, f.band_hz = std::pair{c.low_hz, c.high_hz};
  }

  void breaks() {
    size_t told = 0;
    for (const Break& b : w.continuity.breaks) {
      if (++told > most_breaks_told) break;
      const std::string length = fmt::format("{} ms", number_text(1000 * b.length_s, b.length_s < 0.01 ? 2 : 1));
      auto& f = say(name_of(b.kind), Severity::fault,
                    b.kind == BreakKind::dropout
                        ? fmt::format("The return drops out for {} at {}.", length, clock_text(b.at_s))
                    : b.kind == BreakKind::skip
                        ? fmt::format("The return skips {} at {}.", length, clock_text(b.at_s))
                        : fmt::format("{} too much stands in the return at {}.", length, clock_text(b.at_s)),
                    b.kind == BreakKind::dropout
                        ? "It goes on in place."
                        : fmt::format("From there on it is {} samples {}.", samples_text(std::abs(b.jump_samples)),
                                      b.jump_samples < 0 ? "early" : "late"),
                    Evidence::lanes);
      f.value = b.kind == BreakKind::dropout ? b.length_s : b.jump_samples;
      f.unit = b.kind == BreakKind::dropout ? "s" : "samples";
      f.at_s = b.at_s, f.when_s = std::pair{b.at_s, b.at_s + b.length_s};
    }
    if (w.continuity.breaks.size() > most_breaks_told) {
      auto& f = say("breaks", Severity::fault,
                    fmt::format("The return breaks {} times in all.", w.continuity.breaks.size()), "", Evidence::lanes);
      f.value = double(w.continuity.breaks.size()), f.unit = "breaks";
    }
  }

  void words(const ClipStudy& s, bool of_return) {
    if (!s.words) return;
    const char* whose = of_return ? "return" : "master";
    double most = 0;
    for (const auto& c : s.words->channels) most = std::max(most, c.empty_share);
    if (most > empty_codes) {
      auto& f = say(fmt::format("empty_codes_{}", whose), s.words->bits_used > 20 ? Severity::note : Severity::caution,
                    fmt::format("{} % of the {}'s codes near zero are never used.", number_text(100 * most, 0), whose),
                    "It was scaled after an earlier cut of its word length, without dither.", Evidence::words);
      f.value = most, f.unit = "share";
    }
    for (size_t c = 1; c < s.words->channels.size(); ++c)
      if (s.words->channels[c].bits_used != s.words->channels[0].bits_used && s.words->channels[c].bits_used &&
          s.words->channels[0].bits_used) {
        auto& f = say(fmt::format("bits_differ_{}", whose), Severity::caution,
                      fmt::format("Channel {} of the {} uses {} bits, channel 1 uses {}.", c + 1, whose,
                                  s.words->channels[c].bits_used, s.words->channels[0].bits_used),
                      "", Evidence::words);
        f.value = s.words->channels[c].bits_used, f.unit = "bits";
      }
  }

  void requantised() {
    if (!w.requantised || (r.kind != Kind::word_length && r.kind != Kind::noise)) return;
    const auto& q = *w.requantised;
    if (r.kind == Kind::noise && q.dither == Dither::other) return;
    auto& f = say(
        "dither", q.truncated || q.dither == Dither::none ? Severity::caution : Severity::note,
        word_length_text(q.truncated, q.towards_zero, q.bits, name_of(q.dither)) + ".",
        fmt::format("Error: mean {}, variance {} steps, at most {}{}.", number_text(q.mean_steps, 3),
                    number_text(q.variance_steps2, 4), number_text(q.peak_steps, 2),
                    q.dither == Dither::shaped ? fmt::format("; {} dB more at the top of the band than at its bottom",
                                                             number_text(q.tilt_db, 0))
                                               : std::string()),
        Evidence::words);
    f.value = q.variance_steps2, f.unit = "steps2";
  }

  void origin_of(const ClipStudy& s, const ClipFormat& format, bool of_return) {
    const char* whose = of_return ? "return" : "master";
    const Origin& o = s.origin;
    if (format.sample_rate_hz >= 64000 && o.bandwidth_hz && *o.bandwidth_hz < 25000 &&
        o.ultrasonic_dbfs.value_or(-200) < empty_dbfs &&
        (!of_return || r.ret.sample_rate_hz != r.master.sample_rate_hz || !w.master.origin.bandwidth_hz ||
         *w.master.origin.bandwidth_hz > 25000)) {
      auto& f = say(fmt::format("empty_top_{}", whose), Severity::caution,
                    fmt::format("The {} holds nothing above {} though its rate would carry it.", whose,
                                hertz_text(*o.bandwidth_hz)),
                    o.steepness_db > least_edge_db
                        ? fmt::format("It falls {} dB within a sixth of an octave: a converter's edge.",
                                      number_text(o.steepness_db, 0))
                        : "",
                    Evidence::spectra);
      f.value = *o.bandwidth_hz, f.unit = "Hz";
    }
    if (o.folded_about_hz && (!of_return || w.master.origin.folded_about_hz != o.folded_about_hz)) {
      auto& f = say(fmt::format("images_{}", whose), Severity::caution,
                    fmt::format("The {}'s spectrum is mirrored about {}.", whose, hertz_text(*o.folded_about_hz)),
                    "Images: it was brought to this rate by a poor conversion.", Evidence::spectra);
      f.value = *o.folded_about_hz, f.unit = "Hz";
    }
  }

  void dynamics() {
    const auto &mt = w.master.flat_tops, &rt = w.ret.flat_tops;
    if (rt.runs > mt.runs + 2 && rt.level_dbfs < -0.02) {
      auto& f = say(
          "flat_tops_return", Severity::caution,
          fmt::format("{} flat tops in the return, below full scale, at {} dBFS.", rt.runs,
                      number_text(rt.level_dbfs, 2)),
          mt.runs ? fmt::format("The master has {}.", mt.runs) : "The master has none: peaks were cut and turned down.",
          Evidence::lanes);
      f.value = rt.level_dbfs, f.unit = "dBFS";
      if (!rt.at_s.empty()) f.at_s = rt.at_s.front();
    }
    if (!w.ret.overs.empty() && !r.identical) {
      const auto worst = std::max_element(w.ret.overs.begin(), w.ret.overs.end(),
                                          [](const Over& a, const Over& b) { return a.dbtp < b.dbtp; });
      auto& f = say("true_peak_overs", w.ret.overs.size() > w.master.overs.size() ? Severity::caution : Severity::note,
                    fmt::format("The return goes over 0 dBTP in {} moment{}.", w.ret.overs.size(),
                                w.ret.overs.size() == 1 ? "" : "s"),
                    fmt::format("At most +{} dBTP, at {}; the master in {}.", number_text(worst->dbtp, 2),
                                clock_text(worst->at_s), w.master.overs.size()),
                    Evidence::lanes);
      f.value = double(w.ret.overs.size()), f.unit = "moments", f.at_s = worst->at_s;
    }
  }

  void folds() {
    size_t told = 0;
    for (const Aliasing& a : w.aliasing)
      for (const FoldedBand& b : a.bands)
        if (told++ < most_folds_told) fold(a, b);
  }
  void fold(const Aliasing& a, const FoldedBand& b) {
    const std::string rate = hertz_text(a.rate_hz), level = number_text(b.level_db(), 1);
    auto stretch = [&](double low, double high) {
      return b.is_line ? hertz_text(low) : fmt::format("{} to {}", hertz_text(low), hertz_text(high));
    };
    const std::string in = stretch(b.in_low_hz, b.in_high_hz), out = stretch(b.out_low_hz, b.out_high_hz);
    const double against = power_db(b.power, r.sums.master).value_or(-400);
    const Severity severity = b.out_low_hz > 20000 || against < fold_caution_db ? Severity::note
                              : against < fold_fault_db                         ? Severity::caution
                                                                                : Severity::fault;
    auto& f =
        say(b.down() ? "alias" : "image", severity,
            b.down()
                ? fmt::format("{} is {} folded at {}, {} {}.", out, in, rate, level, b.is_line ? "dBr" : "dB")
                : fmt::format("{} is the image of {} about {}, {} {}.", out, in, rate, level, b.is_line ? "dBr" : "dB"),
            fmt::format("It moves against what went in and keeps its phase to it (coherence {}): an alias, no noise.",
                        number_text(b.coherence, 2)),
            Evidence::spectra);
    f.value = b.level_db(), f.unit = "dB";
  }

  void shaped_noise() {
    if (!w.shaped_noise) return;
    auto& f =
        say("shaped_noise", Severity::note,
            fmt::format("What rises above {} is shaped noise, not an alias.", hertz_text(w.shaped_noise->from_hz)),
            fmt::format("{} dB more at the top; no line stands in it, and nothing of the master keeps its phase to it.",
                        number_text(w.shaped_noise->rise_db, 0)),
            Evidence::spectra);
    f.value = w.shaped_noise->rise_db, f.unit = "dB";
  }

  void floor() {
    if (!w.floor || r.sums.residual <= 0) return;
    auto& f =
        say("floor", w.floor_share > floor_all ? Severity::clean : Severity::note,
            w.floor_share > floor_all    ? "The residual is no more than the floor of the route."
            : w.floor_share > floor_part ? fmt::format("{} % of the residual is no more than the floor of the route.",
                                                       number_text(100 * w.floor_share, 0))
                                         : "The residual stands clear of the floor of the route.",
            "The floor is what the bench holds as its baseline.", Evidence::parts);
    f.value = w.floor_share, f.unit = "share";
  }
};

}  // namespace

std::vector<Finding> findings_of(const NullReport& report, const Explanation& why) {
  Explainer e{report, why, findings_of(report)};
  std::erase_if(e.said, [](const Finding& f) { return f.code == "channel_delay" || f.code == "channel_gain"; });
  if (report.kind != Kind::unrelated) {
    e.breaks();
    if (report.breaks > 0) {
      std::erase_if(e.said,
                    [](const Finding& f) { return f.code == "loudness_unchanged"; });  // of what is out of place
      e.causes();
    } else if (report.kind != Kind::identical) {
      e.causes();
      e.split();
      e.requantised();
      e.folds();
      e.shaped_noise();
      e.mask();
      e.closest();
      e.floor();
    }
    e.dynamics();
  }
  e.words(why.master, false);
  if (!report.identical) e.words(why.ret, true);
  e.origin_of(why.master, report.master, false);
  if (!report.identical) e.origin_of(why.ret, report.ret, true);
  for (auto& f : e.said)
    if (const double edge_db = why.ret.origin.steepness_db; f.code == "bandwidth" && edge_db > 6)
      f.detail +=
          fmt::format(" {}: {} dB within a sixth of an octave.",
                      edge_db > least_edge_db ? "A steep edge" : "It falls off slowly", number_text(edge_db, 0));
  for (auto& f : e.said)  // what idle silence says of the word length
    for (const auto& [code, study] : {std::pair{"bits_used_master", &why.master}, {"bits_used_return", &why.ret}})
      if (f.code == code && study->words && study->words->idle_in_silence())
        f.detail += " Its silence is digital zero: no dither.";
  std::stable_sort(e.said.begin() + 1, e.said.end(),
                   [](const Finding& a, const Finding& b) { return a.severity > b.severity; });
  return e.said;
}

}  // namespace heathmist
