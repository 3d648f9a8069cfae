// One change of a gain: how late, how long, in which shape. Inside core/probes only.
#pragma once
#include <functional>
#include <optional>
#include <span>
#include <string>
#include <vector>

namespace heathmist {

/// Way from 0, where it was, to 1, where it ends; `time_s` of its samples are the probe's.
struct Transition {
  std::span<const double> way;
  double first_s = 0, step_s = 0;
  double noise = 0;         ///< rms on the way
  double spread_s = 0;      ///< see CarrierTrack
  double from = 0, to = 1;  ///< amplitudes at its ends
};

enum class Shape { step, straight, one_pole, raised_cosine, decibels, two_poles };
const char* name_of(Shape shape);

struct ShapeFit {
  Shape shape = Shape::step;
  double begins_s = 0, lasts_s = 0;  ///< of poles: the time constant
  double error = 0;                  ///< rms, a share of the change
};
/// The shape that fits best, the simpler one where two fit alike. `around_s`: where the change is.
ShapeFit fit_shape(const Transition& t);
/// When a shape has gone a share of its way.
double time_of(const ShapeFit& fit, const Transition& t, double share);

/// When the way first passes a share, between samples; where a single one jumps over it, that one.
std::optional<double> crossing(const Transition& t, double share);

struct Stairs {
  int count = 0;
  double step_s = 0;
};
/// Jumps with rests between them: `along` from 0 to 1, in a measure in which they are alike.
std::optional<Stairs> stairs_of(std::span<const double> along, double step_s, double noise, double spread_s);

}  // namespace heathmist
