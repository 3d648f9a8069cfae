// `trim`: gains that are put in and taken back, so that what the bus between them can carry shows.
#include "core/probes/engine_kinds.hpp"

namespace heathmist {

namespace {

constexpr double section_s = 1.7, tone_s = 1.1;

void fill(ProbeScore& s) {
  double at = s.body_s;
  for (const double db : {0.0, -24.0, -48.0, -72.0, -96.0, 12.0, 18.0, 24.0, 36.0, 48.0}) {
    s.sections.push_back({at, at + section_s, db, -db});
    at += section_s;
  }
}

void body(const ProbeScore& s, int, Planar& sound) {
  for (int64_t n = 0; n < sound.frames(); ++n) {
    const double t = double(n) / s.rate_hz;
    for (const TrimSection& section : s.sections) {
      const double edge = edge_of(t, section.from_s + 0.1, section.from_s + 0.1 + tone_s);
      if (edge == 0) continue;
      const auto z = edge * carrier(t);
      sound.channel(0)[size_t(n)] += z.imag();
      if (sound.channels() > 1) sound.channel(1)[size_t(n)] += z.real();
    }
  }
}

}  // namespace

EngineKind trim_kind() {
  return {{"trim", "Trim", "whether the bus is fixed or floating, of how many bits, and where it clips", 17, true},
          fill,
          body};
}

}  // namespace heathmist
