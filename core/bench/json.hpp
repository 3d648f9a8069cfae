// What the measurements look like as JSON, with the keys that scripts rely on.
#pragma once
#include <nlohmann/json.hpp>

#include "core/compare/explain.hpp"

namespace heathmist {

using Json = nlohmann::ordered_json;

/// The facts of one clip; `path` as given.
Json facts_json(const std::string& path, const ClipFormat& format, const Levels& levels,
                std::optional<double> bandwidth_hz);

Json null_json(const NullReport& report);

/// What the explanation adds: one object, `explanation` in the answer to `null`.
Json explanation_json(const NullReport& report, const Explanation& why);

/// Flat objects as CSV, a line each under a heading of the first one's keys; lists and objects in them are left out.
std::string csv_of(const std::vector<Json>& rows);

/// A number, or null where there is none or it is not finite.
Json number_or_null(std::optional<double> value);

}  // namespace heathmist
