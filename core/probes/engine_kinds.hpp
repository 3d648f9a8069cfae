// The kinds of probes that ask an engine something: each fills its score, and writes its body between the marks. Inside
// core/probes only.
#pragma once
#include <complex>
#include <vector>

#include "core/audio/planar.hpp"
#include "core/probes/probe.hpp"

namespace heathmist {

constexpr double engine_mark_dbfs = -20, engine_amplitude = 0.1;  // civil: -20 dBFS

struct EngineKind {
  ProbeKind kind;
  void (*fill)(ProbeScore& score);
  void (*body)(const ProbeScore& score, int file, Planar& sound);
};
EngineKind gain_kind();
EngineKind pan_kind();
EngineKind crossfade_kind();
EngineKind trim_kind();
EngineKind transit_kind();
/// nullptr: it is another kind.
const EngineKind* engine_kind(const std::string& key);

/// Two channels that carry the sine and the cosine of one phase: together they tell a gain at every single sample.
/// `s`: seconds of the probe. The real part is the second channel's, the imaginary the first's.
constexpr double carrier_hz = 997;
std::complex<double> carrier(double s);
/// exp(2 pi i hz s) at evenly spaced times, by rotation; exact again every 256 steps.
class Rotor {
 public:
  Rotor(double hz, double first_s, double step_s) : hz_(hz), first_s_(first_s), step_s_(step_s) {}
  std::complex<double> next();

 private:
  double hz_, first_s_, step_s_;
  long long n_ = 0;
  std::complex<double> value_, turn_;
};

/// Tones that no two channels share, all of them multiples of 20 Hz: any 50 ms tell them apart.
constexpr int tones_a_channel = 8;
constexpr double tone_amplitude = 0.035355;  // eight of them: -20 dBFS in all
/// A channel's tones at evenly spaced times; the imaginary part is the same a quarter turn on.
std::vector<std::complex<double>> tones(int channel, double first_s, double step_s, int64_t frames);

/// Each channel's own over a stretch, faded at either end.
void add_tones(const ProbeScore& score, Stretch where, Planar& sound);
/// Half a cosine at either end of a stretch, 0 outside it.
double edge_of(double s, double from_s, double until_s);

}  // namespace heathmist
