// A/B through a process, sample by sample: the master as it was sent, as late as its return comes back, and the return
// brought to its loudness. One of the two is heard. Inside core/devices only.
#pragma once
#include <array>
#include <atomic>
#include <cstdint>
#include <vector>

namespace heathmist {

class LiveSwitch {
 public:
  using Frame = std::array<double, 2>;  // left and right

  explicit LiveSwitch(int sample_rate_hz);

  // from any thread
  void set_delay(int64_t frames);  ///< of the round trip; at most most_delay()
  int64_t most_delay() const { return int64_t(line_.size()) - 1; }
  void hear_return(bool on) { hears_return_ = on; }
  bool hears_return() const { return hears_return_; }
  void set_return_gain(double gain) { wanted_gain_ = gain; }
  /// By how much both are turned down, so that neither clips; 1: not at all. Begins anew with restore().
  double trim() const { return trim_; }
  void restore() { restoring_ = true; }

  struct Passed {
    Frame master;  ///< that belongs to what came
    Frame heard;   ///< no sample of it above full scale
  };
  /// One frame. The device's thread.
  Passed pass(const Frame& sent, const Frame& came);

 private:
  const double fade_step_, gain_step_;
  std::vector<Frame> line_;  // what was sent
  size_t at_ = 0;
  double share_ = 0, gain_ = 1;  // of the return in what is heard
  std::atomic<int64_t> delay_{0};
  std::atomic<double> wanted_gain_{1}, trim_{1};
  std::atomic<bool> hears_return_{false}, restoring_{false};
};

}  // namespace heathmist
