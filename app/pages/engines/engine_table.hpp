// The table of a reading: events, positions, correlations or sections; and all engines side by side.
#pragma once
#include "app/pages/engines/engine_readings.hpp"
#include "app/widgets/result_table.hpp"

namespace heathmist::app {

/// Gives a table the columns and rows of a reading.
void show_in(ResultTable& table, std::shared_ptr<const ProbeReading> reading);
/// The engines of a bench, a row each.
void show_side_by_side(ResultTable& table, const std::vector<TestedEngine>& engines, const EngineReadings& readings);

}  // namespace heathmist::app
