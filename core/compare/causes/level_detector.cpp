#include "core/compare/causes/level_detector.hpp"

#include <algorithm>
#include <cmath>
#include <numeric>

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

std::vector<std::vector<double>> Rectified::by_pieces(int64_t piece, std::span<const DetectorTimes> times) const {
  using Lanes [[gnu::vector_size(32)]] = float;
  constexpr size_t lanes = sizeof(Lanes) / sizeof(float);
  std::vector<std::vector<double>> out(times.size());
  for (size_t first = 0; first < times.size(); first += lanes) {
    const size_t used = std::min(lanes, times.size() - first);
    Lanes up{}, down{}, now = Lanes{} + start();
    for (size_t k = 0; k < used; ++k)
      up[k] = float(step_of(times[first + k].attack_s, 1.0 / rate_hz_)),
      down[k] = float(step_of(times[first + k].release_s, 1.0 / rate_hz_));
    for (size_t n = 0; n < values_.size();) {
      Lanes sum{};
      float power = 0;
      for (const size_t end = std::min(values_.size(), n + size_t(piece)); n < end; ++n) {
        const Lanes off = values_[n] - now;
        now += off * (off > 0 ? up : down);
        sum += now * power_[n], power += power_[n];
      }
      for (size_t k = 0; k < used; ++k) out[first + k].push_back(decibels(double(sum[k]) / double(power)));
    }
  }
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
    levels.push_back(float(decibels(double(now))));
  }
  return levels;
}

/// The mean of the first second: so it may have stood before.
float Rectified::start() const {
  const auto frames = std::ptrdiff_t(std::min(double(values_.size()), rate_hz_));
  return frames ? std::accumulate(values_.begin(), values_.begin() + frames, 0.f) / float(frames) : 0.f;
}

double Rectified::decibels(double level) const { return (square_ ? 10 : 20) * std::log10(std::max(1e-18, level)); }

}  // namespace heathmist::causes
