// `pan`: nine positions held and a move from left to right, over tones that no two channels share.
#include "core/probes/engine_kinds.hpp"

namespace heathmist {

namespace {

void fill(ProbeScore& s) {
  constexpr double hold_s = 1;
  double at = s.body_s + 0.6;
  s.moves = {{0, at, 0, {}}};
  for (int n = 0; n < 9; ++n, at += hold_s) s.moves.push_back({at, at + hold_s, -100.0 + 25 * n, {}});
  s.moves.push_back({at, at + hold_s, -100, {}});
  s.moves.push_back({at + hold_s, at + hold_s + 6, -100, 100.0});
  s.moves.push_back({at + hold_s + 6, at + 2 * hold_s + 6, 100, {}});
  s.moves.push_back({at + 2 * hold_s + 6, s.body_s + s.body_seconds + 1.5, 0, {}});
}

void body(const ProbeScore& s, int, Planar& sound) { add_tones(s, {s.body_s, s.body_s + s.body_seconds}, sound); }

}  // namespace

EngineKind pan_kind() {
  return {
      {"pan", "Pan", "what a position control does to each side: its law, its level, what is lost where", 18.4, true},
      fill,
      body};
}

}  // namespace heathmist
