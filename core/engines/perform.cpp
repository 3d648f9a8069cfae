// What a stand-in makes of a probe and its score.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "core/audio/scratch.hpp"
#include "core/dsp/decibels.hpp"
#include "core/dsp/full_band.hpp"
#include "core/engines/engine_bus.hpp"
#include "core/stages/chain.hpp"

namespace heathmist {

namespace {

using dsp::gain_of;

// --- a volume line

/// Means over the `reach` frames before each, weighted as a glide's slope is: what a step becomes is the glide, which
/// begins where the step is drawn.
std::vector<double> glided(const std::vector<double>& line, int64_t reach, Engine::Glide glide) {
  std::vector<double> weights(size_t(std::max<int64_t>(1, reach)), 1);
  if (glide == Engine::Glide::raised_cosine)
    for (size_t k = 0; k < weights.size(); ++k)
      weights[k] = std::sin(std::numbers::pi * (double(k) + 0.5) / double(weights.size()));
  double sum = 0;
  for (const double w : weights) sum += w;
  std::vector<double> out(line.size());
  size_t changed = 0;  // where the line last was another
  for (size_t n = 0; n < line.size(); ++n) {
    if (n > 1 && line[n - 1] != line[n - 2]) changed = n;
    if (n > changed + weights.size()) {
      out[n] = line[n - 1];
      continue;
    }
    double total = 0;
    for (size_t k = 0; k < weights.size(); ++k) total += weights[k] * line[n > k ? n - k - 1 : 0];
    out[n] = total / sum;
  }
  return out;
}

std::vector<double> one_pole(const std::vector<double>& line, double frames) {
  const double step = 1 - std::exp(-1 / std::max(frames, 1e-6));
  std::vector<double> out(line.size());
  double value = line.empty() ? 0 : line.front();
  for (size_t n = 0; n < line.size(); ++n) out[n] = value += step * (line[n] - value);
  return out;
}

constexpr double deepest_db = -100;  // where a glide in decibels takes silence to lie

// --- the whole

Planar all_of(const Clip& clip) {
  Planar sound;
  clip.reader()->read(0, clip.format().frames, sound);
  return sound;
}

/// The probe itself: nothing else has its length to the frame.
void check_probe(const Clip& clip, const ProbeScore& score, int file) {
  if (clip.format().sample_rate_hz == score.rate_hz && clip.format().frames == score.frames(file)) return;
  throw InputError(clip.path(), fmt::format("it is not the probe '{}' as it was written; give that", score.kind));
}

std::shared_ptr<const Clip> at_engine_rate(std::shared_ptr<const Clip> clip, const Engine& engine, const Job& job) {
  if (engine.rate_hz == 0 || engine.rate_hz == clip->format().sample_rate_hz) return clip;
  Chain chain;
  chain.stages = {{"converter", {{"rate_hz", engine.rate_hz}, {"by", engine.converter}}}};
  return pass(std::move(clip), chain, job).ret;
}

/// Both inputs (or the one there is) by a matrix at every frame.
template <class MatrixAt>
Planar placed(const Planar& in, MatrixAt matrix_at) {
  Planar out(2, in.frames());
  for (int64_t n = 0; n < in.frames(); ++n) {
    const MixMatrix m = matrix_at(n);
    for (int i = 0; i < in.channels(); ++i)
      for (int o = 0; o < 2; ++o) out.channel(o)[size_t(n)] += m[size_t(i)][size_t(o)] * in.channel(i)[size_t(n)];
  }
  return out;
}

Planar with_line(Planar sound, const Engine& engine, const GainScore& line, double rate) {
  const auto gains = rendered_line(engine, line, rate, sound.frames());
  for (int c = 0; c < sound.channels(); ++c)
    for (size_t n = 0; n < gains.size(); ++n) sound.channel(c)[n] *= gains[n];
  return sound;
}

Planar panned(const Planar& sound, const Engine& engine, const std::vector<PanMove>& moves, double rate) {
  double last = 1e9;
  MixMatrix matrix{};
  return placed(sound, [&](int64_t n) {
    const double position = position_at(moves, double(n) / rate);
    if (position != last) matrix = pan_matrix(engine, position, sound.channels()), last = position;
    return matrix;
  });
}

Planar crossfaded(const Planar& a, const Planar& b, const Engine& engine, const CrossfadeScore& score, double rate) {
  const auto at_a = int64_t(std::llround(score.a_at_s * rate)), at_b = int64_t(std::llround(score.b_at_s * rate));
  Planar out(std::max(a.channels(), b.channels()), std::max(at_a + a.frames(), at_b + b.frames()));
  const double length = score.fade_until_s - score.fade_from_s;
  for (int64_t n = 0; n < out.frames(); ++n) {
    const double way = (double(n) / rate - score.fade_from_s) / length;
    const double of_a = fade_gain(engine.fade, 1 - way, engine.fade_bend),
                 of_b = fade_gain(engine.fade, way, engine.fade_bend);
    for (int c = 0; c < out.channels(); ++c) {
      double v = 0;
      if (n >= at_a && n - at_a < a.frames() && c < a.channels()) v += of_a * a.channel(c)[size_t(n - at_a)];
      if (n >= at_b && n - at_b < b.frames() && c < b.channels()) v += of_b * b.channel(c)[size_t(n - at_b)];
      out.channel(c)[size_t(n)] = v;
    }
  }
  return out;
}

/// The gain that is put in, the bus, and the gain that takes it back.
void trim(Planar& sound, const Engine& engine, const std::vector<TrimSection>& sections, double rate) {
  for (int c = 0; c < sound.channels(); ++c) {
    EngineBus bus(engine);
    for (int64_t n = 0; n < sound.frames(); ++n) {
      const double t = double(n) / rate;
      const auto it = std::find_if(sections.begin(), sections.end(),
                                   [&](const TrimSection& s) { return t >= s.from_s && t < s.until_s; });
      double& v = sound.channel(c)[size_t(n)];
      const double first = it == sections.end() ? 0 : it->first_db, then = it == sections.end() ? 0 : it->then_db;
      v = bus.carry(v * gain_of(first)) * gain_of(then);
      if (engine.bus == Engine::Bus::single) v = double(float(v));
    }
  }
}

/// Latency to a part of a sample, and all that a route does to every file.
Planar leaving(const Planar& sound, const Engine& engine, double rate) {
  const auto whole = int64_t(std::floor(engine.latency_samples));
  const double part = engine.latency_samples - double(whole),
               gain = gain_of(engine.gain_db) * (engine.inverted ? -1 : 1);
  const auto tail = int64_t(0.5 * rate);
  Planar out(sound.channels(), sound.frames() + whole + tail);
  for (int c = 0; c < sound.channels(); ++c) {
    const auto from = sound.channel(engine.swapped && sound.channels() == 2 ? 1 - c : c);
    std::vector<double> late(size_t(sound.frames() + tail), 0);
    if (part == 0) {
      std::copy(from.begin(), from.end(), late.begin());
    } else {
      std::vector<double> padded(late.size() + dsp::FullBand::taps - 1, 0);
      std::copy(from.begin(), from.end(), padded.begin() + dsp::FullBand::before + 1);
      dsp::FullBand(1 - part).shift(padded, late);
    }
    for (size_t n = 0; n < late.size(); ++n) out.channel(c)[size_t(whole) + n] = gain * late[n] + engine.dc;
  }
  return out;
}

}  // namespace

std::vector<double> rendered_line(const Engine& e, const GainScore& line, double rate, int64_t frames) {
  std::vector<double> gains(size_t(frames), 0);
  for (size_t n = 0; n < gains.size(); ++n) {
    gains[n] = line.amplitude_at(double(n) / rate - e.late_ms / 1000 + 1e-9);
    if (e.in_decibels) gains[n] = gains[n] > 0 ? std::max(deepest_db, 20 * std::log10(gains[n])) : deepest_db;
  }
  const double reach = e.glide_ms / 1000 * rate;
  if (e.glide == Engine::Glide::one_pole) gains = one_pole(gains, reach);
  if (e.glide == Engine::Glide::linear || e.glide == Engine::Glide::raised_cosine)
    gains = glided(gains, std::llround(reach), e.glide);
  if (e.in_decibels)
    for (double& g : gains) g = g <= deepest_db + 1e-6 ? 0 : gain_of(g);
  if (e.block_frames > 1)
    for (size_t n = 0; n < gains.size(); ++n) gains[n] = gains[n - n % size_t(e.block_frames)];
  return gains;
}

MixMatrix pan_matrix(const Engine& e, double position, int inputs) {
  const double right = (position + 100) / 200;  // 0: hard left, 1: hard right
  const double reach = e.unity_in_middle ? 0.5 : 1;
  const double left_gain = taper_gain(e.taper, (1 - right) / reach), right_gain = taper_gain(e.taper, right / reach);
  if (e.pan == PanKind::none) return {{{1, 0}, {0, inputs == 2 ? 1.0 : 0.0}}};
  if (inputs == 1) return {{{left_gain, right_gain}, {0, 0}}};
  if (e.pan == PanKind::balance) return {{{left_gain, 0}, {0, right_gain}}};
  if (e.pan == PanKind::mono) return {{{0.5 * left_gain, 0.5 * right_gain}, {0.5 * left_gain, 0.5 * right_gain}}};
  if (position <= 0) return {{{1, 0}, {taper_gain(e.taper, -position / 100), taper_gain(e.taper, 1 + position / 100)}}};
  return {{{taper_gain(e.taper, 1 - position / 100), taper_gain(e.taper, position / 100)}, {0, 1}}};
}

std::shared_ptr<const Clip> perform(const ProbeScore& score, const std::vector<std::shared_ptr<const Clip>>& probe,
                                    const Engine& engine, const Job& job) {
  if (int(probe.size()) != score.files())
    throw std::invalid_argument(
        fmt::format("the probe '{}' has {}; {} came", score.kind,
                    score.files() == 1 ? "one file" : "two files, the first and the second clip", probe.size()));
  for (int n = 0; n < score.files(); ++n) check_probe(*probe[size_t(n)], score, n);
  std::vector<Planar> sounds;
  double rate = 0;
  for (const auto& clip : probe) {
    const auto at_rate = at_engine_rate(clip, engine, job.part(0, 0.5));
    rate = at_rate->format().sample_rate_hz;
    sounds.push_back(all_of(*at_rate));
  }
  job.check();
  Planar sound =
      score.crossfade ? crossfaded(sounds[0], sounds[1], engine, *score.crossfade, rate) : std::move(sounds.front());
  if (!score.gain.points.empty()) sound = with_line(std::move(sound), engine, score.gain, rate);
  if (!score.moves.empty()) sound = panned(sound, engine, score.moves, rate);
  trim(sound, engine, score.sections, rate);
  job.report(0.9);
  return made_clip(leaving(sound, engine, rate), int(rate), "render by " + engine.name);
}

}  // namespace heathmist
