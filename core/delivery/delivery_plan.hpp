// What should exist of each master (docs/formats.md).
#pragma once
#include "core/delivery/rules.hpp"

namespace heathmist {

/// What should exist: a name and what such a file must be. Rate, word length, channels and codec say which file it is;
/// the other rules are then held against it. {"deliverables": [{"name": "CD", "sample_rate_hz": 44100, ...}, ...]}
using DeliveryPlan = std::vector<Rules>;
/// Throws RulesError: an entry without a name, two of one name, or what rules are refused for.
DeliveryPlan plan_from_json(const Json& json);
/// Throws InputError.
DeliveryPlan load_plan(const std::filesystem::path& file);

}  // namespace heathmist
