#include "core/probes/engine_answers.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "core/compare/json.hpp"

namespace heathmist {

namespace {

Json db_or_null(double amplitude) {
  return std::abs(amplitude) > 1e-9 ? Json(20 * std::log10(std::abs(amplitude))) : Json(nullptr);
}

Json gain_json(const GainReading& r) {
  Json events = Json::array(), curve = Json::array();
  for (const auto& e : r.events) {
    events.push_back(
        {{"name", e.drawn.name},
         {"at_s", e.drawn.at_s},
         {"late_ms", number_or_null(e.late_ms)},
         {"rise_ms", number_or_null(e.rise_ms)},
         {"length_ms", number_or_null(e.length_ms)},
         {"overshoot_db", number_or_null(e.overshoot_db)},
         {"ripple_db", number_or_null(e.ripple_db)},
         {"stairs", e.stairs ? Json{{"count", e.stairs->count}, {"step_ms", e.stairs->step_ms}} : Json(nullptr)},
         {"splash_dbfs", number_or_null(e.splash_dbfs)},
         {"smoothing", e.drawn.length_s > 0 ? Json(nullptr) : Json(name_of(e.smoothing))},
         {"fit", e.fit}});
  }
  for (const auto& p : r.curve) curve.push_back({p.at_s, db_or_null(p.rendered)});
  return {{"smoothing", name_of(r.smoothing)},
          {"smoothing_ms", r.smoothing_ms},
          {"fit", r.fit.empty() ? Json(nullptr) : Json(r.fit)},
          {"late_ms", r.late_ms},
          {"worst_deviation_db", r.worst_deviation_db},
          {"rest_db", r.rest_db},
          {"resolution_ms", r.resolution_ms},
          {"events", events},
          {"curve", curve}};
}

Json matrix_json(const MixMatrix& m, int inputs) {
  Json rows = Json::array();
  for (int i = 0; i < inputs; ++i) rows.push_back({m[size_t(i)][0], m[size_t(i)][1]});
  return rows;
}

Json points_json(const std::vector<PanPoint>& points, int inputs, bool course) {
  Json all = Json::array();
  for (const PanPoint& p : points) {
    all.push_back({{"position", p.position},
                   {"matrix", matrix_json(p.matrix, inputs)},
                   {"power_db", p.power_db > -300 ? Json(p.power_db) : Json(nullptr)}});
    if (course) all.back()["at_s"] = p.at_s;
  }
  return all;
}

Json pan_json(const PanReading& r) {
  return {{"kind", r.kind ? Json(name_of(*r.kind)) : Json(nullptr)},
          {"centre_db", number_or_null(r.centre_db)},
          {"taper", r.taper_fit_db ? Json(name_of(r.taper)) : Json(nullptr)},
          {"taper_fit_db", number_or_null(r.taper_fit_db)},
          {"width", number_or_null(r.width)},
          {"inverted", r.inverted},
          {"swapped", r.swapped},
          {"reversed", r.reversed},
          {"positions", points_json(r.positions, r.inputs, false)},
          {"course", points_json(r.course, r.inputs, true)}};
}

Json crossfade_json(const CrossfadeReading& r) {
  Json correlated = Json::array(), curve = Json::array();
  for (const auto& [correlation, db] : r.correlated_db) correlated.push_back({correlation, db});
  for (const auto& p : r.curve) curve.push_back({p.at_s, p.a, p.b});
  return {{"law", name_of(r.law)},
          {"law_a", name_of(r.law_a)},
          {"law_b", name_of(r.law_b)},
          {"law_fit_db", r.law_fit_db},
          {"from_s", r.from_s},
          {"length_s", r.length_s},
          {"middle_a_db", r.middle_a_db},
          {"middle_b_db", r.middle_b_db},
          {"unlike_db", r.unlike_db},
          {"like_db", r.like_db},
          {"correlated_db", correlated},
          {"corner", r.corner},
          {"second_late_ms", r.second_late_ms},
          {"curve", curve}};
}

const char* polarity_of(const std::vector<bool>& inverted) {
  const auto count = std::count(inverted.begin(), inverted.end(), true);
  return count == 0 ? "normal" : size_t(count) == inverted.size() ? "inverted" : "mixed";
}

Json transit_json(const TransitReading& r) {
  return {{"identical", r.identical},
          {"gain_db", r.gain_db},
          {"channel_map", r.channel_map},
          {"polarity", polarity_of(r.inverted)},
          {"latency_samples", r.latency_samples},
          {"silence_dbfs", number_or_null(r.silence_dbfs)},
          {"word_bits", r.word_bits ? Json(*r.word_bits) : Json(nullptr)},
          {"dithered", r.dithered},
          {"dc", r.dc},
          {"residual_relative_db", number_or_null(r.residual_db)},
          {"causes", causes_json(r.causes)}};
}

Json trim_json(const TrimReading& r) {
  Json sections = Json::array();
  for (const auto& s : r.sections)
    sections.push_back({{"from_s", s.asked.from_s},
                        {"first_db", s.asked.first_db},
                        {"then_db", s.asked.then_db},
                        {"tone_dbfs", number_or_null(s.tone_dbfs)},
                        {"noise_dbfs", number_or_null(s.noise_dbfs)},
                        {"thd_n_db", number_or_null(s.thd_n_db)},
                        {"silence_dbfs", number_or_null(s.silence_dbfs)}});
  return {{"arithmetic", name_of(r.arithmetic)},
          {"bits", r.bits ? Json(*r.bits) : Json(nullptr)},
          {"floor_dbfs", number_or_null(r.floor_dbfs)},
          {"floor_with_signal_dbfs", number_or_null(r.floor_with_signal_dbfs)},
          {"dithered", r.dithered},
          {"clips", r.clips},
          {"clips_at_dbfs", number_or_null(r.clips_at_dbfs)},
          {"clean_to_dbfs", number_or_null(r.clean_to_dbfs)},
          {"by_samples", r.by_samples},
          {"sections", sections}};
}

Json silence_json(const SilenceReading& r, const LineReading& lines) {
  Json all = Json::array();
  for (const auto& line : lines.lines) all.push_back({{"hz", line.hz}, {"dbfs", line.dbfs}});
  return {{"added_dbfs", number_or_null(r.added_dbfs)}, {"lines", all}, {"dithered", r.dithered}};
}

// --- sentences

Finding finding(const std::string& code, Severity severity, std::string text, std::optional<double> value = {},
                const char* unit = "", std::string detail = {}) {
  Finding f;
  f.code = code, f.severity = severity, f.text = std::move(text), f.value = value, f.unit = unit,
  f.detail = std::move(detail);
  return f;
}

/// Times with as many digits as they deserve.
std::string ms(double value, int decimals = 2) {
  return fmt::format("{:.{}f} ms", value, std::abs(value) >= 10 ? 1 : decimals);
}

/// With its sign, but zero without one.
std::string signed_db(double db) { return std::abs(db) < 0.05 ? "0.0" : fmt::format("{:+.1f}", db); }

std::string shape_words(const GainReading& r) {
  switch (r.smoothing) {
    case Smoothing::none:
      return "at once";
    case Smoothing::linear:
      return fmt::format("straight over {}", ms(r.smoothing_ms));
    case Smoothing::one_pole:
      return fmt::format("as one pole with a time constant of {}", ms(r.smoothing_ms));
    case Smoothing::stairs:
      return fmt::format("in stairs of {}", ms(r.smoothing_ms));
    default:
      return fmt::format("over {} (10 to 90 %){}", ms(r.smoothing_ms),
                         r.fit == "raised_cosine"    ? ", as a raised cosine"
                         : r.fit == "straight_in_db" ? ", straight in decibels"
                                                     : "");
  }
}

const GainEventReading* first_step(const GainReading& r) {
  for (const auto& e : r.events)
    if (e.drawn.length_s == 0 && e.late_ms) return &e;
  return nullptr;
}

constexpr double no_time_ms = 0.05;

void tell_gain(const GainReading& r, std::vector<Finding>& all) {
  const GainEventReading* step = first_step(r);
  if (!step) return;
  const bool exact = r.smoothing == Smoothing::none && std::abs(r.late_ms) < no_time_ms;
  if (exact)
    all.push_back(finding("gain_exact", Severity::clean, "Steps come when they are drawn, at once.", r.late_ms, "ms"));
  else
    all.push_back(
        finding(r.smoothing == Smoothing::none ? "gain_late" : "gain_smoothed",
                r.smoothing == Smoothing::stairs || std::abs(r.late_ms) > 20 ? Severity::fault : Severity::caution,
                fmt::format("Drawn as a step at {:.3f} s, rendered {}, half of it done {} {}.", step->drawn.at_s,
                            shape_words(r), ms(std::abs(*step->late_ms)), *step->late_ms < 0 ? "early" : "late"),
                r.late_ms, "ms"));
  double least = 1e9, most = -1e9;
  for (const auto& e : r.events)
    if (e.drawn.length_s == 0 && e.late_ms) least = std::min(least, *e.late_ms), most = std::max(most, *e.late_ms);
  if (most - least > 0.3)
    all.push_back(finding("gain_jitter", Severity::caution,
                          fmt::format("How late a step is depends on where it lies: {} to {}.", ms(least), ms(most)),
                          most - least, "ms", "As an engine does that looks at its line once a block."));
  if (r.worst_deviation_db > 0.1)
    all.push_back(finding("gain_off", r.worst_deviation_db > 0.5 ? Severity::fault : Severity::caution,
                          fmt::format("The line is off by up to {:.2f} dB where nothing steps.", r.worst_deviation_db),
                          r.worst_deviation_db, "dB"));
  else
    all.push_back(finding("gain_kept", Severity::clean,
                          fmt::format("Levels are held within {:.3f} dB.", r.worst_deviation_db), r.worst_deviation_db,
                          "dB"));
  double over = 0;
  for (const auto& e : r.events) over = std::max(over, e.overshoot_db.value_or(0));
  if (over > 0.05)
    all.push_back(finding("gain_overshoot", Severity::caution, fmt::format("Steps overshoot by up to {:.2f} dB.", over),
                          over, "dB"));
}

void tell_pan(const PanReading& r, std::vector<Finding>& all) {
  const auto law = [&] {
    if (!r.taper_fit_db) return std::string();
    const char* names[] = {"straight lines (constant sum)", "sine and cosine (constant power)",
                           "square roots (constant power)", "a law of its own"};
    return std::string(names[int(r.taper)]);
  };
  const std::string centre =
      r.centre_db ? fmt::format(", {:.1f} dB in the middle", std::abs(*r.centre_db) < 0.05 ? 0.0 : *r.centre_db) : "";
  if (!r.kind) {
    all.push_back(
        finding("pan_one_position", Severity::note, "One position alone tells no law; render the others as well."));
    return;
  }
  switch (*r.kind) {
    case PanKind::none:
      all.push_back(finding("pan_none", Severity::fault, "The position changes nothing."));
      break;
    case PanKind::balance:
      all.push_back(finding("pan_balance", Severity::caution,
                            "This pan is a balance: hard left, the right input is gone.", r.centre_db, "dB",
                            law() + centre));
      break;
    case PanKind::mono:
      all.push_back(finding("pan_mono", Severity::caution,
                            "Both inputs are summed before they are placed: the stereo picture is gone.", r.centre_db,
                            "dB", law() + centre));
      break;
    case PanKind::pan:
      all.push_back(finding("pan_placed", Severity::clean,
                            r.inputs == 1 ? fmt::format("One input is placed by {}{}.", law(), centre)
                                          : fmt::format("Each input is placed by itself, by {}{}.", law(), centre),
                            r.centre_db, "dB"));
      break;
  }
  double least = 1e9, most = -1e9;
  for (const auto& p : r.positions) least = std::min(least, p.power_db), most = std::max(most, p.power_db);
  if (r.kind != PanKind::none && most - least > 1)
    all.push_back(
        finding("pan_level", Severity::note,
                fmt::format("The level of unlike inputs changes by {:.1f} dB over the positions.", most - least),
                most - least, "dB"));
  if (r.inverted) all.push_back(finding("pan_inverted", Severity::fault, "What comes out is inverted in polarity."));
  if (r.swapped) all.push_back(finding("pan_swapped", Severity::fault, "The channels are swapped."));
  if (r.reversed && !r.swapped)
    all.push_back(finding("pan_reversed", Severity::fault, "A position at the left moves to the right."));
  if (r.width && std::abs(*r.width - 1) > 0.02 && r.kind != PanKind::mono)
    all.push_back(finding("pan_width", Severity::caution,
                          fmt::format("In the middle the width is {:.0f} % of what went in.", 100 * *r.width), *r.width,
                          ""));
}

void tell_crossfade(const CrossfadeReading& r, std::vector<Finding>& all) {
  const char* names[] = {
      "Straight lines", "Raised cosines",  "Sine and cosine (equal power)", "Square roots (equal power)",
      "Logarithmic",    "A law of its own"};
  const auto word = [](double db) { return db < 0 ? "dips" : "swells"; };
  if (std::abs(r.unlike_db) > 0.3)
    all.push_back(finding("crossfade_unlike", std::abs(r.unlike_db) > 1.5 ? Severity::fault : Severity::caution,
                          fmt::format("A crossfade of unlike sources {} by {:.1f} dB{}", word(r.unlike_db),
                                      std::abs(r.unlike_db), r.unlike_db < 0 ? "; equal power keeps it even." : "."),
                          r.unlike_db, "dB"));
  else
    all.push_back(finding("crossfade_unlike", Severity::clean,
                          fmt::format("A crossfade of unlike sources keeps its level within {:.1f} dB.",
                                      std::max(0.1, std::abs(r.unlike_db))),
                          r.unlike_db, "dB"));
  if (std::abs(r.like_db) > 0.3)
    all.push_back(finding("crossfade_like", Severity::caution,
                          fmt::format("One of like sources {} by {:.1f} dB{}", word(r.like_db), std::abs(r.like_db),
                                      r.like_db > 0 ? "; straight lines keep it even." : "."),
                          r.like_db, "dB"));
  all.push_back(finding("crossfade_law", Severity::note,
                        fmt::format("{}, {:.3f} s long from {:.3f} s.", names[int(r.law)], r.length_s, r.from_s),
                        r.law_fit_db, "dB"));
  if (std::abs(r.second_late_ms) > 0.1)
    all.push_back(finding("crossfade_placed", Severity::caution,
                          fmt::format("The second clip lies {} {} than the score puts it.",
                                      ms(std::abs(r.second_late_ms)), r.second_late_ms > 0 ? "later" : "earlier"),
                          r.second_late_ms, "ms"));
}

void tell_trim(const TrimReading& r, std::vector<Finding>& all) {
  const std::string of_silence =
      r.floor_dbfs ? fmt::format("{:.0f} dBFS left of silence", *r.floor_dbfs) : "silence stays silent";
  if (r.arithmetic == Arithmetic::fixed)
    all.push_back(finding("trim_fixed", r.bits.value_or(0) < 24 ? Severity::fault : Severity::caution,
                          fmt::format("The bus is fixed at {} bits, {}: {}.", r.bits.value_or(0),
                                      r.dithered ? "dithered" : "undithered", of_silence),
                          r.bits ? std::optional<double>(*r.bits) : std::nullopt, "bit"));
  if (r.arithmetic == Arithmetic::floating)
    all.push_back(finding(
        "trim_float", Severity::clean,
        fmt::format("The bus is floating point with a mantissa of {} bits: {}.", r.bits.value_or(0), of_silence),
        r.bits ? std::optional<double>(*r.bits) : std::nullopt, "bit"));
  if (r.arithmetic == Arithmetic::transparent)
    all.push_back(finding("trim_transparent", Severity::clean,
                          fmt::format("Gains are taken back without a trace{}: {}.",
                                      r.by_samples ? "" : ", as far as the tone alone can tell", of_silence)));
  if (r.clips)
    all.push_back(finding("trim_clips", Severity::fault,
                          fmt::format("The bus clips at {} dBFS.", signed_db(*r.clips_at_dbfs)), r.clips_at_dbfs,
                          "dBFS"));
  else if (r.clean_to_dbfs)
    all.push_back(finding("trim_headroom", Severity::clean,
                          fmt::format("Peaks of {:+.0f} dBFS on the bus come back unclipped.", *r.clean_to_dbfs),
                          r.clean_to_dbfs, "dBFS"));
}

void tell_transit(const TransitReading& r, std::vector<Finding>& all) {
  if (r.identical)
    all.push_back(finding("transit_identical", Severity::clean,
                          fmt::format("Bit-identical at {:.0f} bits.", r.probe_bits), r.probe_bits, "bit"));
  else
    all.push_back(
        finding("transit_changed", Severity::caution,
                r.residual_db
                    ? fmt::format("Not bit-identical: what is not the probe lies {:.1f} dB under it.", -*r.residual_db)
                    : "Not bit-identical.",
                r.residual_db, "dB"));
  if (std::abs(r.gain_db) > 0.005)
    all.push_back(
        finding("transit_gain", Severity::fault,
                fmt::format("It comes back {:.2f} dB {}.", std::abs(r.gain_db), r.gain_db < 0 ? "quieter" : "louder"),
                r.gain_db, "dB"));
  if (std::abs(r.latency_samples) > 0.005)
    all.push_back(finding("transit_latency", Severity::caution,
                          fmt::format("It comes back {:.2f} samples {}.", std::abs(r.latency_samples),
                                      r.latency_samples > 0 ? "late" : "early"),
                          r.latency_samples, "samples"));
  if (r.channel_map == std::vector<int>{1, 0})
    all.push_back(finding("transit_swapped", Severity::fault, "The channels are swapped."));
  if (std::count(r.inverted.begin(), r.inverted.end(), true) > 0)
    all.push_back(finding("transit_inverted", Severity::fault,
                          std::string(polarity_of(r.inverted)) == "mixed" ? "One channel is inverted in polarity."
                                                                          : "The polarity is inverted."));
  if (std::abs(r.dc) > 1e-5)
    all.push_back(finding("transit_dc", Severity::caution,
                          fmt::format("There is a DC offset of {:.4f} % of full scale.", 100 * r.dc), r.dc, ""));
  for (const Cause& cause : r.causes)
    all.push_back(finding("transit_" + cause.code, Severity::caution, cause.text, cause.before_db, "dB"));
  if (r.silence_dbfs)
    all.push_back(
        finding("transit_silence", *r.silence_dbfs > -90 ? Severity::caution : Severity::note,
                fmt::format("Silence comes back at {:.0f} dBFS{}.", *r.silence_dbfs, r.dithered ? ", dithered" : ""),
                r.silence_dbfs, "dBFS"));
}

}  // namespace

Json engine_json(const ProbeReading& r) {
  if (r.gain) return gain_json(*r.gain);
  if (r.pan) return pan_json(*r.pan);
  if (r.crossfade) return crossfade_json(*r.crossfade);
  if (r.transit) return transit_json(*r.transit);
  if (r.trim) return trim_json(*r.trim);
  if (r.silence && !r.steps.empty()) return silence_json(*r.silence, r.steps.front().lines);
  return nullptr;
}

std::vector<Json> engine_points(const ProbeReading& r) {
  std::vector<Json> rows;
  if (r.gain) {
    const Json gain = gain_json(*r.gain);
    for (Json event : gain["events"]) {
      const Json stairs = event["stairs"];
      event.erase("stairs");
      event["stair_count"] = stairs.is_null() ? Json(nullptr) : stairs["count"];
      event["stair_ms"] = stairs.is_null() ? Json(nullptr) : stairs["step_ms"];
      rows.push_back(event);
    }
  }
  if (r.pan)
    for (const auto& p : r.pan->positions)
      rows.push_back({{"position", p.position},
                      {"ll", p.matrix[0][0]},
                      {"lr", p.matrix[0][1]},
                      {"rl", p.matrix[1][0]},
                      {"rr", p.matrix[1][1]},
                      {"power_db", p.power_db}});
  if (r.crossfade)
    for (const auto& p : r.crossfade->curve) rows.push_back({{"at_s", p.at_s}, {"a", p.a}, {"b", p.b}});
  if (r.trim) {
    const Json trim = trim_json(*r.trim);
    for (const Json& section : trim["sections"]) rows.push_back(section);
  }
  if (r.transit) {
    Json row = transit_json(*r.transit);
    row.erase("channel_map");
    rows.push_back(row);
  }
  return rows;
}

std::vector<Finding> engine_findings(const ProbeReading& r) {
  std::vector<Finding> all;
  if (r.gain) tell_gain(*r.gain, all);
  if (r.pan) tell_pan(*r.pan, all);
  if (r.crossfade) tell_crossfade(*r.crossfade, all);
  if (r.transit) tell_transit(*r.transit, all);
  if (r.trim) tell_trim(*r.trim, all);
  std::stable_sort(all.begin(), all.end(), [](const Finding& a, const Finding& b) { return a.severity > b.severity; });
  return all;
}

namespace {

std::string gain_label(const GainReading& r) {
  const bool late = std::abs(r.late_ms) >= no_time_ms;
  const std::string lateness = late ? fmt::format(", {:.1f} late", r.late_ms) : "";
  switch (r.smoothing) {
    case Smoothing::none:
      return late ? "at once" + lateness : r.worst_deviation_db > 0.1 ? "at once, off its line" : "as drawn";
    case Smoothing::linear:
      return fmt::format("{} straight{}", ms(r.smoothing_ms, 1), lateness);
    case Smoothing::one_pole:
      return fmt::format("pole of {}{}", ms(r.smoothing_ms, 1), lateness);
    case Smoothing::stairs:
      return fmt::format("stairs of {}", ms(r.smoothing_ms, 1));
    default:
      return fmt::format("{} glide{}", ms(r.smoothing_ms, 1), lateness);
  }
}

}  // namespace

std::string engine_label(const ProbeReading& r) {
  if (r.gain) return gain_label(*r.gain);
  if (r.pan && !r.pan->kind) return "one position";
  if (r.pan) {
    const char* kinds[] = {"balance", r.pan->inputs == 1 ? "placed" : "two-sided", "summed to mono", "does nothing"};
    return r.pan->centre_db ? fmt::format("{}, {:.1f} dB", kinds[int(*r.pan->kind)],
                                          std::abs(*r.pan->centre_db) < 0.05 ? 0.0 : *r.pan->centre_db)
                            : kinds[int(*r.pan->kind)];
  }
  if (r.crossfade) {
    const char* names[] = {"straight", "raised cosine", "equal power", "square roots", "logarithmic", "own law"};
    return std::abs(r.crossfade->unlike_db) > 0.3
               ? fmt::format("{}: {} {:.1f} dB", names[int(r.crossfade->law)],
                             r.crossfade->unlike_db < 0 ? "dips" : "swells", std::abs(r.crossfade->unlike_db))
               : names[int(r.crossfade->law)];
  }
  if (r.transit) {
    const std::string what = r.transit->identical                   ? "identical"
                             : std::abs(r.transit->gain_db) > 0.005 ? fmt::format("{:+.2f} dB", r.transit->gain_db)
                                                                    : "changed";
    return std::abs(r.transit->latency_samples) > 0.005
               ? fmt::format("{}, {:.4g} late", what, r.transit->latency_samples)
               : what;
  }
  if (r.trim) {
    const std::string clips = r.trim->clips ? ", clips" : "";
    if (r.trim->arithmetic == Arithmetic::transparent) return "transparent" + clips;
    return fmt::format("{} {} bit{}", name_of(r.trim->arithmetic), r.trim->bits.value_or(0), clips);
  }
  return {};
}

}  // namespace heathmist
