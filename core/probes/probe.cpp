#include "core/probes/probe.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "core/audio/scratch.hpp"
#include "core/audio/write.hpp"
#include "core/dsp/noise.hpp"
#include "core/probes/probe_body.hpp"
#include "core/probes/signal.hpp"
#include "core/probes/sync_chirp.hpp"

namespace heathmist {

namespace {

constexpr double pi = std::numbers::pi;
constexpr double lead_s = 0.25, body_at_s = 2, gap_s = 0.5, tail_s = 0.75, fade_s = probe_fade_s;

double level_of(double dbfs) { return std::pow(10, dbfs / 20); }

/// On a frame of every rate from 8 kHz up that is a multiple of 50 Hz: a hundredth of a second is too fine for 11025.
double rounded_s(double seconds) { return std::round(seconds * 25) / 25; }

std::vector<ProbeStep> series(const std::vector<std::pair<double, double>>& hz_and_dbfs, double each_s) {
  std::vector<ProbeStep> steps;
  for (const auto& [hz, dbfs] : hz_and_dbfs)
    steps.push_back({body_at_s + each_s * double(steps.size()), each_s, {hz}, dbfs});
  return steps;
}

/// Stepped tones: a sixth of a decade apart, then close below half the rate, where converters differ.
std::vector<std::pair<double, double>> stepped(double rate_hz) {
  std::vector<std::pair<double, double>> all;
  for (int n = 0; n < 16; ++n) {
    const double hz = std::round(31.5 * std::pow(10, n / 6.0)) + 0.5;
    if (hz < 0.4 * rate_hz) all.emplace_back(hz, -3);
  }
  for (const double share : {0.42, 0.44, 0.455, 0.47, 0.485, 0.495}) all.emplace_back(std::round(share * rate_hz), -3);
  return all;
}

/// The multitone of the probe signals, as far as the rate carries it.
std::vector<double> many_tones(double rate_hz) {
  auto hz = probe_signal("multitone")->tones_hz;
  std::erase_if(hz, [&](double f) { return f > 0.45 * rate_hz; });
  return hz;
}

/// Each on a frame of its own between 0.4 s, so that what comes back of them falls between the frames of another rate
/// at different places.
std::vector<double> impulses(int rate_hz) {
  std::vector<double> at_s;
  for (int n = 0; n < 8; ++n) at_s.push_back((std::round((body_at_s + 0.4 + 0.4 * n) * rate_hz) + n) / rate_hz);
  return at_s;
}

void fill_body(ProbeScore& s) {
  const double rate = s.rate_hz, top = 0.4995 * rate;
  if (s.kind == "sweep") s.sweep = SweepLaw{10, top, s.body_seconds, false};
  if (s.kind == "log_sweep") s.sweep = SweepLaw{15, top, s.body_seconds, true};
  if (s.kind == "silence") s.steps = {{body_at_s, s.body_seconds, {}, 0}};
  if (s.kind == "tone") s.steps = {{body_at_s, s.body_seconds, {997}, -1}};
  if (s.kind == "ultrasonic") s.steps = {{body_at_s, s.body_seconds, {rate >= 64000 ? 27400 : 0.46 * rate}, -3}};
  if (s.kind == "twin_tone") s.steps = {{body_at_s, s.body_seconds, {0.2297 * rate, 0.2493 * rate}, -7}};
  if (rate >= 32000 && s.kind == "twin_tone") s.steps.front().tones_hz = {11000, 12000};
  if (s.kind == "multitone") {
    const auto tones = many_tones(rate);
    s.steps = {{body_at_s, s.body_seconds, tones, -3 - 20 * std::log10(double(tones.size()))}};
  }
  if (s.kind == "steps") s.steps = series(stepped(rate), 0.6), s.body_seconds = 0.6 * double(s.steps.size());
  if (s.kind == "levels") {
    std::vector<std::pair<double, double>> levels;
    for (int db = 0; db >= -140; db -= 10) levels.emplace_back(997, db == 0 ? -1 : db);
    s.steps = series(levels, 1);
  }
  if (s.kind == "impulse") s.impulses_s = impulses(s.rate_hz);
}

/// Phases after Schroeder (1970) keep the peak of many tones low.
void add_step(const ProbeStep& step, int rate, std::vector<double>& x) {
  const auto first = size_t(std::llround(step.at_s * rate)), frames = size_t(std::llround(step.seconds * rate));
  const double fade = fade_s * rate;
  for (size_t k = 0; k < step.tones_hz.size(); ++k) {
    const double phase = step.tones_hz.size() < 3 ? 0 : -pi * double(k * k) / double(step.tones_hz.size());
    for (size_t n = 0; n < frames && first + n < x.size(); ++n) {
      const double edge = std::min({1.0, (double(n) + 0.5) / fade, (double(frames - n) - 0.5) / fade});
      x[first + n] += level_of(step.dbfs) * (0.5 - 0.5 * std::cos(pi * edge)) *
                      std::sin(2 * pi * std::remainder(step.tones_hz[k] * double(n) / rate, 1.0) + phase);
    }
  }
}

void add_sweep(const ProbeScore& s, std::vector<double>& x) {
  const auto first = size_t(std::llround(s.body_s * s.rate_hz)),
             frames = size_t(std::llround(s.body_seconds * s.rate_hz));
  for (size_t n = 0; n < frames; ++n) x[first + n] += sweep_at(s, double(n) / s.rate_hz);
}

}  // namespace

double sweep_at(const ProbeScore& s, double t) {
  const double frames = std::round(s.body_seconds * s.rate_hz), n = t * s.rate_hz, fade = fade_s * s.rate_hz;
  const double edge = std::min({1.0, (n + 0.5) / fade, (frames - n - 0.5) / fade});
  if (edge <= 0) return 0;
  return level_of(s.level_dbfs) * (0.5 - 0.5 * std::cos(pi * edge)) *
         std::sin(2 * pi * std::remainder(s.sweep->cycles(t), 1.0));
}

const std::vector<ProbeKind>& probe_kinds() {
  static const std::vector<ProbeKind> all{
      {"sweep", "Linear sweep", "response, aliases and images, edges, ringing and delay of a converter", 16},
      {"log_sweep", "Logarithmic sweep", "the same with more time for low frequencies", 16},
      {"steps", "Stepped tones", "level, distortion and the strongest other line at each of some twenty tones", 0},
      {"tone", "Tone 997 Hz", "level, distortion, noise", 6},
      {"ultrasonic", "Ultrasonic tone", "where a tone above hearing lands", 6},
      {"twin_tone", "Twin tone", "intermodulation", 6},
      {"multitone", "Multitone", "distortion and noise between many tones", 8},
      {"impulse", "Impulses", "ringing before and after, polarity, delay", 4},
      {"levels", "Levels", "a tone of 997 Hz from -1 down to -140 dBFS: low-level linearity, noise", 15},
      {"silence", "Silence", "the noise of the route", 6}};
  return all;
}

const ProbeKind* probe_kind(const std::string& key) {
  const auto& all = probe_kinds();
  const auto it = std::find_if(all.begin(), all.end(), [&](const ProbeKind& k) { return k.key == key; });
  return it == all.end() ? nullptr : &*it;
}

const std::vector<int>& probe_rates() {
  static const std::vector<int> all{8000,  11025, 12000, 16000,  22050,  24000,  32000, 44100,
                                    48000, 88200, 96000, 176400, 192000, 352800, 384000};
  return all;
}

ProbeScore probe_score(const std::string& kind, int rate_hz) {
  const ProbeKind* known = probe_kind(kind);
  if (!known) {
    std::string keys;
    for (const auto& k : probe_kinds()) keys += (keys.empty() ? "" : ", ") + k.key;
    throw std::invalid_argument(fmt::format("there is no probe '{}'; there are {}", kind, keys));
  }
  const auto& rates = probe_rates();
  const auto place = std::find(rates.begin(), rates.end(), rate_hz);
  if (place == rates.end())
    throw std::invalid_argument(
        fmt::format("a probe cannot be written at {} Hz; take one of {}", rate_hz, fmt::join(rates, ", ")));
  ProbeScore s;
  s.kind = kind;
  s.rate_hz = rate_hz;
  s.first_mark_s = lead_s;
  s.second_mark_s = lead_s + sync_chirp::spacing_s(int(place - rates.begin()));
  s.body_s = body_at_s;
  s.body_seconds = known->body_s;
  fill_body(s);
  s.last_mark_s = rounded_s(s.body_s + s.body_seconds + gap_s);
  s.length_s = s.last_mark_s + sync_chirp::seconds + tail_s;
  return s;
}

std::vector<double> render(const ProbeScore& s) {
  std::vector<double> x(size_t(std::llround(s.length_s * s.rate_hz)), 0);
  for (const double at : {s.first_mark_s, s.second_mark_s, s.last_mark_s})
    for (auto n = size_t(std::ceil(at * s.rate_hz)); double(n) < (at + sync_chirp::seconds) * s.rate_hz; ++n)
      x[n] += sync_chirp::value(double(n) / s.rate_hz - at);
  if (s.sweep) add_sweep(s, x);
  for (const ProbeStep& step : s.steps) add_step(step, s.rate_hz, x);
  for (const double at : s.impulses_s) x[size_t(std::llround(at * s.rate_hz))] += level_of(s.level_dbfs);
  return x;
}

std::shared_ptr<const Clip> body_clip(const ProbeScore& s) {
  const auto x = render(s);
  Planar body(1, std::llround(s.body_seconds * s.rate_hz));
  std::copy_n(x.begin() + std::llround(s.body_s * s.rate_hz), body.frames(), body.channel(0).begin());
  return made_clip(body, s.rate_hz, "probe " + s.kind);
}

void write_probe(const ProbeScore& s, const Destination& to, ProbeWord word) {
  auto x = render(s);
  if (word != ProbeWord::float32) {
    dsp::Noise chance(uint64_t(s.rate_hz));
    const double step = std::ldexp(1.0, word == ProbeWord::pcm16 ? -15 : -23);
    for (double& v : x) v = std::clamp(std::nearbyint(v / step + chance.triangular()) * step, -1.0, 1.0 - step);
  }
  Planar sound(2, int64_t(x.size()));
  for (int c = 0; c < 2; ++c) std::copy(x.begin(), x.end(), sound.channel(c).begin());
  ClipWriter out(to, s.rate_hz, 2,
                 word == ProbeWord::pcm16   ? WordFormat::pcm16
                 : word == ProbeWord::pcm24 ? WordFormat::pcm24
                                            : WordFormat::float32);
  out.write(sound);
  out.finish();
}

std::vector<std::string> instructions(const ProbeScore& s) {
  return {fmt::format("Bring the file into the engine under test as it is; it runs at {} Hz and lasts {:.1f} s.",
                      s.rate_hz, s.length_s),
          "Keep every fader at 0 dB and the pan in the middle, with nothing on the way but what is being tested.",
          "Export or record all of it, from before the first chirp to after the last, at any rate and word length.",
          fmt::format("Then read what came back: heathmist-cli read {} RETURN --json", s.kind)};
}

}  // namespace heathmist
