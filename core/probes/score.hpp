// Scores: what a probe asks a person to do in an engine, and when.
//
// Times in seconds of the probe's file (of a crossfade: of the render), frame 0 = 0 s. Levels in dB; minus infinity is
// silence, and `null` in JSON. Positions from -100, hard left, to 100, hard right.
#pragma once
#include <limits>
#include <optional>
#include <string>
#include <vector>

namespace heathmist {

inline constexpr double silent_db = -std::numeric_limits<double>::infinity();

struct GainPoint {
  double at_s = 0, db = 0;
};
/// A change that is drawn: a step where it has no length.
struct GainEvent {
  std::string name;
  double at_s = 0, from_db = 0, to_db = 0, length_s = 0;
  double until_s() const { return at_s + length_s; }
};
/// A volume line: straight in dB between its points, straight in amplitude from or to silence, level outside them. Of
/// two points at one time the second counts from there on.
struct GainScore {
  std::vector<GainPoint> points;
  std::vector<GainEvent> events;
  double amplitude_at(double s) const;
};

/// A position that is held, or a straight move to another one.
struct PanMove {
  double from_s = 0, until_s = 0, position = 0;
  std::optional<double> to{};
};
/// In the middle where nothing is asked.
double position_at(const std::vector<PanMove>& moves, double s);

/// Two clips on one track, one fading out as the other fades in.
struct CrossfadeScore {
  double a_at_s = 0, b_at_s = 0, fade_from_s = 0, fade_until_s = 0;
};

/// A gain, and after it the one that takes it back.
struct TrimSection {
  double from_s = 0, until_s = 0, first_db = 0, then_db = 0;
};

/// Where the stretches of a body lie that nothing is asked in.
struct Stretch {
  double from_s = 0, until_s = 0;
};

}  // namespace heathmist
