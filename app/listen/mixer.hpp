// What is heard: master, return or residual, switched without a click, matched and lifted. No Qt, no device: samples
// in, samples out, so that the path can be checked sample by sample.
#pragma once
#include <array>
#include <span>

namespace heathmist::app {

enum class Heard { master, ret, residual };

struct MixSettings {
  Heard heard = Heard::master;
  double return_gain = 1;  ///< linear; brings the return to the master's loudness where matched
  double lift_db = 0;      ///< of the residual, 0 .. 90
  bool operator==(const MixSettings&) const = default;
};

/// One frame of stereo from each source, side by side.
struct MixFrame {
  std::array<double, 2> master{}, ret{}, residual{};
};

class Mixer {
 public:
  static constexpr double ramp_s = 0.010;  ///< time of a switch
  static constexpr double ceiling = 0.5;   ///< the lifted residual never goes beyond (-6 dBFS)
  static constexpr double release_s = 0.25;

  explicit Mixer(double sample_rate_hz);
  /// The next frames move towards these settings in a straight line over ramp_s. The master, once reached, is passed
  /// bit for bit.
  void set(const MixSettings& settings);
  /// Jumps to the settings at once (before playing starts).
  void finish_fade();
  /// out: left, right, left, right, ...
  void process(std::span<const MixFrame> in, std::span<double> out);

 private:
  double limit(std::array<double, 2>& frame);
  std::array<double, 3> weight_{1, 0, 0}, target_{1, 0, 0};  // of the sources
  double lift_ = 1, lift_target_ = 1, limiter_gain_ = 1;
  double step_, release_;
  int left_ = 0;  // frames of the ramp still to go
  std::array<double, 3> move_{};
  double lift_move_ = 0;
};

}  // namespace heathmist::app
