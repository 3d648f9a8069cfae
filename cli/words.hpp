// Words of a call that more than one verb takes.
#pragma once
#include <string>

#include "core/measure/meter.hpp"

namespace heathmist::cli {

/// "all", "mid", "side" or a channel's number from 1. Throws std::invalid_argument.
MeterOptions listening(const std::string& words);

}  // namespace heathmist::cli
