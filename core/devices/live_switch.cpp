#include "core/devices/live_switch.hpp"

#include <algorithm>
#include <cmath>

namespace heathmist {

namespace {

constexpr double most_delay_s = 3, fade_s = 0.01, gain_s = 0.05;

}  // namespace

LiveSwitch::LiveSwitch(int sample_rate_hz)
    : fade_step_(1 / (fade_s * sample_rate_hz)),
      gain_step_(1 - std::exp(-1 / (gain_s * sample_rate_hz))),
      line_(size_t(most_delay_s * sample_rate_hz) + 1) {}

void LiveSwitch::set_delay(int64_t frames) { delay_ = std::clamp<int64_t>(frames, 0, most_delay()); }

LiveSwitch::Passed LiveSwitch::pass(const Frame& sent, const Frame& came) {
  line_[at_] = sent;
  const auto size = int64_t(line_.size());
  const Frame master = line_[size_t((int64_t(at_) + size - delay_) % size)];
  at_ = (at_ + 1) % line_.size();
  const double towards = hears_return_ ? 1 : 0;
  share_ += std::clamp(towards - share_, -fade_step_, fade_step_);
  gain_ += gain_step_ * (wanted_gain_ - gain_);
  double peak = 0;  // of either: what is heard does not change the level of what is not
  for (size_t c = 0; c < 2; ++c) peak = std::max({peak, std::abs(master[c]), std::abs(gain_ * came[c])});
  double trim = restoring_.exchange(false) ? 1 : trim_.load();
  if (peak * trim > 1) trim = 1 / peak;
  trim_ = trim;
  Passed passed{master, {}};
  for (size_t c = 0; c < 2; ++c)
    passed.heard[c] = std::clamp(trim * ((1 - share_) * master[c] + share_ * gain_ * came[c]), -1.0, 1.0);
  return passed;
}

}  // namespace heathmist
