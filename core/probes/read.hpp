// Reading any probe back.
//
//   ProbeReading r = read_probe(*Clip::open("return.wav"), "sweep");
#pragma once
#include "core/measure/lines.hpp"
#include "core/probes/sweep_reading.hpp"

namespace heathmist {

/// A step of steady tones, read in its middle.
struct StepReading {
  ProbeStep step;
  std::optional<double> level_dbfs;  ///< of its first tone, where that can be in the return: projected on its frequency
  std::optional<double> gain_db;     ///< that against what went in
  LineReading lines;                 ///< dBr against what went in
};

struct ProbeReading {
  ProbeScore score;
  ProbeFit fit;
  int return_rate_hz = 0;
  double delay_s = 0;    ///< from the return's first frame to the probe's
  double drift_ppm = 0;  ///< return's duration against the probe's, -1
  std::optional<SweepReading> sweep{};
  std::optional<ImpulseReading> impulse{};
  std::vector<StepReading> steps{};
};

/// Throws InputError where the marks are not in the file or it is cut short, std::invalid_argument for a kind or a
/// channel there is not, Cancelled.
ProbeReading read_probe(const Clip& ret, const std::string& kind, int channel = 0, const Job& job = {});

}  // namespace heathmist
