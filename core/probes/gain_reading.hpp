// Reading a volume line back: what was asked over what was rendered.
#pragma once
#include <optional>
#include <string>
#include <vector>

#include "core/audio/clip.hpp"
#include "core/probes/probe.hpp"

namespace heathmist {

enum class Smoothing { none, linear, one_pole, stairs, other };
const char* name_of(Smoothing smoothing);

/// Times in ms against what was drawn, of a share of the change in amplitude.
struct GainEventReading {
  GainEvent drawn;
  std::optional<double> late_ms;    ///< half of it done; of a ramp: the level of its drawn middle
  std::optional<double> rise_ms;    ///< 10 to 90 %
  std::optional<double> length_ms;  ///< 1 to 99 %
  std::optional<double> overshoot_db, ripple_db;
  struct Stairs {
    int count = 0;
    double step_ms = 0;
  };
  std::optional<Stairs> stairs;
  std::optional<double> splash_dbfs;  ///< rms above 5 kHz in the 40 ms around it; 0 dBFS: a full-scale sine
  Smoothing smoothing = Smoothing::none;
  std::string fit;       ///< the shape that fits best
  double fit_error = 0;  ///< its rms error, a share of the change
};

struct GainReading {
  Smoothing smoothing = Smoothing::none;
  double smoothing_ms = 0;        ///< whole time of a straight one, time constant of a one-pole, a stair's length
  std::string fit;                ///< of `other`: the shape that fits best
  double late_ms = 0;             ///< median of the steps
  double worst_deviation_db = 0;  ///< where nothing steps and the line is above -40 dB
  double resolution_ms = 0;       ///< what times can be told apart
  double rest_db = 0;             ///< level at rest
  std::vector<GainEventReading> events;
  struct Point {
    double at_s = 0, drawn = 0, rendered = 0;  ///< amplitudes
    double off_db() const;                     ///< rendered against drawn
  };
  std::vector<Point> curve;  ///< every 5 ms, and closer about what moves fast
};
/// Throws InputError where the tone is not there or the score was not followed (naming what is missing), Cancelled.
GainReading read_gain(const Clip& ret, const ProbeScore& score, const ProbeFit& fit, const Job& job = {});

}  // namespace heathmist
