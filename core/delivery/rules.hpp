// The rules of a sheet: what a file must be to be delivered. A small open JSON (docs/formats.md):
//
//   {"name": "House masters", "sample_rate_hz": [96000], "bits_used": {"min": 20}, "true_peak_dbtp": {"max": -1},
//    "clicks": {"max": 0}, "upsampled": false, "tags": ["TITLE", "ISRC"], "file_name": "[0-9]{2} .+\\.wav"}
#pragma once
#include <map>
#include <regex>
#include <set>

#include "core/delivery/outlet.hpp"

namespace heathmist {

struct Bounds {
  std::optional<double> min{}, max{};
  bool operator==(const Bounds&) const = default;
};

struct Rules {
  std::string name;
  std::set<int> sample_rates_hz, container_bits, channels;  ///< what is allowed; empty: anything
  std::set<std::string> codecs;
  std::map<std::string, Bounds> bounds;  ///< by one of bounded()
  bool no_lossy_origin = false;          ///< samples that bear the traces of a lossy coder are refused
  bool no_upsampling = false;            ///< and those that come from a lower rate
  std::vector<std::string> tags;         ///< that must be there, by TagLib's names of properties
  std::string file_name;                 ///< a regular expression (ECMAScript) for all of it; empty: any
  std::optional<Outlet> outlet{};        ///< and its rule of loudness
  bool operator==(const Rules&) const = default;
};

/// A number that can be bounded.
struct BoundedNumber {
  const char *key, *name, *unit;
  int decimals;  ///< it is shown with, and judged at
};
const std::vector<BoundedNumber>& bounded();
const BoundedNumber* bounded(const std::string& key);

/// Rules that cannot be: one sentence that says which key is wrong and what it takes.
struct RulesError : std::runtime_error {
  using std::runtime_error::runtime_error;
};
Rules rules_from_json(const Json& json);
Json rules_json(const Rules& rules);
/// The pattern for file names; it is matched in a time that does not explode, and so takes no back references. Throws
/// std::regex_error.
std::regex name_pattern(const std::string& text);
/// Throws InputError: no JSON, or no rules.
Rules load_rules(const std::filesystem::path& file);
/// Just those of an outlet.
Rules rules_of(const Outlet& outlet);

}  // namespace heathmist
