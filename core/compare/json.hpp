// What the measurements look like as JSON, with the keys that scripts rely on.
#pragma once
#include "core/compare/explain.hpp"
#include "core/json.hpp"

namespace heathmist {

/// The facts of one clip; `path` as given.
Json facts_json(const std::string& path, const ClipFormat& format, const Levels& levels,
                std::optional<double> bandwidth_hz);

Json finding_json(const Finding& finding);
Json causes_json(const std::vector<Cause>& causes);
Json null_json(const NullReport& report);

/// What the explanation adds: one object, `explanation` in the answer to `null`.
Json explanation_json(const NullReport& report, const Explanation& why);

/// Flat objects as CSV (RFC 4180), a line each under a heading of all their keys: `heads` first, then as they come. A
/// list of numbers becomes columns key_1, key_2 ...; other lists and objects are left out.
std::string csv_of(const std::vector<Json>& rows, std::vector<std::string> heads = {});

/// A number, or null where there is none or it is not finite.
Json number_or_null(std::optional<double> value);

}  // namespace heathmist
