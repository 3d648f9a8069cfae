// Probe signals: audio whose truth is known.
#pragma once
#include <memory>
#include <string>
#include <vector>

#include "core/audio/clip.hpp"

namespace heathmist {

struct ProbeSignal {
  std::string key, title;
  std::vector<double> tones_hz;  ///< lines it is made of; none: no lines
};

/// Tones of 41 Hz, 997 Hz and 7.3 kHz, a twin tone, a multitone, a logarithmic sweep, silence, noise at -90 dBFS.
const std::vector<ProbeSignal>& probe_signals();
/// nullptr: there is none of that key.
const ProbeSignal* probe_signal(const std::string& key);

/// The samples, channels x seconds of them, both channels alike; tones at -3 dBFS in all (a sine's peak = 0 dBFS), with
/// 20 ms of fade at either end. Reproducible.
Planar render(const ProbeSignal& signal, int rate_hz, double seconds, int channels = 2);

/// The same as a clip of its own.
std::shared_ptr<const Clip> probe_clip(const ProbeSignal& signal, int rate_hz, double seconds = 10);

}  // namespace heathmist
