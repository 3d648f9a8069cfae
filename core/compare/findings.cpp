// From measurements to plain sentences: the verdict first, then the rest, worst first.
#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <cmath>
#include <set>

#include "core/compare/causes/of_pair.hpp"
#include "core/compare/null.hpp"
#include "core/compare/phrases.hpp"

namespace heathmist {

namespace {

constexpr double beside = 0.001;         // of what the first cause started from: a second one is named with it
constexpr double some = 0.02;            // of what the first cause left: where the second takes less it is not named
constexpr double least_explained = 0.2;  // of what the fit left: less is no answer
constexpr double caution_relative_db = -60;  // a residual nearer to the programme than this deserves care
constexpr double least_apart_s = 0.0011;     // of two timelines: some count whole milliseconds
constexpr double least_delay = 0.002;        // samples: the tolerance
constexpr double least_gain_db = 0.01;       // beside anything else
constexpr double least_level_db = 0.003;     // of what differs in level
constexpr double least_gain_alone_db = 0.0005;
constexpr double loudness_step_lu = 0.05;    // less is no change of loudness
constexpr double channel_delay_step = 0.02;  // samples between channels worth a word
constexpr double channel_gain_step_db = 0.03;
constexpr double lost_ratio = 0.25;      // of the master's power that is left where a band is called lost
constexpr double bandwidth_step = 0.97;  // a return that reaches less far than this share of the master

double power(std::optional<double> db) { return db ? std::pow(10, *db / 10) : 0; }

struct Teller {
  const NullReport& r;
  std::vector<Finding> said;

  double rate() const { return r.master.sample_rate_hz; }

  Finding& say(std::string code, Severity severity, std::string text, std::string detail, Evidence evidence) {
    said.push_back({std::move(code), severity, std::move(text), std::move(detail), {}, {}, {}, evidence});
    return said.back();
  }

  std::string depth_text() const {
    const auto db = r.residual_relative_db();
    return db ? fmt::format("the residual lies {} the master", over_text(*db)) : "the residual is digital silence";
  }

  /// The greatest causes in words, by what they took out; empty where they are not known, or the fit is all there is.
  std::string headline() const {
    std::vector<const Cause*> all;
    for (const Cause& c : r.causes)
      if (!c.is_of_the_fit()) all.push_back(&c);
    const auto taken = [&](const Cause* c) { return power(c->before_db) - power(c->after_db); };
    std::stable_sort(all.begin(), all.end(), [&](auto* a, auto* b) { return taken(a) > taken(b); });
    std::string text;
    size_t told = 0;
    for (const Cause* c : all) {
      if (told == 2 || (told > 0 && power(c->before_db) < beside * power(all.front()->before_db))) break;
      if (told > 0 && taken(c) < some * power(c->before_db)) break;  // beside the first it says nothing
      std::string words = c->text.substr(0, c->text.size() - 1);
      const auto small = [](char letter) { return letter == ' ' || std::islower(static_cast<unsigned char>(letter)); };
      if (told > 0 && words.size() > 1 && small(words[1]))  // "EQ" stays
        words[0] = char(std::tolower(static_cast<unsigned char>(words[0])));
      text += (told++ ? "; " : "") + words;
    }
    return text;
  }
  /// What was found took out so little of what the fit left that its name would be no answer.
  bool explains_little() const {
    double before = 0, after = 0;
    for (const Cause& c : r.causes) {
      if (!c.is_of_the_fit() && before == 0) before = power(c.before_db);
      after = power(c.after_db);
    }
    return before - after < least_explained * before;
  }
  /// Then the loudness of the whole says little.
  bool level_moves() const {
    return std::any_of(r.causes.begin(), r.causes.end(), [](const Cause& c) {
      return c.code == "fade" || c.code == "gain_step" || c.code == "gain_ride" || c.code == "mute";
    });
  }
  std::string left_text() const {
    const auto left = r.causes.empty() ? r.sums.remainder_relative_db() : r.causes.back().after_db;
    return left ? fmt::format("All causes taken out, {} dBr are left.", number_text(*left, 1))
                : std::string("All causes taken out, nothing is left.");
  }

  /// What says that a plain return was coded.
  std::string traces_text() const {
    for (const Cause& c : r.causes)
      if (c.code == "lossy" && c.values.contains("family"))
        return fmt::format("Its samples bear the frame grid of {}{}.",
                           codec_text(c.values["family"].get<std::string>()),
                           c.values["about_kbps"].is_number()
                               ? fmt::format(", about {} kbit/s", int(c.values["about_kbps"].get<double>()))
                               : "");
    return "What is left follows the programme, as coding noise does.";
  }

  /// Of a return of kind `shifted`: what moved it may have ended the band.
  std::string shifted_text(const std::string& depth) const {
    for (const Cause& c : r.causes)
      if (c.code == "band_limit")
        return fmt::format("Only the timing and the top of the band differ. {}: {}.",
                           c.text.substr(0, c.text.size() - 1), depth);
    return fmt::format("Only the timing differs: {}.",
                       r.residual_relative_db() ? "apart from that " + depth : "every sample is there, unchanged");
  }

  /// A good converter leaves next to nothing: what is left beyond that was no conversion.
  std::string converted_text() const {
    constexpr double conversions_leave_db = -75;
    const auto db = r.causes.empty() ? r.residual_relative_db() : r.causes.back().after_db;
    if (db.value_or(-200) < conversions_leave_db) return {};
    return fmt::format("A good conversion leaves far less: what is left, {} dBr, has no cause that explains it.",
                       number_text(*db, 1));
  }

  /// What a return of kind `level` differs in, all of it and nothing else.
  std::string level_words() const {
    const bool cut = std::any_of(r.causes.begin(), r.causes.end(), [&](const Cause& c) {
      return c.code == "word_length" && c.values["bits"].get<int>() < r.master_levels.bits_used.value_or(64);
    });
    std::vector<std::string> all;
    const auto add = [&](bool differs, const char* what) {
      if (differs) all.emplace_back(what);
    };
    add(std::abs(r.fit.gain_db) >= least_level_db, "level");
    add(std::string(r.fit.polarity()) != "normal", "polarity");
    add(r.fit.swapped(), "the channels' places");
    add(r.fit.delay_samples != 0 || r.fit.drift_ppm != 0, "timing");
    add(cut, "word length");
    if (all.empty()) return "Only the level differs";
    if (all.size() == 1)
      return r.fit.swapped() ? "Only the channels are not in place"
                             : fmt::format("Only {}{} differs", all[0] == "level" ? "the " : "", all[0]);
    std::string text = "Only " + all[0];
    for (size_t n = 1; n < all.size(); ++n) text += (n + 1 == all.size() ? " and " : ", ") + all[n];
    return text + " differ";
  }

  void verdict() {
    const auto db = r.residual_relative_db();
    const Severity by_depth = !db ? Severity::clean : *db > caution_relative_db ? Severity::caution : Severity::note;
    Finding* f = nullptr;
    const std::string depth = depth_text();
    const std::string causes =
        r.kind == Kind::changed && r.breaks == 0 && explains_little() ? std::string() : headline();
    switch (r.kind) {
      case Kind::identical:
        f = &say("identical", Severity::clean, "Identical: every sample is equal.",
                 "Nothing was changed, moved or scaled.", Evidence::lanes);
        break;
      case Kind::unrelated:
        f = &say("unrelated", Severity::fault, "These two are unrelated: no alignment can be trusted.",
                 "Nothing lines up well enough to subtract. Is it the right file, the same take?", Evidence::lanes);
        f->value = r.fit.agreement;
        f->unit = "agreement";
        return;
      case Kind::shifted:
        f = &say("shifted", db ? Severity::note : Severity::clean, shifted_text(depth), "", Evidence::fit);
        break;
      case Kind::level:
        f = &say("level", Severity::note, fmt::format("{}: {}.", level_words(), depth), "", Evidence::fit);
        break;
      case Kind::word_length:
        f = &say("word_length", Severity::note,
                 fmt::format("{} {} bits{}: {}.", fewer_bits(r) ? "Cut to" : "Dithered again at",
                             bits_of_return(r).value_or(0),
                             std::abs(r.fit.gain_db) < least_gain_db ? "" : ", at another level", depth),
                 fmt::format("Residual at {} dBFS RMS{}.", number_text(power_db(r.sums.residual).value_or(-999), 1),
                             std::abs(r.fit.gain_db) < least_gain_db ? "; nothing else differs" : ""),
                 Evidence::spectra);
        break;
      case Kind::linear:
        f = &say("linear", by_depth, fmt::format("{}: {}.", causes.empty() ? "A filter explains it" : causes, depth),
                 !causes.empty() ? left_text()
                                 : fmt::format("Level, EQ and phase taken out as well, {} dB are left.",
                                               number_text(r.sums.remainder_relative_db().value_or(-200), 1)),
                 Evidence::spectra);
        break;
      case Kind::converted:
        f = &say("converted", by_depth,
                 fmt::format("Converted to {} Hz: {} over the band both carry.", r.ret.sample_rate_hz, depth),
                 converted_text(), Evidence::spectra);
        break;
      case Kind::lossy:
        f = &say("lossy", by_depth, fmt::format("Lossy coding: {}.", depth),
                 r.ret.lossy ? fmt::format("The return is {} at {} kbit/s.", codec_text(r.ret.codec),
                                           r.ret.bit_rate_bps.value_or(0) / 1000)
                             : traces_text(),
                 Evidence::depth);
        break;
      case Kind::limited:
        f = &say("limited", Severity::caution,
                 fmt::format("{}: {}.", causes.empty() ? "Peaks are clipped or limited" : causes, depth),
                 causes.empty() ? "What is left lies in the loud moments." : left_text(), Evidence::lanes);
        break;
      case Kind::noise:
        f = &say("noise", by_depth,
                 fmt::format("{}, the programme is untouched: {}.", causes.empty() ? "Noise was added" : causes, depth),
                 causes.empty() ? fmt::format("The noise stands at {} dBFS RMS.",
                                              number_text(power_db(r.sums.residual).value_or(-999), 1))
                                : left_text(),
                 Evidence::spectra);
        break;
      case Kind::changed:
        if (is_silent(r)) {
          say("changed", Severity::fault, "The return is silent.",
              "Nothing came back. Was the right output recorded, and was it switched on?", Evidence::lanes);
          return;
        }
        f = &say("changed", by_depth,
                 r.breaks > 1 || (r.breaks > 0 && causes.empty())
                     ? fmt::format("The return breaks in {} place{}{}{}.", r.breaks, r.breaks == 1 ? "" : "s",
                                   causes.empty() ? "" : ": ", causes)
                 : causes.empty() ? fmt::format("Changed, and no single cause explains it: {}.", depth)
                 : is_more_than_linear(r.causes, r)
                     ? fmt::format("{}, and more that no cause explains: {}.", causes, depth)
                     : fmt::format("{}: {}.", causes, depth),
                 r.explained ? left_text()
                             : fmt::format("The best linear filter leaves {} dB.",
                                           number_text(r.sums.remainder_relative_db().value_or(-200), 1)),
                 Evidence::spectra);
        break;
    }
    if (db) f->value = *db, f->unit = "dB";
    if (r.sums.residual_peak > 0) f->at_s = double(r.sums.residual_peak_at) / rate();
  }

  void timing() {
    if (std::abs(r.fit.delay_samples) >= least_delay) {
      const double d = r.fit.delay_samples;
      const auto told =
          std::find_if(r.causes.begin(), r.causes.end(), [](const Cause& c) { return c.code == "delay"; });
      const bool breaks = told != r.causes.end() && told->values.contains("at_start_samples");
      auto& f = say("delay", Severity::note,
                    breaks ? fmt::format("The return is {} at its start, {} behind the break.",
                                         delay_text(told->values["at_start_samples"].get<double>()), delay_text(d))
                           : fmt::format("The return is {}.", delay_text(d)),
                    fmt::format("{} ms at {} Hz; taken out before comparing.",
                                number_text(1000 * std::abs(d) / rate(), 3), r.master.sample_rate_hz),
                    Evidence::fit);
      f.value = d, f.unit = "samples";
    }
    if (r.fit.drift_ppm != 0) {
      auto& f = say("drift", Severity::caution,
                    fmt::format("The return runs {} ppm {}.", number_text(std::abs(r.fit.drift_ppm), 2),
                                r.fit.drift_ppm > 0 ? "slow" : "fast"),
                    "Two clocks: it was played or captured on another one. Taken out before comparing.", Evidence::fit);
      f.value = r.fit.drift_ppm, f.unit = "ppm";
    }
    if (r.fit.others_fit)
      say("alignment_repeats", Severity::note, "Other alignments fit as well: the material repeats.",
          "The longest overlap was taken.", Evidence::fit);
    const double longer = double(r.ret.frames) / r.ret.sample_rate_hz - double(r.master.frames) / rate();
    if (std::abs(longer) * rate() >= 1) {
      const double samples = std::round(std::abs(longer) * rate());
      const std::string by = std::abs(longer) < 0.01 ? fmt::format("{} sample{}", samples, samples == 1 ? "" : "s")
                                                     : number_text(std::abs(longer), 3) + " s";
      auto& f = say("length_differs", Severity::note,
                    fmt::format("The return is {} {}.", by, longer > 0 ? "longer" : "shorter"),
                    fmt::format("{} frames against {}.", r.ret.frames, r.master.frames), Evidence::lanes);
      f.value = longer, f.unit = "s";
    }
  }

  /// The causes know it better, once they are known; a gain under what they tell is the fit's.
  double told_gain_db() const {
    constexpr double too_small_for_a_cause_db = 0.01;
    const auto gain = std::find_if(r.causes.begin(), r.causes.end(), [](const Cause& c) { return c.code == "gain"; });
    if (gain != r.causes.end()) return gain->values["gain_db"].get<double>();
    return r.explained && std::abs(r.fit.gain_db) >= too_small_for_a_cause_db ? 0 : r.fit.gain_db;
  }

  void level() {
    const double gain_db = told_gain_db();
    if (std::abs(gain_db) >= (r.kind == Kind::level ? least_gain_alone_db : least_gain_db)) {
      auto& f =
          say("gain", Severity::note,
              fmt::format("The return is {} dB {}.", number_text(std::abs(gain_db), std::abs(gain_db) < 0.1 ? 3 : 2),
                          gain_db > 0 ? "louder" : "quieter"),
              "Taken out before comparing.", Evidence::fit);
      f.value = gain_db, f.unit = "dB";
    }
    const auto m = integrated_lufs(r.sums.master_pieces), e = integrated_lufs(r.sums.return_pieces);
    if (m && e && std::abs(*e - *m) < loudness_step_lu && r.kind != Kind::identical && !level_moves()) {
      auto& f = say("loudness_unchanged", Severity::clean, "Loudness is unchanged.",
                    fmt::format("{} LUFS against {}.", number_text(*e, 1), number_text(*m, 1)), Evidence::lanes);
      f.value = *e - *m, f.unit = "LU";
    }
  }

  void channels() {
    const std::string polarity = r.fit.polarity();
    if (polarity != "normal")
      say(polarity == "inverted" ? "polarity_inverted" : "polarity_mixed",
          polarity == "inverted" ? Severity::caution : Severity::fault,
          polarity == "inverted" ? "Polarity is inverted." : "Polarity is inverted in some channels only.",
          "Turned back before comparing.", Evidence::fit);
    if (r.fit.swapped()) {
      std::string map;
      for (const auto& p : r.fit.pairs)
        map += fmt::format("{}{} comes back as {}", map.empty() ? "" : ", ", p.master + 1, p.ret + 1);
      say("channels_swapped", Severity::fault, "Channels are swapped.", "Channel " + map + ".", Evidence::fit);
    }
    if (r.master.channels != r.ret.channels) {
      auto& f = say("channels_differ", Severity::caution,
                    fmt::format("The return has {} channel{}, the master {}.", r.ret.channels,
                                r.ret.channels == 1 ? "" : "s", r.master.channels),
                    "", Evidence::fit);
      f.value = r.ret.channels, f.unit = "channels";
    }
    for (size_t p = 1; p < r.fit.pairs.size(); ++p) {
      const double late = r.fit.pairs[p].delay_samples - r.fit.pairs[0].delay_samples;
      const double louder = r.fit.pairs[p].gain_db - r.fit.pairs[0].gain_db;
      if (std::abs(late) > channel_delay_step && r.kind != Kind::lossy) {
        auto& f = say("channel_delay", Severity::fault,
                      fmt::format("Channel {} is {} samples {} than channel 1.", p + 1, samples_text(std::abs(late)),
                                  late > 0 ? "later" : "earlier"),
                      "", Evidence::fit);
        f.value = late, f.unit = "samples";
      }
      if (std::abs(louder) > channel_gain_step_db && r.kind != Kind::lossy) {
        auto& f = say("channel_gain", Severity::caution,
                      fmt::format("Channel {} is {} dB {} than channel 1.", p + 1, number_text(std::abs(louder), 2),
                                  louder > 0 ? "louder" : "quieter"),
                      "", Evidence::fit);
        f.value = louder, f.unit = "dB";
      }
    }
  }

  /// The return, at the master's level, holds less between its own edge and the master's: not merely buried in its
  /// noise, and not merely quieter.
  bool lost_above(double edge_hz) const {
    double m = 0, e = 0;
    for (size_t k = 0; k < r.sums.master_spectrum.power.size(); ++k) {
      const double hz = double(k) * r.sums.master_spectrum.bin_hz;
      if (hz > edge_hz * 1.03 && hz < *r.master_bandwidth_hz)
        m += r.sums.master_spectrum.power[k], e += r.sums.return_spectrum.power[k];
    }
    return e < lost_ratio * m * std::pow(10, told_gain_db() / 10);
  }

  /// What was done to channels or level explains it all: where the return ends is where that lets the programme end.
  bool band_is_told_by_others() const {
    constexpr double explained_db = -60;
    static const std::set<std::string> of_the_band{"band_limit", "eq", "conversion", "lossy", "alias"};
    return !r.causes.empty() && r.causes.back().after_db.value_or(-999) < explained_db &&
           std::none_of(r.causes.begin(), r.causes.end(), [](const Cause& c) { return of_the_band.contains(c.code); });
  }

  void band() {
    if (r.kind == Kind::unrelated || band_is_told_by_others() || !r.master_bandwidth_hz || !r.return_bandwidth_hz)
      return;
    if (*r.return_bandwidth_hz >= bandwidth_step * *r.master_bandwidth_hz || !lost_above(*r.return_bandwidth_hz))
      return;
    auto& f = say("bandwidth", Severity::caution,
                  fmt::format("Nothing above {} comes back.", hertz_text(*r.return_bandwidth_hz)),
                  fmt::format("The master reaches {}.", hertz_text(*r.master_bandwidth_hz)), Evidence::spectra);
    f.value = *r.return_bandwidth_hz, f.unit = "Hz";
  }

  /// Samples tell the delay; what a container's timeline says beside them is told apart.
  void timeline() {
    const double apart = r.ret.timeline.start_s.value_or(0) - r.master.timeline.start_s.value_or(0);
    if (std::abs(apart) < least_apart_s) return;
    const bool by_return =
        std::abs(r.ret.timeline.start_s.value_or(0)) >= std::abs(r.master.timeline.start_s.value_or(0));
    const double start = (by_return ? r.ret : r.master).timeline.start_s.value_or(0);
    auto& f =
        say("timeline", Severity::note,
            fmt::format("By its timeline the return starts {:.1f} ms {} than by its samples.", 1000 * std::abs(apart),
                        apart > 0 ? "later" : "earlier"),
            fmt::format("The {}'s container has its first sample at {:.4f} s. The delay is told by the samples; what "
                        "plays by the timeline adds this to it.",
                        by_return ? "return" : "master", start),
            Evidence::fit);
    f.value = 1000 * apart, f.unit = "ms";
  }

  void clipping(const Levels& levels, const ClipFormat&, bool of_return) {
    if (levels.clipped_runs == 0) return;
    const bool own_doing = of_return && levels.clipped_runs > r.master_levels.clipped_runs;
    auto& f =
        say(of_return ? "clipped_return" : "clipped_master", own_doing ? Severity::fault : Severity::caution,
            fmt::format("The {} has {} clipped run{}.", of_return ? "return" : "master", levels.clipped_runs,
                        levels.clipped_runs == 1 ? "" : "s"),
            own_doing ? (r.master_levels.clipped_runs ? fmt::format("The master has {}.", r.master_levels.clipped_runs)
                                                      : "The master has none.")
                      : "Three or more equal samples at full scale.",
            Evidence::lanes);
    f.value = double(levels.clipped_runs), f.unit = "runs";
    double at = levels.first_run_s.value_or(0);
    if (of_return) at = (at * rate() - r.fit.delay_samples) / r.fit.ratio() / rate();
    f.at_s = std::max(0.0, at);
    f.when_s = {*f.at_s, std::max(*f.at_s, double(r.master.frames) / rate())};  // none stands before the first
    f.detail += fmt::format(" First at {}.", clock_text(*f.at_s));
  }

  void bits(const Levels& levels, const ClipFormat& format, bool of_return) {
    if (!levels.bits_used || !format.container_bits || *levels.bits_used >= *format.container_bits ||
        levels.sample_peak == 0)
      return;
    auto& f = say(of_return ? "bits_used_return" : "bits_used_master", Severity::caution,
                  fmt::format("The {} is a {}-bit file that uses {} bits.", of_return ? "return" : "master",
                              *format.container_bits, *levels.bits_used),
                  "The least significant bits are always zero.", Evidence::spectra);
    f.value = *levels.bits_used, f.unit = "bits";
  }
};

}  // namespace

std::vector<Finding> findings_of(const NullReport& report) {
  Teller teller{report, {}};
  teller.verdict();
  if (report.kind != Kind::unrelated) {
    teller.timing();
    teller.level();
    teller.channels();
    teller.band();
    teller.timeline();
  }
  teller.clipping(report.master_levels, report.master, false);
  teller.clipping(report.return_levels, report.ret, true);
  teller.bits(report.master_levels, report.master, false);
  if (report.kind != Kind::word_length) teller.bits(report.return_levels, report.ret, true);
  std::stable_sort(teller.said.begin() + 1, teller.said.end(),
                   [](const Finding& a, const Finding& b) { return a.severity > b.severity; });
  return teller.said;
}

}  // namespace heathmist
