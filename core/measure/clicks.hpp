// Clicks of one channel. Inside core/measure only.
#pragma once
#include <cstdint>
#include <span>
#include <vector>

namespace heathmist {

/// Frames of `x` in [from, until) at which a click begins (see condition.hpp); what lies around them helps to tell.
std::vector<int64_t> clicks_in(std::span<const double> x, int64_t from, int64_t until, int sample_rate_hz);

}  // namespace heathmist
