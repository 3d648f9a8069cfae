// What a sweep's points come to in a few numbers. Inside core/probes only.
#pragma once
#include <functional>

#include "core/probes/sweep_reading.hpp"

namespace heathmist {

/// Fills in all but the points. `gain_db`: reads the wanted gain at any frequency, to place edges between the points.
void summarize(SweepReading& reading, const ProbeScore& score, const std::function<double(double hz)>& gain_db);

}  // namespace heathmist
