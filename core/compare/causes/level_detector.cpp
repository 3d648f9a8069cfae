#include "core/compare/causes/level_detector.hpp"

#include <algorithm>
#include <cmath>
#include <numeric>

#include "core/dsp/simd.hpp"

namespace heathmist::causes {

double step_of(double time_s, double every_s) { return time_s <= 0 ? 1 : 1 - std::exp(-every_s / time_s); }

Rectified::Rectified(const Excerpt& e, const Planar& model, const LevelDetector& detector)
    : rate_hz_(e.rate_hz),
      square_(detector.of == LevelDetector::Of::square),
      values_(size_t(e.frames())),
      power_(values_.size(), 1e-18f) {
  const Planar& heard = detector.of_master ? *e.master : model;
  for (int p = 0; p < e.pairs(); ++p)
    for (size_t n = 0; n < values_.size(); ++n) {
      const auto x = float(std::abs(heard.channel(p)[n])), m = float(model.channel(p)[n]);
      power_[n] += m * m;
      values_[n] = detector.of_mean ? values_[n] + x / float(e.pairs()) : std::max(values_[n], x);
    }
  if (square_)
    for (float& v : values_) v *= v;
}

std::vector<std::vector<float>> Rectified::by_pieces(int64_t piece, std::span<const DetectorTimes> times) const {
  std::vector<float> up, down, means(((values_.size() + size_t(piece) - 1) / size_t(piece)) * times.size());
  for (const DetectorTimes& t : times)
    up.push_back(float(step_of(t.attack_s, 1.0 / rate_hz_))),
        down.push_back(float(step_of(t.release_s, 1.0 / rate_hz_)));
  dsp::simd::follow({up.data(), down.data(), int(times.size()), start()}, values_.data(), power_.data(),
                    std::ssize(values_), piece, means.data());
  std::vector<std::vector<float>> out(times.size());
  for (size_t n = 0; n < means.size(); ++n) out[n % times.size()].push_back(decibels(means[n]));
  return out;
}

std::vector<float> Rectified::by_samples(const DetectorTimes& times) const {
  const auto up = float(step_of(times.attack_s, 1.0 / rate_hz_)),
             down = float(step_of(times.release_s, 1.0 / rate_hz_));
  std::vector<float> levels;
  levels.reserve(values_.size());
  float now = start();
  for (const float value : values_) {
    const float off = value - now;
    now += off * (off > 0 ? up : down);
    levels.push_back(decibels(now));
  }
  return levels;
}

/// The mean of the first second: so it may have stood before.
float Rectified::start() const {
  const auto frames = std::ptrdiff_t(std::min(double(values_.size()), rate_hz_));
  return frames ? std::accumulate(values_.begin(), values_.begin() + frames, 0.f) / float(frames) : 0.f;
}

float Rectified::decibels(float level) const { return (square_ ? 10 : 20) * std::log10(std::max(1e-18f, level)); }

}  // namespace heathmist::causes
