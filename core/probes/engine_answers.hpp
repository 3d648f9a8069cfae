// What readings of engines come to: as JSON with the keys that scripts rely on, and as sentences.
#pragma once
#include "core/compare/null.hpp"
#include "core/json.hpp"
#include "core/probes/read.hpp"

namespace heathmist {

/// The object that `read` names after the kind; of kinds that ask nothing of an engine null.
Json engine_json(const ProbeReading& reading);
/// What an engine did, worst first. Levels and times as the sentence has them.
std::vector<Finding> engine_findings(const ProbeReading& reading);
/// The rows of its table, a flat object each: events, positions, sections; of a crossfade its curve.
std::vector<Json> engine_points(const ProbeReading& reading);
/// One line for a card: "5.0 ms, straight, 2.5 ms late".
std::string engine_label(const ProbeReading& reading);

}  // namespace heathmist
