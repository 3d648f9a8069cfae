#include "core/delivery/measured.hpp"

#include <fmt/format.h>

#include <cmath>

#include "core/audio/fingerprint.hpp"
#include "core/audio/kept.hpp"
#include "core/measure/bandwidth.hpp"
#include "core/rules.hpp"
#include "core/stages/returns.hpp"

namespace heathmist {

namespace {

constexpr int kept_version = 2;

std::string name_of(const std::string& print) {
  return print.empty() ? print : print + "-" + rules_fingerprint + ".loudness";
}

Json pack(const Loudness& l) {
  Json overs = Json::array();
  for (const Over& o : l.overs) overs.push_back({o.at_s, o.dbtp, o.channel});
  const auto range = l.range.value_or(LoudnessRange{});
  return {
      {"numbers",
       {number_or_null(l.integrated_lufs), number_or_null(l.relative_gate_lufs), number_or_null(l.momentary_max_lufs),
        number_or_null(l.short_term_max_lufs), number_or_null(l.true_peak_dbtp), number_or_null(l.sample_peak_dbfs),
        number_or_null(l.rms_dbfs), number_or_null(l.rms_max_dbfs), number_or_null(l.crest_db),
        number_or_null(l.plr_db), number_or_null(l.psr_min_db)}},
      {"times", {l.momentary_max_at_s, l.short_term_max_at_s, l.true_peak_at_s, l.psr_min_at_s, l.duration_s}},
      {"range", l.range ? Json{range.low_lufs, range.high_lufs} : Json(nullptr)},
      {"channel", l.true_peak_channel},
      {"over_count", l.over_count},
      {"overs", overs},
      {"pieces", l.pieces},
      {"peaks", l.peaks}};
}

Loudness unpack(const Json& json) {
  Loudness l;
  size_t n = 0;
  for (auto* number :
       {&l.integrated_lufs, &l.relative_gate_lufs, &l.momentary_max_lufs, &l.short_term_max_lufs, &l.true_peak_dbtp,
        &l.sample_peak_dbfs, &l.rms_dbfs, &l.rms_max_dbfs, &l.crest_db, &l.plr_db, &l.psr_min_db})
    *number = number_from(json.at("numbers").at(n++));
  n = 0;
  for (auto* time : {&l.momentary_max_at_s, &l.short_term_max_at_s, &l.true_peak_at_s, &l.psr_min_at_s, &l.duration_s})
    *time = json.at("times").at(n++).get<double>();
  if (const Json& range = json.at("range"); range.is_array())
    l.range = LoudnessRange{range.at(0).get<double>(), range.at(1).get<double>()};
  l.true_peak_channel = json.at("channel");
  l.over_count = json.at("over_count");
  for (const Json& o : json.at("overs"))
    l.overs.push_back({o.at(0).get<double>(), o.at(1).get<double>(), o.at(2).get<int>()});
  l.pieces = json.at("pieces").get<LoudnessPieces>();
  l.peaks = json.at("peaks").get<std::vector<float>>();
  return l;
}

Json pack(const Measured& m) {
  const auto& f = m.format;
  return {{"version", kept_version},
          {"format",
           {f.codec, f.sample_rate_hz, f.channels, f.frames, f.container_bits.value_or(-1), int(f.sample_format),
            f.lossy, f.bit_rate_bps.value_or(-1)}},
          {"timeline", {number_or_null(f.timeline.start_s), f.timeline.priming_frames, f.timeline.padding_frames}},
          {"levels",
           {m.levels.sample_peak, m.levels.mean_square, m.levels.clipped_runs, m.levels.first_run_s.value_or(-1),
            m.levels.bits_used.value_or(-1)}},
          {"dc", m.levels.dc_offset},
          {"bandwidth_hz", number_or_null(m.bandwidth_hz)},
          {"loudness", pack(m.loudness)}};
}

Measured unpack_measured(const Json& json) {
  Measured m;
  const Json &f = json.at("format"), &l = json.at("levels");
  m.format.codec = f.at(0);
  m.format.sample_rate_hz = f.at(1), m.format.channels = f.at(2), m.format.frames = f.at(3);
  if (const int bits = f.at(4); bits > 0) m.format.container_bits = bits;
  m.format.sample_format = SampleFormat(f.at(5).get<int>());
  m.format.lossy = f.at(6);
  if (const int64_t rate = f.at(7); rate >= 0) m.format.bit_rate_bps = rate;
  const Json& t = json.at("timeline");
  m.format.timeline = {number_from(t.at(0)), t.at(1), t.at(2)};
  m.levels.sample_peak = l.at(0), m.levels.mean_square = l.at(1), m.levels.clipped_runs = l.at(2);
  if (const double at_s = l.at(3); at_s >= 0) m.levels.first_run_s = at_s;
  if (const int bits = l.at(4); bits > 0) m.levels.bits_used = bits;
  m.levels.dc_offset = json.at("dc").get<std::vector<double>>();
  m.bandwidth_hz = number_from(json.at("bandwidth_hz"));
  m.loudness = unpack(json.at("loudness"));
  return m;
}

}  // namespace

Measured measure(const Clip& clip, const MeterOptions& options, const Job& job) {
  Measured m{clip.format(), cached_survey(clip, job.part(0, 0.3)).levels, {}, {}};
  m.loudness = measure_loudness(clip, options, job.part(0.3, 0.9));
  m.bandwidth_hz = bandwidth_of(clip, job.part(0.9, 1));
  return m;
}

std::optional<Measured> kept_measured(const std::string& print) {
  return kept_value(name_of(print), [](const Json& json) {
    if (json.at("version") != kept_version) throw std::runtime_error("of another version");
    return unpack_measured(json);
  });
}

void keep_measured(const std::string& print, const Measured& measured) { keep_value(name_of(print), pack(measured)); }

Measured measure_file(const std::filesystem::path& file, const Job& job) {
  const auto print = fingerprint(file);
  if (auto kept = kept_measured(print)) return *kept;
  const auto clip = Clip::open(file, job.part(0, 0.3));
  auto measured = measure(*clip, {}, job.part(0.3, 1));
  if (fingerprint(file) == print) keep_measured(print, measured);  // else it changed while it was measured
  return measured;
}

Measured measure_return(const std::filesystem::path& file, const Chain& chain, const Job& job, const Grant& grant) {
  const auto master_fingerprint = fingerprint(file);
  const auto print = master_fingerprint.empty() ? std::string() : master_fingerprint + chain_fingerprint(chain);
  if (auto kept = kept_measured(print)) return *kept;
  const auto made = pass(Clip::open(file, job.part(0, 0.1)), chain, job.part(0.1, 0.6), {grant});
  auto fresh = measure(*made.ret, {}, job.part(0.6, 1));
  if (fingerprint(file) + chain_fingerprint(chain) == print) keep_measured(print, fresh);
  return fresh;
}

Json measured_json(const std::string& path, const Measured& m) {
  Json json = facts_json(path, m.format, m.levels, m.bandwidth_hz);
  const Loudness& l = m.loudness;
  auto put = [&](const char* key, std::optional<double> value) { json[key] = number_or_null(value); };
  put("integrated_lufs", l.integrated_lufs);
  put("momentary_max_lufs", l.momentary_max_lufs);
  put("momentary_max_at_s", l.momentary_max_lufs ? std::optional(l.momentary_max_at_s) : std::nullopt);
  put("short_term_max_lufs", l.short_term_max_lufs);
  put("short_term_max_at_s", l.short_term_max_lufs ? std::optional(l.short_term_max_at_s) : std::nullopt);
  put("loudness_range_lu", l.range ? std::optional(l.range->lu()) : std::nullopt);
  put("true_peak_dbtp", l.true_peak_dbtp);
  put("true_peak_at_s", l.true_peak_dbtp ? std::optional(l.true_peak_at_s) : std::nullopt);
  put("sample_peak_dbfs", l.sample_peak_dbfs);
  put("rms_dbfs", l.rms_dbfs);
  put("rms_max_dbfs", l.rms_max_dbfs);
  put("crest_db", l.crest_db);
  put("plr_db", l.plr_db);
  put("psr_min_db", l.psr_min_db);
  put("relative_gate_lufs", l.relative_gate_lufs);
  json["clipped_runs"] = m.levels.clipped_runs;
  json["true_peak_overs"] = l.over_count;
  json["dc_offset"] = m.levels.dc_offset;
  return json;
}

Json album_json(const Loudness& a) {
  return {{"integrated_lufs", number_or_null(a.integrated_lufs)},
          {"loudness_range_lu", number_or_null(a.range ? std::optional(a.range->lu()) : std::nullopt)},
          {"true_peak_dbtp", number_or_null(a.true_peak_dbtp)},
          {"momentary_max_lufs", number_or_null(a.momentary_max_lufs)},
          {"short_term_max_lufs", number_or_null(a.short_term_max_lufs)},
          {"plr_db", number_or_null(a.plr_db)},
          {"duration_s", a.duration_s}};
}

std::string measured_csv(const std::vector<Json>& answers) {
  std::vector<std::string> heads;
  const Json none = measured_json("", Measured{});
  for (const auto& [key, value] : none.items())
    if (!value.is_structured()) heads.push_back(key);
  return csv_of(answers, heads);
}

}  // namespace heathmist
