#include "core/compare/json.hpp"

#include <fmt/format.h>

#include <cmath>

namespace heathmist {

namespace {

template <class T>
Json or_null(const std::optional<T>& value) {
  return value ? Json(*value) : Json(nullptr);
}

std::optional<double> dbfs_of_peak(double peak) { return power_db(peak * peak); }

}  // namespace

Json facts_json(const std::string& path, const ClipFormat& format, const Levels& levels,
                std::optional<double> bandwidth_hz) {
  return {{"path", path},
          {"codec", format.codec},
          {"sample_rate_hz", format.sample_rate_hz},
          {"channels", format.channels},
          {"frames", format.frames},
          {"container_bits", or_null(format.container_bits)},
          {"sample_format", format.sample_format == SampleFormat::integer ? "int" : "float"},
          {"bits_used", or_null(levels.bits_used)},
          {"bandwidth_hz", number_or_null(bandwidth_hz)},
          {"bit_rate_bps", or_null(format.bit_rate_bps)},
          {"timeline_start_s", number_or_null(format.timeline.start_s)},
          {"priming_frames", format.timeline.priming_frames},
          {"padding_frames", format.timeline.padding_frames},
          {"duration_s", format.duration_s()}};
}

namespace {

/// [[at, before_db, after_db], ...]
Json left_json(const std::vector<LeftAt>& left) {
  Json all = Json::array();
  const auto tenths = [](double db) { return std::round(10 * db) / 10; };
  for (const LeftAt& l : left) all.push_back({l.at, tenths(l.before_db), tenths(l.after_db)});
  return all;
}

}  // namespace

Json finding_json(const Finding& f) {
  return {{"code", f.code},
          {"severity", name_of(f.severity)},
          {"text", f.text},
          {"detail", f.detail},
          {"value", number_or_null(f.value)},
          {"unit", f.unit},
          {"at_s", number_or_null(f.at_s)}};
}

Json causes_json(const std::vector<Cause>& causes) {
  Json list = Json::array();
  for (const Cause& c : causes)
    list.push_back({{"code", c.code},
                    {"text", c.text},
                    {"before_db", number_or_null(c.before_db)},
                    {"after_db", number_or_null(c.after_db)},
                    {"channels", c.channels},
                    {"from_s", number_or_null(c.from_s)},
                    {"until_s", number_or_null(c.until_s)},
                    {"values", c.values},
                    {"by_octave", left_json(c.by_octave)},
                    {"over_time", left_json(c.over_time)}});
  return list;
}

Json null_json(const NullReport& r) {
  Json channels = Json::array(), findings = Json::array();
  for (size_t p = 0; p < r.fit.pairs.size(); ++p) {
    const auto& pair = r.fit.pairs[p];
    const PairSums sums = p < r.sums.pairs.size() ? r.sums.pairs[p] : PairSums{};
    channels.push_back({{"master", pair.master},
                        {"return", pair.ret},
                        {"delay_samples", number_or_null(pair.delay_samples)},
                        {"gain_db", number_or_null(pair.gain_db)},
                        {"polarity", pair.inverted ? "inverted" : "normal"},
                        {"residual_rms_dbfs", number_or_null(power_db(sums.residual))},
                        {"residual_relative_db", number_or_null(sums.residual_relative_db())}});
  }
  for (const auto& f : r.findings) findings.push_back(finding_json(f));
  return {{"identical", r.identical},
          {"kind", name_of(r.kind)},
          {"delay_samples", number_or_null(r.fit.delay_samples)},
          {"drift_ppm", number_or_null(r.fit.drift_ppm)},
          {"gain_db", number_or_null(r.fit.gain_db)},
          {"polarity", r.fit.polarity()},
          {"agreement", r.fit.agreement},
          {"overlap_s", r.sums.seconds},
          {"master_rms_dbfs", number_or_null(power_db(r.sums.master))},
          {"residual_rms_dbfs", number_or_null(power_db(r.sums.residual))},
          {"residual_peak_dbfs", number_or_null(dbfs_of_peak(r.sums.residual_peak))},
          {"residual_relative_db", number_or_null(r.residual_relative_db())},
          {"residual_integrated_lufs", number_or_null(integrated_lufs(r.sums.residual_pieces))},
          {"remainder_relative_db", number_or_null(r.sums.remainder_relative_db())},
          {"bandwidth_hz",
           {{"master", number_or_null(r.master_bandwidth_hz)}, {"return", number_or_null(r.return_bandwidth_hz)}}},
          {"channels", channels},
          {"findings", findings},
          {"causes", causes_json(r.causes)}};
}

namespace {

Json tones_json(const std::vector<SteadyTone>& tones) {
  Json all = Json::array();
  for (const auto& t : tones) all.push_back({{"hz", t.hz}, {"dbfs", t.dbfs}});
  return all;
}

Json study_json(const ClipStudy& s) {
  Json words = nullptr;
  if (s.words) {
    Json channels = Json::array();
    for (const auto& c : s.words->channels)
      channels.push_back(
          {{"bits_used", c.bits_used}, {"bit_activity", c.activity}, {"empty_codes_share", c.empty_share}});
    words = {{"container_bits", s.words->container_bits},
             {"bits_used", s.words->bits_used},
             {"column_s", s.words->column_s},
             {"bits_over_time", s.words->bits_over_time},
             {"idle_in_silence", s.words->idle_in_silence()},
             {"channels", channels}};
  }
  Json overs = Json::array();
  for (const auto& o : s.overs) overs.push_back({{"at_s", o.at_s}, {"dbtp", o.dbtp}, {"channel", o.channel}});
  const Origin& o = s.origin;
  return {{"words", words},
          {"origin",
           {{"bandwidth_hz", number_or_null(o.bandwidth_hz)},
            {"steepness_db", o.steepness_db},
            {"ultrasonic_dbfs", number_or_null(o.ultrasonic_dbfs)},
            {"images_about_hz", number_or_null(o.folded_about_hz)},
            {"steady_tones", tones_json(o.pilot_tones)},
            {"hum_hz", number_or_null(o.hum_hz)},
            {"hum_dbfs", number_or_null(o.hum_hz ? std::optional(o.hum_dbfs) : std::nullopt)},
            {"hum_lines", tones_json(o.hum_lines)}}},
          {"flat_tops",
           {{"runs", s.flat_tops.runs},
            {"level_dbfs", number_or_null(s.flat_tops.runs ? std::optional(s.flat_tops.level_dbfs) : std::nullopt)},
            {"at_s", s.flat_tops.at_s}}},
          {"true_peak_overs", overs}};
}

Json bands_json(const std::vector<PathBand>& bands) {
  Json all = Json::array();
  for (const auto& b : bands)
    all.push_back({{"low_hz", b.low_hz},
                   {"high_hz", b.high_hz},
                   {"magnitude_db", b.magnitude_db},
                   {"magnitude_error_db", b.magnitude_error_db},
                   {"phase_deg", b.phase_deg},
                   {"phase_error_deg", b.phase_error_deg},
                   {"group_delay_ms", b.delay_ms},
                   {"coherence", b.coherence},
                   {"master_dbfs", number_or_null(power_db(b.master))},
                   {"residual_dbfs", number_or_null(power_db(b.residual))},
                   {"linear_dbfs", number_or_null(power_db(b.linear))},
                   {"remainder_dbfs", number_or_null(power_db(b.remainder))}});
  return all;
}

Json aliases_json(const std::vector<Aliasing>& aliasing) {
  Json all = Json::array();
  for (const Aliasing& a : aliasing)
    for (const FoldedBand& b : a.bands)
      all.push_back({{"rate_hz", a.rate_hz},
                     {"image", b.image},
                     {"in_low_hz", b.in_low_hz},
                     {"in_high_hz", b.in_high_hz},
                     {"out_low_hz", b.out_low_hz},
                     {"out_high_hz", b.out_high_hz},
                     {"is_line", b.is_line},
                     {"level_db", b.level_db()},
                     {"dbfs", number_or_null(power_db(b.power))},
                     {"coherence", b.coherence}});
  return all;
}

}  // namespace

Json explanation_json(const NullReport& r, const Explanation& w) {
  Json depth = Json::array(), closest = Json::array(), breaks = Json::array(), crosstalk = Json::array();
  for (const auto& b : w.depth) depth.push_back({{"centre_hz", b.centre_hz}, {"depth_db", number_or_null(b.depth_db)}});
  for (const auto& c : w.closest)
    closest.push_back({{"at_s", c.at_s},
                       {"depth_db", c.depth_db},
                       {"low_hz", c.low_hz},
                       {"high_hz", c.high_hz},
                       {"cell_db", c.cell_db}});
  for (const auto& b : w.continuity.breaks)
    breaks.push_back(
        {{"kind", name_of(b.kind)}, {"at_s", b.at_s}, {"length_s", b.length_s}, {"jump_samples", b.jump_samples}});
  for (size_t from = 0; from < r.fit.pairs.size(); ++from)
    for (size_t to = 0; to < r.fit.pairs.size(); ++to)
      if (const auto db = crosstalk_db(w.split, from, to))
        crosstalk.push_back({{"from", from}, {"to", to}, {"db", *db}});
  Json requantised = nullptr;
  if (w.requantised)
    requantised = {{"bits", w.requantised->bits},
                   {"truncated", w.requantised->truncated},
                   {"towards_zero", w.requantised->towards_zero},
                   {"dither", name_of(w.requantised->dither)},
                   {"mean_steps", w.requantised->mean_steps},
                   {"variance_steps2", w.requantised->variance_steps2},
                   {"tilt_db", w.requantised->tilt_db}};
  const bool split = !w.split.empty(), masked = w.mask.bands() > 0;
  return {
      {"linear_relative_db", number_or_null(split ? power_db(w.split.linear_power, r.sums.master) : std::nullopt)},
      {"remainder_relative_db",
       number_or_null(split ? power_db(w.split.remainder_power, r.sums.master) : std::nullopt)},
      {"path", bands_json(w.bands)},
      {"crosstalk", crosstalk},
      {"depth", depth},
      {"closest", closest},
      {"residual_to_mask",
       {{"covered_share", number_or_null(masked ? std::optional(w.mask.covered_share) : std::nullopt)},
        {"worst_db", number_or_null(masked ? std::optional(w.mask.worst_db) : std::nullopt)},
        {"worst_at_s", number_or_null(masked ? std::optional(w.mask.worst_at_s) : std::nullopt)},
        {"band_edges_hz", w.mask.band_edges_hz},
        {"band_db", w.mask.band_db}}},
      {"breaks", breaks},
      {"requantised", requantised},
      {"aliases", aliases_json(w.aliasing)},
      {"shaped_noise", w.shaped_noise ? Json{{"from_hz", w.shaped_noise->from_hz}, {"rise_db", w.shaped_noise->rise_db}}
                                      : Json(nullptr)},
      {"gain_reduction_db", w.gain.deepest_db},
      {"floor_share", number_or_null(w.floor ? std::optional(w.floor_share) : std::nullopt)},
      {"master", study_json(w.master)},
      {"return", study_json(w.ret)}};
}

}  // namespace heathmist
