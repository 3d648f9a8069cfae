// Takes the click out of where the sound jumps: what was heard last gives way to what comes next.
#pragma once
#include <array>
#include <span>

namespace heathmist::app {

/// Stereo frames. Away from jumps every sample passes as it is. Allocates nothing and waits for nothing.
class Seam {
 public:
  static constexpr double fade_s = 0.005;

  explicit Seam(double sample_rate_hz);
  /// The next frame does not follow on the last one: it comes in over fade_s (a raised cosine).
  void jump();
  /// out: left, right, left, right, ...
  void process(std::span<double> out);

 private:
  int frames_, at_;
  std::array<double, 2> last_{}, from_{};
};

}  // namespace heathmist::app
