#include "tests/support/mixer.hpp"

#include <cmath>

namespace heathmist::test {

Planar with_gain(Planar sound, int rate_hz, const std::function<double(double)>& gain) {
  for (int c = 0; c < sound.channels(); ++c)
    for (int64_t n = 0; n < sound.frames(); ++n) sound.channel(c)[size_t(n)] *= gain(double(n) / rate_hz);
  return sound;
}

double Glide::late_ms(double drawn_s) const {
  const double late = late_s;
  if (kind == straight) return 1000 * (late + seconds / 2);
  if (kind == one_pole) return 1000 * (late + seconds * std::log(2));
  if (kind == stairs) return 1000 * (std::ceil((drawn_s + late) / seconds - 1e-6) * seconds - drawn_s);
  return 1000 * late;
}
double Glide::rise_ms() const {
  return kind == straight ? 800 * seconds : kind == one_pole ? 1000 * seconds * std::log(9) : 0;
}
double Glide::length_ms() const {
  return kind == straight ? 980 * seconds : kind == one_pole ? 1000 * seconds * std::log(99) : 0;
}
const char* Glide::name() const {
  constexpr const char* names[] = {"none", "linear", "one_pole", "stairs"};
  return names[kind];
}

std::vector<double> glided(const GainScore& line, const Glide& glide, int rate_hz, int64_t frames) {
  std::vector<double> out(size_t(frames), 0);
  const auto drawn = [&](double s) { return line.amplitude_at(s - glide.late_s + 1e-9); };
  if (glide.kind == Glide::straight) {  // the mean over its time, by sums
    const auto reach = std::max<int64_t>(1, std::llround(glide.seconds * rate_hz));
    double sum = double(reach) * drawn(0);
    for (int64_t n = 0; n < frames; ++n) {
      sum += drawn(double(n) / rate_hz) - drawn(std::max(0.0, double(n - reach) / rate_hz));
      out[size_t(n)] = sum / double(reach);
    }
    return out;
  }
  double value = drawn(0);
  for (int64_t n = 0; n < frames; ++n) {
    const double s = double(n) / rate_hz;
    if (glide.kind == Glide::none) value = drawn(s);
    if (glide.kind == Glide::one_pole) value += (1 - std::exp(-1 / (glide.seconds * rate_hz))) * (drawn(s) - value);
    if (glide.kind == Glide::stairs) value = drawn(std::floor(s / glide.seconds + 1e-6) * glide.seconds);
    out[size_t(n)] = value;
  }
  return out;
}

Planar glided_probe(const ProbeScore& score, const Glide& glide, ProbeWord word) {
  Planar own = sound_of(score, word);
  const auto line = glided(score.gain, glide, score.rate_hz, own.frames());
  for (int c = 0; c < own.channels(); ++c)
    for (size_t n = 0; n < line.size(); ++n) own.channel(c)[n] *= line[n];
  return own;
}

Planar mixed(const Planar& sound, int rate_hz, const std::function<Matrix(double)>& matrix) {
  Planar out(2, sound.frames());
  for (int64_t n = 0; n < sound.frames(); ++n) {
    const Matrix m = matrix(double(n) / rate_hz);
    for (int i = 0; i < sound.channels(); ++i)
      for (int o = 0; o < 2; ++o) out.channel(o)[size_t(n)] += m[size_t(i)][size_t(o)] * sound.channel(i)[size_t(n)];
  }
  return out;
}

Planar moved(const Planar& sound, int64_t frames, double gain) {
  Planar out(sound.channels(), std::max<int64_t>(1, sound.frames() + frames));
  for (int c = 0; c < sound.channels(); ++c)
    for (int64_t n = 0; n < out.frames(); ++n)
      if (n - frames >= 0 && n - frames < sound.frames())
        out.channel(c)[size_t(n)] = gain * sound.channel(c)[size_t(n - frames)];
  return out;
}

}  // namespace heathmist::test
