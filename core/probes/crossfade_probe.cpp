// `crossfade`: two clips a quarter turn apart, so that the gain of each can be told at every single sample.
#include "core/probes/engine_kinds.hpp"

namespace heathmist {

namespace {

constexpr double a_ends_s = 11.6, b_begins_s = 8;

void fill(ProbeScore& s) { s.crossfade = CrossfadeScore{0, b_begins_s, 9, 11}; }

/// The second clip's time is the render's less where it is put.
void body(const ProbeScore& s, int file, Planar& sound) {
  const double at = file == 0 ? s.crossfade->a_at_s : s.crossfade->b_at_s;
  const double from = file == 0 ? s.body_s : b_begins_s + 0.4, until = file == 0 ? a_ends_s : s.body_s + s.body_seconds;
  const std::complex<double> quarter = file == 0 ? 1 : std::complex<double>(0, 1);
  for (int64_t n = 0; n < sound.frames(); ++n) {
    const double t = at + double(n) / s.rate_hz, edge = edge_of(t, from, until);
    if (edge == 0) continue;
    const auto z = edge * quarter * carrier(t);
    sound.channel(0)[size_t(n)] += z.imag();
    if (sound.channels() > 1) sound.channel(1)[size_t(n)] += z.real();
  }
}

}  // namespace

EngineKind crossfade_kind() {
  return {{"crossfade", "Crossfade", "the curve of either side of a crossfade, and where the level dips or swells",
           12.4, true},
          fill,
          body};
}

}  // namespace heathmist
