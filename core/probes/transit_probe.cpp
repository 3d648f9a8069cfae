// `transit`: what an engine does when nothing is asked of it.
#include "core/probes/engine_kinds.hpp"

namespace heathmist {

namespace {

void fill(ProbeScore& s) {
  s.identity = {s.body_s, s.body_s + 6};
  s.silence = {s.body_s + 6.2, s.body_s + s.body_seconds};
}

void body(const ProbeScore& s, int, Planar& sound) { add_tones(s, {s.identity.from_s, s.identity.until_s}, sound); }

}  // namespace

EngineKind transit_kind() {
  return {{"transit", "Transit", "whether what comes out is what went in, bit for bit, and how late", 9.2, true},
          fill,
          body};
}

}  // namespace heathmist
