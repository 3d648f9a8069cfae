#include "tests/support/signals.hpp"

#include <cmath>
#include <numbers>

namespace heathmist::test {

Programme::Programme(double seconds, uint64_t seed, double top_hz) : seconds_(seconds) {
  dsp::Noise chance(seed);
  for (double at = 0.05; at < seconds - 0.05; at += chance.between(0.005, 0.04)) {
    const double hz = 40 * std::pow(top_hz * 0.9 / 40, chance.uniform());
    const double width = chance.between(0.004, 0.06) * std::pow(1000 / (hz + 300), 0.5);
    grains_.push_back({at, width, hz, 0.25 * std::pow(200 / (hz + 200), 0.6) * chance.between(0.2, 1),
                       chance.between(0, 6.28), chance.between(-1, 1)});
  }
}

Planar Programme::render(int rate_hz, double delay_samples, double ratio, double extra_seconds) const {
  Planar out(2, int64_t((seconds_ * ratio + extra_seconds) * rate_hz));
  for (const Grain& g : grains_) {
    const double reach = 6.5 * g.width;
    const double first = (g.at - reach) * rate_hz * ratio + delay_samples,
                 last = (g.at + reach) * rate_hz * ratio + delay_samples;
    for (auto n = std::max<int64_t>(0, int64_t(first)); n < std::min(out.frames(), int64_t(last)); ++n) {
      const double t = (double(n) - delay_samples) / ratio / rate_hz - g.at;
      const double x =
          g.level * std::exp(-0.5 * t * t / (g.width * g.width)) * std::cos(2 * std::numbers::pi * g.hz * t + g.phase);
      out.channel(0)[size_t(n)] += x * (0.6 - 0.4 * g.pan);
      out.channel(1)[size_t(n)] += x * (0.6 + 0.4 * g.pan);
    }
  }
  return out;
}

std::filesystem::path save(const std::filesystem::path& file, const Planar& sound, int rate_hz, WordFormat word) {
  ClipWriter out(file, rate_hz, sound.channels(), word);
  out.write(sound);
  out.finish();
  return file;
}

Planar scaled(Planar sound, double gain) {
  for (int c = 0; c < sound.channels(); ++c)
    for (double& x : sound.channel(c)) x *= gain;
  return sound;
}

Planar with_noise(Planar sound, double rms, uint64_t seed) {
  dsp::Noise chance(seed);
  for (int c = 0; c < sound.channels(); ++c)
    for (double& x : sound.channel(c)) x += rms * chance.gaussian();
  return sound;
}

Planar requantised(Planar sound, int bits, bool dither, uint64_t seed) {
  dsp::Noise chance(seed);
  const double step = std::ldexp(1.0, 1 - bits);
  for (int c = 0; c < sound.channels(); ++c)
    for (double& x : sound.channel(c)) x = std::nearbyint(x / step + (dither ? chance.triangular() : 0)) * step;
  return sound;
}

NullReport null_of(const std::filesystem::path& master, const std::filesystem::path& ret, const NullOptions& options) {
  return null_test(Clip::open(master), Clip::open(ret), options);
}

double db(std::optional<double> value) { return value.value_or(-999); }

}  // namespace heathmist::test
