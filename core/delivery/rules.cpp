#include "core/delivery/rules.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <regex>

#include "core/printable.hpp"

namespace heathmist {

namespace {

[[noreturn]] void refuse(const std::string& key, const char* takes) {
  throw RulesError(fmt::format("'{}' takes {}", printable(key), takes));
}

template <class Value>
std::set<Value> list_of(const std::string& key, const Json& json, const char* takes) {
  std::set<Value> values;
  const auto take = [&](const Json& one) {
    if constexpr (std::is_same_v<Value, int>) {
      if (!one.is_number_integer() || one.get<int64_t>() < 1 || one.get<int64_t>() > 1 << 30) refuse(key, takes);
    } else if (!one.is_string()) {
      refuse(key, takes);
    }
    values.insert(one.get<Value>());
  };
  if (json.is_array())
    for (const Json& one : json) take(one);
  else
    take(json);
  if (values.empty()) refuse(key, takes);
  return values;
}

Bounds bounds_of(const std::string& key, const Json& json) {
  constexpr const char* takes = "{\"min\": number, \"max\": number}, or one of the two";
  Bounds b;
  if (!json.is_object() || json.empty()) refuse(key, takes);
  for (const auto& [side, value] : json.items()) {
    if ((side != "min" && side != "max") || !value.is_number()) refuse(key, takes);
    (side == "min" ? b.min : b.max) = value.get<double>();
  }
  if (b.min && b.max && *b.min > *b.max) refuse(key, "a min that is not above its max");
  return b;
}

/// "upsampled": false says that it may not be.
bool refused(const std::string& key, const Json& json) {
  if (!json.is_boolean()) refuse(key, "false (it may not be) or true (it may)");
  return !json.get<bool>();
}

std::string pattern_of(const std::string& key, const Json& json) {
  constexpr const char* takes = "a regular expression for the whole file name";
  if (!json.is_string() || json.get<std::string>().size() > 1000) refuse(key, takes);
  try {
    name_pattern(json.get<std::string>());
  } catch (const std::regex_error&) {
    refuse(key, takes);
  }
  return json.get<std::string>();
}

std::vector<std::string> known_keys() {
  std::vector<std::string> keys{"name",         "sample_rate_hz", "container_bits", "channels", "codec",
                                "lossy_origin", "upsampled",      "tags",           "file_name"};
  for (const auto& number : bounded()) keys.push_back(number.key);
  return keys;
}

void put(Rules& r, const std::string& key, const Json& value) {
  if (key == "name") {
    if (!value.is_string()) refuse(key, "words");
    r.name = value.get<std::string>();
  } else if (key == "sample_rate_hz") {
    r.sample_rates_hz = list_of<int>(key, value, "a rate in Hz, or a list of them");
  } else if (key == "container_bits") {
    r.container_bits = list_of<int>(key, value, "a word length in bits, or a list of them");
  } else if (key == "channels") {
    r.channels = list_of<int>(key, value, "a number of channels, or a list of them");
  } else if (key == "codec") {
    r.codecs = list_of<std::string>(key, value, "a codec (pcm, flac ...), or a list of them");
  } else if (key == "lossy_origin") {
    r.no_lossy_origin = refused(key, value);
  } else if (key == "upsampled") {
    r.no_upsampling = refused(key, value);
  } else if (key == "tags") {
    const auto names = list_of<std::string>(key, value, "the name of a tag, or a list of them");
    r.tags.assign(names.begin(), names.end());
  } else if (key == "file_name") {
    r.file_name = pattern_of(key, value);
  } else if (bounded(key)) {
    r.bounds[key] = bounds_of(key, value);
  } else {
    throw RulesError(fmt::format("there is no rule '{}'; there are {}", printable(key), fmt::join(known_keys(), ", ")));
  }
}

}  // namespace

const std::vector<BoundedNumber>& bounded() {
  static const std::vector<BoundedNumber> all{{"duration_s", "Duration", "s", 1},
                                              {"bits_used", "Bits really used", "bit", 0},
                                              {"bandwidth_hz", "Bandwidth", "Hz", 0},
                                              {"integrated_lufs", "Integrated loudness", "LUFS", 1},
                                              {"loudness_range_lu", "Loudness range", "LU", 1},
                                              {"short_term_max_lufs", "Short-term loudness", "LUFS", 1},
                                              {"momentary_max_lufs", "Momentary loudness", "LUFS", 1},
                                              {"true_peak_dbtp", "True peak", "dBTP", 1},
                                              {"sample_peak_dbfs", "Sample peak", "dBFS", 2},
                                              {"plr_db", "PLR", "dB", 1},
                                              {"true_peak_overs", "Moments above 0 dBTP", "", 0},
                                              {"clipped_runs", "Clipped runs", "", 0},
                                              {"flat_tops", "Flat tops", "", 0},
                                              {"dc_offset", "DC offset", "full scale", 5},
                                              {"head_silence_s", "Silence at the head", "s", 2},
                                              {"tail_silence_s", "Silence at the tail", "s", 2},
                                              {"clicks", "Clicks", "", 0},
                                              {"dropouts", "Dropouts", "", 0},
                                              {"correlation", "Correlation of left and right", "", 2},
                                              {"least_correlation", "Least correlation over 3 s", "", 2},
                                              {"channel_delay_samples", "Delay between the channels", "samples", 1}};
  return all;
}

const BoundedNumber* bounded(const std::string& key) {
  for (const auto& number : bounded())
    if (key == number.key) return &number;
  return nullptr;
}

Rules rules_from_json(const Json& json) {
  if (!json.is_object() || json.empty())
    throw RulesError("these are no rules; write {\"true_peak_dbtp\": {\"max\": -1}}");
  Rules r;
  for (const auto& [key, value] : json.items()) put(r, key, value);
  return r;
}

Json rules_json(const Rules& r) {
  Json json = Json::object();
  if (!r.name.empty()) json["name"] = r.name;
  const auto list = [&](const char* key, const auto& values) {
    if (!values.empty()) json[key] = values;
  };
  list("sample_rate_hz", r.sample_rates_hz), list("container_bits", r.container_bits), list("channels", r.channels);
  list("codec", r.codecs);
  for (const auto& number : bounded())
    if (const auto b = r.bounds.find(number.key); b != r.bounds.end()) {
      if (b->second.min) json[number.key]["min"] = *b->second.min;
      if (b->second.max) json[number.key]["max"] = *b->second.max;
    }
  if (r.no_lossy_origin) json["lossy_origin"] = false;
  if (r.no_upsampling) json["upsampled"] = false;
  list("tags", r.tags);
  if (!r.file_name.empty()) json["file_name"] = r.file_name;
  return json;
}

std::regex name_pattern(const std::string& text) {
  return std::regex(text, std::regex_constants::ECMAScript | std::regex_constants::__polynomial);
}

Rules load_rules(const std::filesystem::path& file) {
  try {
    return rules_from_json(json_from_file(file));
  } catch (const JsonError& error) {
    throw InputError(file, std::string(error.what()) + "; mend it, or choose another file of rules");
  } catch (const RulesError& error) {
    throw InputError(file, error.what());
  }
}

Rules rules_of(const Outlet& outlet) {
  Rules r;
  r.name = outlet.name;
  r.outlet = outlet;
  return r;
}

}  // namespace heathmist
