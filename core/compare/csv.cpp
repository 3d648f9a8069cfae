// Tables of flat objects, and numbers that may not be.
#include <fmt/format.h>

#include <cmath>
#include <set>

#include "core/compare/json.hpp"

namespace heathmist {

Json number_or_null(std::optional<double> value) {
  if (!value || !std::isfinite(*value)) return nullptr;
  return *value == 0 ? 0.0 : *value;  // no negative zero
}

namespace {

/// Quoted where it is text, as a comma or a quote may stand in a name.
std::string csv_word(const Json& value) {
  if (value.is_null()) return "";
  if (!value.is_string()) return value.dump();
  std::string word = value.get<std::string>();
  for (size_t at = 0; (at = word.find('"', at)) != std::string::npos; at += 2) word.insert(at, 1, '"');
  return '"' + word + '"';
}

/// Lists of numbers as numbers of their own.
Json flat(const Json& row) {
  Json made = Json::object();
  for (const auto& [key, value] : row.items()) {
    if (!value.is_structured()) made[key] = value;
    if (!value.is_array()) continue;
    for (size_t n = 0; n < value.size(); ++n)
      if (value[n].is_number()) made[fmt::format("{}_{}", key, n + 1)] = value[n];
  }
  return made;
}

}  // namespace

std::string csv_of(const std::vector<Json>& rows, std::vector<std::string> heads) {
  std::vector<Json> table;
  std::set<std::string> known(heads.begin(), heads.end());
  for (const Json& row : rows) {
    table.push_back(flat(row));
    for (const auto& [key, value] : table.back().items())
      if (known.insert(key).second) heads.push_back(key);
  }
  std::string text = fmt::format("{}\n", fmt::join(heads, ","));
  for (const Json& row : table) {
    for (size_t k = 0; k < heads.size(); ++k)
      text += (k ? "," : "") + csv_word(row.contains(heads[k]) ? row[heads[k]] : Json());
    text += "\n";
  }
  return text;
}

}  // namespace heathmist
