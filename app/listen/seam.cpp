#include "app/listen/seam.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace heathmist::app {

Seam::Seam(double sample_rate_hz) : frames_(std::max(1, int(std::lround(fade_s * sample_rate_hz)))), at_(frames_) {}

void Seam::jump() {
  from_ = last_;
  at_ = 0;
}

void Seam::process(std::span<double> out) {
  for (size_t n = 0; n + 1 < out.size() && at_ < frames_; n += 2, ++at_) {
    const double gain = 0.5 - 0.5 * std::cos(std::numbers::pi * (at_ + 1) / (frames_ + 1));
    for (size_t c = 0; c < 2; ++c) out[n + c] = gain * out[n + c] + (1 - gain) * from_[c];
    last_ = {out[n], out[n + 1]};  // where another jump comes before this one is over
  }
  if (out.size() >= 2) last_ = {out[out.size() - 2], out[out.size() - 1]};
}

}  // namespace heathmist::app
