// Reading any probe back.
//
//   ProbeReading r = read_probe(*Clip::open("return.wav"), "sweep");
//   ProbeReading g = read_probe(*Clip::open("render.wav"), "gain");     // g.gain: what became of the volume line
#pragma once
#include "core/json.hpp"
#include "core/measure/lines.hpp"
#include "core/probes/bus_readings.hpp"
#include "core/probes/crossfade_reading.hpp"
#include "core/probes/gain_reading.hpp"
#include "core/probes/pan_reading.hpp"
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
  std::optional<TransitReading> transit{};
  std::optional<GainReading> gain{};
  std::optional<PanReading> pan{};
  std::optional<CrossfadeReading> crossfade{};
  std::optional<TrimReading> trim{};
  std::optional<SilenceReading> silence{};
};

struct ReadOptions {
  int channel = 0;  ///< of probes for engines all are read; the marks are looked for in this one first
  std::optional<Json> asked_score{};  ///< what was asked instead of the kind's own score
};

/// Throws InputError where the marks are not in the file, it is cut short, holds another probe or the score was not
/// followed, JsonError for a score that is none, std::invalid_argument for a kind or a channel there is not, Cancelled.
ProbeReading read_probe(const Clip& ret, const std::string& kind, const ReadOptions& options, const Job& job = {});
inline ProbeReading read_probe(const Clip& ret, const std::string& kind, int channel = 0, const Job& job = {}) {
  return read_probe(ret, kind, ReadOptions{channel, {}}, job);
}

}  // namespace heathmist
