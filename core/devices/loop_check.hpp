// Whether a loop of devices gives back what it is given, before anybody blames what is behind it: the transit probe
// goes round and is read.
#pragma once
#include "core/devices/capture.hpp"
#include "core/probes/read.hpp"

namespace heathmist {

struct LoopCheck {
  ProbeReading reading;  ///< transit, what it came to
  Captured captured;     ///< its file is gone by then
};
/// Sends the probe at the stream's rate with 16 or 24 bits. Throws as capture() does; InputError where the probe did
/// not come back.
LoopCheck check_loop(const StreamOrder& stream, WordFormat word, const Job& job = {},
                     const std::function<void(const CaptureReading&)>& watch = {});

}  // namespace heathmist
