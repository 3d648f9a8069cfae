#include "core/delivery/sheet.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <cmath>
#include <regex>

#include "core/audio/tags.hpp"
#include "core/compare/dynamics.hpp"
#include "core/compare/json.hpp"
#include "core/measure/origin.hpp"
#include "core/printable.hpp"

namespace heathmist {

namespace {

constexpr int rates_hz[] = {8000, 11025, 16000, 22050, 32000, 44100, 48000, 88200, 96000, 176400, 192000};
constexpr double steep_db = 30;
const std::set<std::string> of_loudness{"integrated_lufs", "loudness_range_lu", "plr_db"};  // an album's, of an album

/// A number that was measured, and where.
struct Reading {
  std::optional<double> value{}, at_s{};
};

std::optional<double> first_of(const std::vector<double>& places) {
  return places.empty() ? std::nullopt : std::optional(places.front());
}

Reading loudness_reading(const Loudness& l, const std::string& key) {
  if (key == "duration_s") return {l.duration_s};
  if (key == "integrated_lufs") return {l.integrated_lufs};
  if (key == "loudness_range_lu") return {l.range ? std::optional(l.range->lu()) : std::nullopt};
  if (key == "short_term_max_lufs") return {l.short_term_max_lufs, l.short_term_max_at_s};
  if (key == "momentary_max_lufs") return {l.momentary_max_lufs, l.momentary_max_at_s};
  if (key == "true_peak_dbtp") return {l.true_peak_dbtp, l.true_peak_at_s};
  if (key == "sample_peak_dbfs") return {l.sample_peak_dbfs};
  if (key == "plr_db") return {l.plr_db};
  if (key == "true_peak_overs")
    return {double(l.over_count), l.overs.empty() ? std::nullopt : std::optional(l.overs.front().at_s)};
  return {};
}

Reading condition_reading(const Condition& c, const Measured& m, const std::string& key) {
  if (key == "head_silence_s") return {c.head_silence_s, 0.0};
  if (key == "tail_silence_s") return {c.tail_silence_s, std::max(0.0, m.format.duration_s() - c.tail_silence_s)};
  if (key == "clicks") return {double(c.clicks), first_of(c.clicks_at_s)};
  if (key == "dropouts") return {double(c.dropouts), first_of(c.dropouts_at_s)};
  if (key == "correlation") return {c.correlation};
  if (key == "least_correlation") return {c.least_correlation, c.least_correlation_at_s};
  if (key == "channel_delay_samples") return {std::abs(c.channel_delay_samples.value_or(0))};
  return {};
}

Reading reading_of(const Checked& c, const std::string& key) {
  const Levels& levels = c.measured.levels;
  if (key == "bits_used") return {levels.bits_used ? std::optional<double>(*levels.bits_used) : std::nullopt};
  if (key == "bandwidth_hz") return {c.measured.bandwidth_hz};
  if (key == "clipped_runs") return {double(levels.clipped_runs), levels.first_run_s};
  if (key == "flat_tops") return {double(c.flat_tops.value_or(0)), c.flat_tops_at_s};
  if (key == "dc_offset") {
    double most = 0;
    for (const double dc : levels.dc_offset) most = std::max(most, std::abs(dc));
    return {most};
  }
  if (const auto r = loudness_reading(c.measured.loudness, key); r.value) return r;
  return c.condition ? condition_reading(*c.condition, c.measured, key) : Reading{};
}

bool asks_for(const Rules& rules, std::initializer_list<const char*> keys) {
  return std::any_of(keys.begin(), keys.end(), [&](const char* key) { return rules.bounds.count(key) > 0; });
}

std::string shown(double value, const BoundedNumber& number) {
  const std::string digits = fmt::format("{:.{}f}", value, number.decimals);
  return *number.unit ? digits + " " + number.unit : digits;
}

/// Judged at the decimals it is shown with.
void judge(const BoundedNumber& number, const Bounds& bounds, const Reading& reading, std::vector<Fault>& faults) {
  const std::string name = number.name;
  if (!reading.value) {
    // of silence there is no loudness, of a float file no word length: where a least is asked for it is not there
    if (bounds.min) faults.push_back({number.key, name + " does not exist here.", {}, bounds.min, number.unit, {}});
    return;
  }
  const double scale = std::pow(10, number.decimals), value = std::round(*reading.value * scale) / scale;
  const auto tell = [&](double limit, const char* side) {
    const bool counted = number.decimals == 0 && !*number.unit;
    faults.push_back({number.key,
                      fmt::format("{}{} {}, {} {}.", name, counted ? ":" : "", shown(value, number),
                                  counted && limit == 0 ? "none" : shown(limit, number), counted ? "allowed" : side),
                      reading.value, limit, number.unit, reading.at_s});
  };
  if (bounds.max && value > *bounds.max + 1e-9) tell(*bounds.max, "at most");
  if (bounds.min && value < *bounds.min - 1e-9) tell(*bounds.min, "at least");
}

template <class Value>
void judge_member(const char* code, const std::string& what, const Value& value, const std::set<Value>& allowed,
                  const char* unit, std::vector<Fault>& faults) {
  if (allowed.empty() || allowed.count(value)) return;
  Fault f{code, fmt::format("{} is {}{}{}, not {}.", what, value, *unit ? " " : "", unit, fmt::join(allowed, " or "))};
  f.unit = unit;
  if constexpr (std::is_arithmetic_v<Value>) f.value = double(value);
  faults.push_back(f);
}

void judge_format(const ClipFormat& f, const Rules& rules, std::vector<Fault>& faults) {
  judge_member("sample_rate_hz", "The rate", f.sample_rate_hz, rules.sample_rates_hz, "Hz", faults);
  judge_member("channels", "The number of channels", f.channels, rules.channels, "", faults);
  judge_member("codec", "The codec", f.codec, rules.codecs, "", faults);
  if (f.container_bits)
    judge_member("container_bits", "The word length", *f.container_bits, rules.container_bits, "bit", faults);
  else if (!rules.container_bits.empty())
    faults.push_back({"container_bits", fmt::format("It has no word length (it is {}), {} was asked for.", f.codec,
                                                    fmt::join(rules.container_bits, " or "))});
}

void judge_name(const std::filesystem::path& file, const Rules& rules, std::vector<Fault>& faults) {
  if (!rules.file_name.empty() && !std::regex_match(file.filename().string(), name_pattern(rules.file_name)))
    faults.push_back({"file_name", fmt::format("Its name does not go by the pattern {}.", printable(rules.file_name))});
  if (rules.tags.empty()) return;
  const auto tags = read_tags(file);
  for (const auto& tag : rules.tags)
    if (const auto found = tags.words.find(tag); found == tags.words.end() || found->second.empty())
      faults.push_back({"tags", fmt::format("The tag {} is missing.", printable(tag))});
}

void judge_origin(const Checked& c, const Rules& rules, std::vector<Fault>& faults) {
  const int rate = c.measured.format.sample_rate_hz;
  if (rules.no_lossy_origin && c.measured.format.lossy)
    faults.push_back({"lossy_origin", fmt::format("It is a lossy file ({}).", c.measured.format.codec)});
  if (rules.no_lossy_origin && c.coding)
    faults.push_back(
        {"lossy_origin",
         fmt::format("Its samples bear the traces of a lossy coder ({}{}): it was one before.", c.coding->family,
                     c.coding->about_kbps ? fmt::format(", about {:.0f} kbit/s", *c.coding->about_kbps) : ""),
         c.coding->confidence});
  if (c.upsampled_from_hz)
    faults.push_back(
        {"upsampled",
         fmt::format("It runs at {:g} kHz and ends at {:.1f} kHz, steeply, as what comes from {:g} kHz does.",
                     rate / 1000.0, *c.band_end_hz / 1000, *c.upsampled_from_hz / 1000.0),
         c.band_end_hz, *c.upsampled_from_hz / 2.0, "Hz"});
}

/// The lower rate whose band it fills and does not leave.
void find_lower_rate(const Clip& clip, Checked& c, const Job& job) {
  const auto origin = study_origin(clip, job);
  if (!origin.bandwidth_hz || origin.steepness_db < steep_db) return;
  const int rate = clip.format().sample_rate_hz;
  double fullest = 0;
  for (const int lower : rates_hz) {
    // near the clip's own rate a band that is a little short may be its own converter's
    const double least = rate >= 1.9 * lower ? 0.9 : 0.96, filled = *origin.bandwidth_hz / (lower / 2.0);
    if (rate < 1.05 * lower || filled < std::max(least, fullest) || filled > 1.01) continue;
    fullest = filled;
    c.upsampled_from_hz = lower, c.band_end_hz = origin.bandwidth_hz;
  }
}

void judge_bounds(const Checked& c, const Rules& rules, bool of_album, std::vector<Fault>& faults) {
  for (const auto& number : bounded())
    if (const auto b = rules.bounds.find(number.key);
        b != rules.bounds.end() && !(of_album && of_loudness.count(number.key)))
      judge(number, b->second, reading_of(c, number.key), faults);
}

void look_for_coding(const Clip& clip, Checked& c, const Job& job) {
  if (!clip.format().lossy) c.coding = find_coding(clip, job);
  c.is_origin_known = true;
}

Checked check_one(const std::filesystem::path& file, const Rules& rules, bool of_album, const Job& job) {
  Checked c;
  c.measured = measure_file(file, job.part(0, 0.5));
  const bool condition = asks_for(rules, {"head_silence_s", "tail_silence_s", "clicks", "dropouts", "correlation",
                                          "least_correlation", "channel_delay_samples"}),
             tops = asks_for(rules, {"flat_tops"});
  const auto clip = Clip::open(file, job.part(0.5, 0.6));
  if (condition) c.condition = study_condition(*clip, job.part(0.6, 0.7));
  if (tops) {
    const auto found = find_flat_tops(*clip, c.measured.levels.sample_peak, job.part(0.7, 0.75));
    c.flat_tops = found.runs, c.flat_tops_at_s = first_of(found.at_s);
  }
  if (rules.no_upsampling) find_lower_rate(*clip, c, job.part(0.75, 0.8));
  if (rules.no_lossy_origin) look_for_coding(*clip, c, job.part(0.8, 1));
  judge_format(c.measured.format, rules, c.faults);
  judge_bounds(c, rules, of_album, c.faults);
  if (rules.outlet)
    for (const Fault& f : deliver(*rules.outlet, c.measured.loudness).faults)
      if (!(of_album && of_loudness.count(f.code))) c.faults.push_back(f);
  judge_origin(c, rules, c.faults);
  judge_name(file, rules, c.faults);
  return c;
}

}  // namespace

Checked check_file(const std::filesystem::path& file, const Rules& rules, const Job& job) {
  return check_one(file, rules, false, job);
}
Checked check_track(const std::filesystem::path& file, const Rules& rules, const Job& job) {
  return check_one(file, rules, true, job);
}

void know_origin(const std::filesystem::path& file, Checked& checked, const Job& job) {
  if (!checked.is_origin_known) look_for_coding(*Clip::open(file, job.part(0, 0.1)), checked, job.part(0.1, 1));
}

std::vector<Fault> check_album(const std::vector<const Loudness*>& tracks, const Rules& rules) {
  const Loudness album = album_of(tracks);
  std::vector<Fault> faults;
  for (const auto& number : bounded())
    if (const auto b = rules.bounds.find(number.key); b != rules.bounds.end() && of_loudness.count(number.key))
      judge(number, b->second, loudness_reading(album, number.key), faults);
  if (rules.outlet)
    for (const Fault& f : deliver(*rules.outlet, album).faults)
      if (of_loudness.count(f.code)) faults.push_back(f);
  return faults;
}

Json faults_json(const std::vector<Fault>& faults) {
  Json list = Json::array();
  for (const Fault& f : faults)
    list.push_back({{"code", f.code},
                    {"text", f.text},
                    {"value", number_or_null(f.value)},
                    {"limit", number_or_null(f.limit)},
                    {"unit", f.unit},
                    {"at_s", number_or_null(f.at_s)}});
  return list;
}

Json checked_json(const std::string& path, const Checked& c) {
  Json json{{"path", path}, {"passes", c.passes()}, {"faults", faults_json(c.faults)}};
  json.update(measured_json(path, c.measured));
  if (c.flat_tops) json["flat_tops"] = *c.flat_tops;
  if (c.condition)
    for (const char* key :
         {"head_silence_s", "tail_silence_s", "clicks", "dropouts", "correlation", "least_correlation"})
      json[key] = number_or_null(condition_reading(*c.condition, c.measured, key).value);
  if (c.condition) json["channel_delay_samples"] = number_or_null(c.condition->channel_delay_samples);
  if (c.is_origin_known) json["lossy_origin"] = c.coding ? coding_json(*c.coding) : Json(nullptr);
  if (c.upsampled_from_hz) json["upsampled_from_hz"] = *c.upsampled_from_hz;
  return json;
}

}  // namespace heathmist
