#include "app/listen/mixer.hpp"

#include <algorithm>
#include <cmath>

namespace heathmist::app {

Mixer::Mixer(double sample_rate_hz)
    : step_(std::max(1.0, std::round(ramp_s * sample_rate_hz))),
      release_(1 - std::exp(-1 / (release_s * sample_rate_hz))) {}

void Mixer::set(const MixSettings& settings) {
  const std::array<double, 3> target{settings.heard == Heard::master ? 1.0 : 0.0,
                                     settings.heard == Heard::ret ? settings.return_gain : 0.0,
                                     settings.heard == Heard::residual ? 1.0 : 0.0};
  const double lift = std::pow(10.0, std::clamp(settings.lift_db, 0.0, 90.0) / 20);
  if (target == target_ && lift == lift_target_) return;
  target_ = target;
  lift_target_ = lift;
  left_ = int(step_);
  for (size_t s = 0; s < 3; ++s) move_[s] = (target_[s] - weight_[s]) / step_;
  lift_move_ = (lift_target_ - lift_) / step_;
}

void Mixer::finish_fade() {
  weight_ = target_;
  lift_ = lift_target_;
  left_ = 0;
}

double Mixer::limit(std::array<double, 2>& frame) {
  const double peak = std::max(std::abs(frame[0]), std::abs(frame[1]));
  limiter_gain_ += (1 - limiter_gain_) * release_;
  if (peak * limiter_gain_ > ceiling) limiter_gain_ = ceiling / peak;
  for (double& x : frame) x *= limiter_gain_;
  return limiter_gain_;
}

void Mixer::process(std::span<const MixFrame> in, std::span<double> out) {
  for (size_t n = 0; n < in.size(); ++n) {
    if (left_ > 0 && --left_ == 0) finish_fade();
    if (left_ > 0) {
      for (size_t s = 0; s < 3; ++s) weight_[s] += move_[s];
      lift_ += lift_move_;
    }
    std::array<double, 2> residual{};
    if (weight_[2] != 0) {
      residual = {in[n].residual[0] * lift_, in[n].residual[1] * lift_};
      if (lift_ > 1) limit(residual);
    }
    for (size_t c = 0; c < 2; ++c) {
      double sum = 0;
      if (weight_[0] != 0) sum += weight_[0] * in[n].master[c];
      if (weight_[1] != 0) sum += weight_[1] * in[n].ret[c];
      if (weight_[2] != 0) sum += weight_[2] * residual[c];
      out[2 * n + c] = sum;
    }
  }
}

}  // namespace heathmist::app
