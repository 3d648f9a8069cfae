// What tests of stages share: chains from JSON, tones and their level, refusals.
#pragma once
#include <QtTest>
#include <cmath>
#include <numbers>

#include "core/stages/chain.hpp"
#include "core/stages/encoder.hpp"
#include "tests/support/signals.hpp"

namespace heathmist::test {

inline constexpr double pi = std::numbers::pi;

inline Chain chain_of(std::initializer_list<Json> stages, int rounds = 1) {
  return chain_from_json({{"stages", Json(std::vector<Json>(stages))}, {"rounds", rounds}});
}

/// Leave for all that stages may do.
inline PassOptions everything() {
  return {grant_of({Capability::run_program, Capability::load_plugin, Capability::write_file})};
}

inline Planar samples_of(const Clip& clip, int64_t first = 0, int64_t frames = -1) {
  Planar block;
  clip.reader()->read(first, frames < 0 ? clip.format().frames : frames, block);
  return block;
}

/// What an encoder makes of a file, at so many bits a second, in plain samples.
inline Planar coded_and_back(const Folder& folder, const std::filesystem::path& file, const char* encoder, int bits) {
  encode(*Clip::open(file), {encoder, bits}, folder / "coded.mka");
  Planar samples = samples_of(*Clip::open(folder / "coded.mka"));
  std::filesystem::remove(folder / "coded.mka");
  return samples;
}

inline double mean_square(std::span<const double> x) {
  double sum = 0;
  for (const double v : x) sum += v * v;
  return sum / double(x.size());
}

/// Power of a tone: Hann-windowed projection on its frequency.
inline double tone_db(std::span<const double> x, double hz, double rate_hz) {
  std::complex<double> sum = 0;
  double weight = 0;
  for (size_t n = 0; n < x.size(); ++n) {
    const double w = 0.5 - 0.5 * std::cos(2 * pi * double(n) / double(x.size()));
    sum += w * x[n] * std::polar(1.0, -2 * pi * std::remainder(hz * double(n) / rate_hz, 1.0));
    weight += w;
  }
  return 20 * std::log10(2 * std::abs(sum) / weight + 1e-300);
}

inline Planar tone(double hz, double level, double seconds, int rate_hz, int channels = 1) {
  Planar sound(channels, int64_t(seconds * rate_hz));
  for (int c = 0; c < channels; ++c)
    for (size_t n = 0; n < size_t(sound.frames()); ++n)
      sound.channel(c)[n] = level * std::sin(2 * pi * std::remainder(hz * double(n) / rate_hz, 1.0) + 0.3 * c);
  return sound;
}

inline double refused(const std::function<void()>& work, const char* part) {
  try {
    work();
  } catch (const ChainError& error) {
    if (QString(error.what()).contains(part)) return 0;
    qWarning("%s", error.what());
    return 1;
  }
  return 2;
}

/// Clips in a folder that goes away, and what chains make of them.
class StageTest : public QObject {
 protected:
  std::shared_ptr<const Clip> clip(const Planar& sound, int rate_hz = 48000) {
    return Clip::open(save(folder_ / ("clip" + std::to_string(++count_) + ".wav"), sound, rate_hz));
  }
  std::shared_ptr<const Clip> run(std::shared_ptr<const Clip> m, std::initializer_list<Json> stages) {
    return pass(std::move(m), chain_of(stages), {}, everything()).ret;
  }
  Folder folder_;
  int count_ = 0;
};

}  // namespace heathmist::test
