#include "core/probes/readings.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "core/probes/engine_answers.hpp"

namespace heathmist {

Json line_json(const SpectralLine& l) {
  return {{"kind", name_of(l.kind)}, {"hz", l.hz},
          {"dbfs", l.dbfs},          {"dbr", l.dbr},
          {"order", l.order},        {"before_hz", l.before_hz > 0 ? Json(l.before_hz) : Json(nullptr)},
          {"name", l.name},          {"unresolved", l.unresolved}};
}

std::vector<std::string> line_heads() {
  std::vector<std::string> heads{"path"};
  const Json line = line_json(SpectralLine{});
  for (const auto& [key, value] : line.items()) heads.push_back(key);
  return heads;
}

std::string unresolved_text(const LineReading& r) {
  const auto it = std::find_if(r.lines.begin(), r.lines.end(), [](const SpectralLine& l) { return l.unresolved; });
  if (it == r.lines.end()) return {};
  if (r.fft_size_to_resolve > most_fft_size)
    return fmt::format("Unresolved: at {:.2f} Hz two lines may be nearer than any FFT here tells, or one moves.",
                       it->hz);
  return fmt::format(
      "Unresolved: at {:.2f} Hz two lines may be nearer than the resolution, or one moves; an FFT of {} "
      "points would tell.",
      it->hz, r.fft_size_to_resolve);
}

const char* imd_against(Intermodulation method) {
  constexpr const char* words[] = {"", "the upper tone, SMPTE RP 120",
                                   "the sum of both tones, IEC 60268-3 difference tone", "the power of both tones"};
  return words[int(method)];
}

namespace {
Json unresolved_json(const LineReading& r) {
  if (r.fft_size_to_resolve == 0) return nullptr;
  return {{"text", unresolved_text(r)},
          {"fft_size", r.fft_size_to_resolve <= most_fft_size ? Json(r.fft_size_to_resolve) : Json(nullptr)}};
}
}  // namespace

Json lines_json(const LineReading& r) {
  Json lines = Json::array();
  for (const auto& l : r.lines) lines.push_back(line_json(l));
  return {{"thd_db", number_or_null(r.thd_db)},
          {"thd_n_db", number_or_null(r.thd_n_db)},
          {"sinad_db", number_or_null(r.sinad_db)},
          {"sfdr_db", number_or_null(r.sfdr_db)},
          {"imd_db", number_or_null(r.imd_db)},
          {"imd_method", r.imd_db ? Json(name_of(r.imd_method)) : Json(nullptr)},
          {"imd_against", r.imd_db ? Json(imd_against(r.imd_method)) : Json(nullptr)},
          {"equivalent_bits", number_or_null(r.equivalent_bits)},
          {"noise_dbfs", number_or_null(r.noise_dbfs)},
          {"noise_per_root_hz_dbfs", number_or_null(r.noise_per_root_hz_dbfs)},
          {"noise_a_dbfs", number_or_null(r.noise_a_dbfs)},
          {"noise_k_dbfs", number_or_null(r.noise_k_dbfs)},
          {"noise_468_dbfs", number_or_null(r.noise_468_dbfs)},
          {"unresolved", unresolved_json(r)},
          {"lines", lines}};
}

namespace {

constexpr double least_db = -399;  // what is lower is nothing at all

Json level_or_null(double db) { return db > least_db ? Json(db) : Json(nullptr); }

Json worst_json(const SweepReading::Worst& w) {
  return {{"db", level_or_null(w.db)}, {"in_hz", w.in_hz}, {"out_hz", w.out_hz}, {"image", w.image}};
}

/// The strongest thing at a point that should not be there, as a level against what went in.
double worst_of(const SweepPoint& p, const SweepReading& r) {
  double worst = -400;
  for (size_t k = 0; k < p.image_db.size(); ++k)
    if (r.images[k] != 0 || p.in_hz > r.to_hz / 2.0) worst = std::max(worst, p.image_db[k]);
  return worst;
}

Json point_json(const SweepPoint& p, const SweepReading& r) {
  const bool folded = p.in_hz > r.to_hz / 2.0;
  return {{"in_hz", p.in_hz},
          {"gain_db", folded ? Json(nullptr) : level_or_null(p.wanted_db())},
          {"phase_deg", folded ? Json(nullptr) : Json(std::arg(p.wanted) * 180 / std::numbers::pi)},
          {"alias_db", level_or_null(worst_of(p, r))},
          {"second_harmonic_db", level_or_null(p.harmonic_db[0])},
          {"third_harmonic_db", level_or_null(p.harmonic_db[1])},
          {"rest_db", level_or_null(p.rest_db)}};
}

Json step_json(const StepReading& s) {
  Json json{{"tones_hz", s.step.tones_hz},
            {"in_dbfs", s.step.tones_hz.empty() ? Json(nullptr) : Json(s.step.dbfs)},
            {"level_dbfs", number_or_null(s.level_dbfs)},
            {"gain_db", number_or_null(s.gain_db)}};
  json.update(lines_json(s.lines));
  return json;
}

}  // namespace

Json sweep_json(const SweepReading& r) {
  Json points = Json::array();
  for (const auto& p : r.points) points.push_back(point_json(p, r));
  return {{"from_hz", r.from_hz},
          {"to_hz", r.to_hz},
          {"level_dbfs", r.level_dbfs},
          {"gain_db", r.gain_db},
          {"pass_band_hz", r.pass_band_hz},
          {"ripple_db", r.ripple_db},
          {"edge_minus_0_1_db_hz", number_or_null(r.edges.minus_0_1_db)},
          {"edge_minus_3_db_hz", number_or_null(r.edges.minus_3_db)},
          {"edge_minus_60_db_hz", number_or_null(r.edges.minus_60_db)},
          {"worst_alias", worst_json(r.alias)},
          {"worst_audible_alias", worst_json(r.audible)},
          {"worst_harmonic", worst_json(r.harmonic)},
          {"rest_db", level_or_null(r.rest_db)},
          {"group_delay_s", r.delay_s},
          {"group_delay_spread_s", r.delay_spread_s},
          {"grade", name_of(grade_of(r))},
          {"words", label_of(r)},
          {"points", points}};
}

Json impulse_json(const ImpulseReading& r) {
  return {{"peak_dbfs", r.peak_dbfs},
          {"polarity", r.inverted ? "inverted" : "normal"},
          {"delay_s", r.delay_s},
          {"pre_ringing_s", r.pre_ringing_s},
          {"post_ringing_s", r.post_ringing_s}};
}

Json probe_json(const ProbeReading& r) {
  Json json{{"kind", r.score.kind},
            {"probe_rate_hz", r.score.rate_hz},
            {"return_rate_hz", r.return_rate_hz},
            {"delay_samples", r.delay_s * r.return_rate_hz},
            {"drift_ppm", r.drift_ppm},
            {"level_db", r.fit.level_db},
            {"polarity", r.fit.inverted ? "inverted" : "normal"}};
  if (r.sweep) json["sweep"] = sweep_json(*r.sweep);
  if (r.impulse) json["impulse"] = impulse_json(*r.impulse);
  if (!r.steps.empty()) {
    json["steps"] = Json::array();
    for (const auto& s : r.steps) json["steps"].push_back(step_json(s));
  }
  if (const Json engine = engine_json(r); !engine.is_null()) {
    json[r.score.kind] = engine;
    json["findings"] = Json::array();
    for (const Finding& f : engine_findings(r)) json["findings"].push_back(finding_json(f));
  }
  return json;
}

std::vector<Json> points_of(const ProbeReading& r) {
  std::vector<Json> rows;
  if (r.sweep)
    for (const auto& p : r.sweep->points) rows.push_back(point_json(p, *r.sweep));
  for (const auto& s : r.steps) {
    rows.push_back({{"tone_hz", s.step.tones_hz.empty() ? Json(nullptr) : Json(s.step.tones_hz.front())}});
    rows.back().update(step_json(s));
  }
  const auto engine_rows = engine_points(r);
  rows.insert(rows.end(), engine_rows.begin(), engine_rows.end());
  if (r.impulse)
    for (size_t n = 0; n < r.impulse->value.size(); ++n)
      rows.push_back({{"after_s", r.impulse->after_s[n]}, {"value", r.impulse->value[n]}});
  return rows;
}

const char* name_of(Grade grade) {
  constexpr const char* names[] = {"spotless", "clean", "fair", "poor"};
  return names[int(grade)];
}

Grade grade_of(const SweepReading& r) {
  const double folds = std::max(r.audible.db, r.harmonic.db);
  const double half = std::min(r.from_hz, r.to_hz) / 2.0, flat = r.edges.minus_0_1_db.value_or(half) / half,
               top = r.edges.minus_3_db.value_or(half) / half;
  if (folds < -130 && flat > 0.9) return Grade::spotless;
  if (folds < -96 && top > 0.85) return Grade::clean;
  return folds < -70 ? Grade::fair : Grade::poor;
}

namespace {
std::string kilohertz(double hz) { return fmt::format("{:.3g} kHz", hz / 1000); }
}  // namespace

std::string label_of(const SweepReading& r) {
  const auto& w = r.audible;
  const std::string flat = r.edges.minus_0_1_db ? fmt::format("flat to {}", kilohertz(*r.edges.minus_0_1_db))
                                                : std::string("flat throughout");
  if (w.db < -250) return fmt::format("Nothing folds back; {}.", flat);
  if (grade_of(r) == Grade::spotless)
    return fmt::format("What folds back into hearing lies {:.0f} dB down, under any word length; {}.", -w.db, flat);
  if (r.harmonic.db > w.db)
    return fmt::format("{} makes harmonic {} of itself at {}, {:.0f} dB down; {}.", kilohertz(r.harmonic.in_hz),
                       r.harmonic.image, kilohertz(r.harmonic.out_hz), -r.harmonic.db, flat);
  if (w.db < -96) return fmt::format("What folds back into hearing lies {:.0f} dB down; {}.", -w.db, flat);
  return fmt::format("{} comes back at {}, {:.0f} dB down; {}.", kilohertz(w.in_hz), kilohertz(w.out_hz), -w.db, flat);
}

}  // namespace heathmist
