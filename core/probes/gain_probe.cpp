// `gain`: a volume line of steps, ramps and fades over a tone.
#include <cmath>

#include "core/probes/engine_kinds.hpp"

namespace heathmist {

namespace {

/// Times on hundredths of a second are frames at every rate; they are uneven, so that blocks of an engine are met at
/// different places.
const std::vector<GainEvent>& events() {
  static const std::vector<GainEvent> all{
      {"step to silence", 3.01, 0, silent_db, 0}, {"step back", 4.52, silent_db, 0, 0},
      {"step to -6 dB", 6.03, 0, -6, 0},          {"step to 0 dB", 7.55, -6, 0, 0},
      {"step to -1 dB", 9.02, 0, -1, 0},          {"step to -30 dB", 10.56, -1, -30, 0},
      {"step from -30 dB", 12.08, -30, 0, 0},     {"ramp to -12 dB", 13.6, 0, -12, 1.2},
      {"ramp to 0 dB", 16.31, -12, 0, 0.05},      {"fade to silence", 17.84, 0, silent_db, 1.4},
      {"fade in", 20.73, silent_db, 0, 0.2}};
  return all;
}

void fill(ProbeScore& s) {
  s.gain.events = events();
  s.gain.points = {{0, 0}};
  for (const GainEvent& e : s.gain.events) {
    s.gain.points.push_back({e.at_s, e.from_db});
    s.gain.points.push_back({e.until_s(), e.to_db});
  }
  s.gain.points.push_back({s.body_s + s.body_seconds, 0});
}

void body(const ProbeScore& s, int, Planar& sound) {
  const double until = s.body_s + s.body_seconds;
  for (int64_t n = 0; n < sound.frames(); ++n) {
    const double t = double(n) / s.rate_hz, edge = edge_of(t, s.body_s, until);
    if (edge == 0) continue;
    const auto z = edge * carrier(t);
    sound.channel(0)[size_t(n)] += z.imag();
    if (sound.channels() > 1) sound.channel(1)[size_t(n)] += z.real();
  }
}

}  // namespace

EngineKind gain_kind() {
  return {{"gain", "Gain", "how a volume line is rendered: how late, how steep, smoothed in which way", 20.6, true},
          fill,
          body};
}

}  // namespace heathmist
