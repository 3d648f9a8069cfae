#include "core/probes/probe.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "core/audio/scratch.hpp"
#include "core/audio/write.hpp"
#include "core/dsp/noise.hpp"
#include "core/probes/engine_kinds.hpp"
#include "core/probes/probe_body.hpp"
#include "core/probes/score_json.hpp"
#include "core/probes/signal.hpp"
#include "core/probes/sync_chirp.hpp"

namespace heathmist {

namespace {

using std::numbers::pi;
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
      engine_kind("transit")->kind,
      engine_kind("gain")->kind,
      engine_kind("pan")->kind,
      engine_kind("crossfade")->kind,
      engine_kind("trim")->kind,
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

namespace {
constexpr int least_for_engines_hz = 22050;  // their highest tone lies at 6.3 kHz
}

bool has_rate(const std::string& kind, int rate_hz) {
  const auto& rates = probe_rates();
  const bool is_rate = std::find(rates.begin(), rates.end(), rate_hz) != rates.end();
  return is_rate && (!probe_kind(kind)->for_engines || rate_hz >= least_for_engines_hz);
}

int64_t ProbeScore::frames(int file) const {
  const double until = !crossfade  ? length_s
                       : file == 0 ? crossfade->fade_until_s + 0.75
                                   : length_s - crossfade->b_at_s;
  return std::llround(until * rate_hz);
}

namespace {

void check_words(const std::string& kind, int rate_hz, const ProbeOptions& options) {
  const ProbeKind* known = probe_kind(kind);
  if (!known) {
    std::string keys;
    for (const auto& k : probe_kinds()) keys += (keys.empty() ? "" : ", ") + k.key;
    throw std::invalid_argument(fmt::format("there is no probe '{}'; there are {}", kind, keys));
  }
  const auto& rates = probe_rates();
  if (std::find(rates.begin(), rates.end(), rate_hz) == rates.end())
    throw std::invalid_argument(
        fmt::format("a probe cannot be written at {} Hz; take one of {}", rate_hz, fmt::join(rates, ", ")));
  if (!has_rate(kind, rate_hz))
    throw std::invalid_argument(
        fmt::format("the probe '{}' needs {} Hz or more, not {}", kind, least_for_engines_hz, rate_hz));
  if (options.mono && !known->for_engines)
    throw std::invalid_argument(
        fmt::format("the probe '{}' has two channels alike; only those for engines come in one", kind));
}

}  // namespace

ProbeScore probe_score(const std::string& kind, int rate_hz, const ProbeOptions& options) {
  check_words(kind, rate_hz, options);
  const auto& rates = probe_rates();
  const auto place = std::find(rates.begin(), rates.end(), rate_hz) - rates.begin();
  const EngineKind* engine = engine_kind(kind);
  ProbeScore s;
  s.kind = kind;
  s.rate_hz = rate_hz;
  s.channels = options.mono ? 1 : 2;
  s.first_mark_s = lead_s;
  s.second_mark_s = lead_s + sync_chirp::spacing_s(int(place));
  s.body_s = body_at_s;
  s.body_seconds = probe_kind(kind)->body_s;
  if (engine) {
    s.mark_dbfs = engine_mark_dbfs;
    engine->fill(s);
  } else {
    fill_body(s);
  }
  s.last_mark_s = rounded_s(s.body_s + s.body_seconds + gap_s);
  s.length_s = s.last_mark_s + sync_chirp::seconds + tail_s;
  return s;
}

namespace {

/// Those that lie in a file that begins at a time of the score.
void add_marks(const ProbeScore& s, double begins_s, std::span<double> x) {
  const double level = level_of(s.mark_dbfs - sync_chirp::dbfs);
  for (const double mark : {s.first_mark_s, s.second_mark_s, s.last_mark_s}) {
    const double at = mark - begins_s;
    if (at < 0) continue;
    for (auto n = size_t(std::ceil(at * s.rate_hz)); n < x.size() && double(n) < (at + sync_chirp::seconds) * s.rate_hz;
         ++n)
      x[n] += level * sync_chirp::value(double(n) / s.rate_hz - at);
  }
}

}  // namespace

std::vector<double> render(const ProbeScore& s) {
  std::vector<double> x(size_t(s.frames()), 0);
  add_marks(s, 0, x);
  if (s.sweep) add_sweep(s, x);
  for (const ProbeStep& step : s.steps) add_step(step, s.rate_hz, x);
  for (const double at : s.impulses_s) x[size_t(std::llround(at * s.rate_hz))] += level_of(s.level_dbfs);
  return x;
}

Planar render_channels(const ProbeScore& s, int file) {
  Planar sound(s.channels, s.frames(file));
  if (const EngineKind* engine = engine_kind(s.kind)) {
    engine->body(s, file, sound);
    for (int c = 0; c < s.channels; ++c) add_marks(s, file == 0 ? 0 : s.crossfade->b_at_s, sound.channel(c));
    return sound;
  }
  const auto x = render(s);
  for (int c = 0; c < s.channels; ++c) std::copy(x.begin(), x.end(), sound.channel(c).begin());
  return sound;
}

std::shared_ptr<const Clip> body_clip(const ProbeScore& s) {
  const auto x = render(s);
  Planar body(1, std::llround(s.body_seconds * s.rate_hz));
  std::copy_n(x.begin() + std::llround(s.body_s * s.rate_hz), body.frames(), body.channel(0).begin());
  return made_clip(body, s.rate_hz, "probe " + s.kind);
}

int bits_of(ProbeWord word) { return word == ProbeWord::pcm16 ? 16 : word == ProbeWord::pcm24 ? 24 : 32; }

Planar sound_of(const ProbeScore& s, ProbeWord word, int file) {
  return as_written(render_channels(s, file), s, word, file);
}

Planar as_written(Planar sound, const ProbeScore& s, ProbeWord word, int file) {
  const bool alike = !engine_kind(s.kind);
  const double step = std::ldexp(1.0, 1 - bits_of(word));
  for (int c = 0; c < sound.channels(); ++c) {
    dsp::Noise chance(uint64_t(s.rate_hz) + (alike ? 0 : uint64_t(c + 2 * file) << 32));
    for (double& v : sound.channel(c)) {
      if (word == ProbeWord::float32)
        v = double(float(v));
      else if (const double dither = chance.triangular(); alike || v != 0)
        v = std::clamp(std::nearbyint(v / step + dither) * step, -1.0, 1.0 - step);
    }
  }
  return sound;
}

void write_probe(const ProbeScore& s, const Destination& to, ProbeWord word, int file) {
  const Planar sound = sound_of(s, word, file);
  ClipWriter out(to, s.rate_hz, s.channels,
                 word == ProbeWord::pcm16   ? WordFormat::pcm16
                 : word == ProbeWord::pcm24 ? WordFormat::pcm24
                                            : WordFormat::float32);
  out.write(sound);
  out.finish();
}

std::vector<std::string> instructions(const ProbeScore& s) {
  std::vector<std::string> lines{
      fmt::format("Bring the file{} into the engine under test as {}; {} at {} Hz and the whole lasts {:.1f} s.",
                  s.files() > 1 ? "s" : "", s.files() > 1 ? "they are" : "it is",
                  s.files() > 1 ? "they run" : "it runs", s.rate_hz, s.length_s)};
  const auto steps = score_steps(s);
  lines.emplace_back(
      steps.empty()
          ? "Keep every fader at 0 dB and the pan in the middle, with nothing on the way but what is being tested."
          : "Do what follows, and nothing else; elsewhere every fader stays at 0 dB and the pan in the middle.");
  lines.insert(lines.end(), steps.begin(), steps.end());
  lines.emplace_back(
      "Export or record all of it, from before the first chirp to after the last, at any rate and word length.");
  lines.push_back(fmt::format("Then read what came back: heathmist-cli read {} RETURN --json", s.kind));
  return lines;
}

}  // namespace heathmist
