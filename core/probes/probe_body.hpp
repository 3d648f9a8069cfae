// The sweep of a probe at any moment, as it was written. Inside core/probes only.
#pragma once
#include "core/probes/probe.hpp"

namespace heathmist {

constexpr double probe_fade_s = 0.02;  ///< at either end of a body, and of a step in it
/// `body_s`: seconds from the body's first frame; full scale is 1.
double sweep_at(const ProbeScore& score, double body_s);

}  // namespace heathmist
