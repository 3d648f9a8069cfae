#include "core/probes/signal.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>

#include "core/audio/scratch.hpp"
#include "core/dsp/noise.hpp"
#include "core/probes/sweep_law.hpp"

namespace heathmist {

namespace {

using std::numbers::pi;
constexpr double peak = 0.7079457843841379;  // -3 dBFS
constexpr double signal_fade_s = 0.02;

/// A third of an octave apart, off round numbers, so that no product falls on a line.
std::vector<double> multitone() {
  std::vector<double> hz;
  for (int n = 0; n < 27; ++n) hz.push_back(std::round(43 * std::pow(2, n / 3.0)) + 0.25 * (n % 3));
  return hz;
}

/// Sines with phases after Schroeder (1970), which keep the peak low, scaled to the wanted peak.
void add_tones(const std::vector<double>& tones, int rate_hz, std::span<double> x) {
  for (size_t k = 0; k < tones.size(); ++k) {
    const double phase = tones.size() < 3 ? 0 : -pi * double(k * k) / double(tones.size());
    for (size_t n = 0; n < x.size(); ++n)
      x[n] += std::sin(2 * pi * std::remainder(tones[k] * double(n) / rate_hz, 1.0) + phase);
  }
  double top = 0;
  for (const double v : x) top = std::max(top, std::abs(v));
  const double scale = tones.size() == 1 ? peak : peak / std::max(top, 1e-9);
  for (double& v : x) v *= scale;
}

/// Exponential sweep from 20 Hz to 0.45 of the rate.
void add_sweep(int rate_hz, std::span<double> x) {
  const SweepLaw law{20, 0.45 * rate_hz, double(x.size()) / rate_hz, true};
  for (size_t n = 0; n < x.size(); ++n)
    x[n] = peak * std::sin(2 * pi * std::remainder(law.cycles(double(n) / rate_hz), 1.0));
}

}  // namespace

const std::vector<ProbeSignal>& probe_signals() {
  static const std::vector<ProbeSignal> all{{"tone_41", "Tone 41 Hz", {41}},
                                            {"tone", "Tone 997 Hz", {997}},
                                            {"tone_7300", "Tone 7.3 kHz", {7300}},
                                            {"twin_tone", "Twin tone 11 and 12 kHz", {11000, 12000}},
                                            {"multitone", "Multitone", multitone()},
                                            {"log_sweep", "Logarithmic sweep", {}},
                                            {"silence", "Silence", {}},
                                            {"noise_90", "Noise -90 dBFS", {}}};
  return all;
}

const ProbeSignal* probe_signal(const std::string& key) {
  const auto& all = probe_signals();
  const std::string now = key == "tone_997" ? "tone" : key == "sweep" ? "log_sweep" : key;  // as they were called once
  const auto it = std::find_if(all.begin(), all.end(), [&](const ProbeSignal& s) { return s.key == now; });
  return it == all.end() ? nullptr : &*it;
}

Planar render(const ProbeSignal& signal, int rate_hz, double seconds, int channels) {
  Planar sound(channels, std::llround(seconds * rate_hz));
  auto x = sound.channel(0);
  auto tones = signal.tones_hz;
  std::erase_if(tones, [&](double hz) { return hz > 0.45 * rate_hz; });
  if (!tones.empty()) add_tones(tones, rate_hz, x);
  if (signal.key == "log_sweep") add_sweep(rate_hz, x);
  if (signal.key == "noise_90") {
    dsp::Noise chance(90);
    for (double& v : x) v = std::pow(10, -90 / 20.0) * chance.gaussian();
  }
  const auto fade = std::min(x.size() / 2, size_t(signal_fade_s * rate_hz));
  for (size_t n = 0; n < fade; ++n) {
    const double gain = 0.5 - 0.5 * std::cos(pi * (double(n) + 0.5) / double(fade));
    x[n] *= gain, x[x.size() - 1 - n] *= gain;
  }
  for (int c = 1; c < channels; ++c) std::copy(x.begin(), x.end(), sound.channel(c).begin());
  return sound;
}

std::shared_ptr<const Clip> probe_clip(const ProbeSignal& signal, int rate_hz, double seconds) {
  return made_clip(render(signal, rate_hz, seconds), rate_hz, signal.title);
}

}  // namespace heathmist
