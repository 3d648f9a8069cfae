// How late what goes out of a device comes back to it: a sync mark is sent at the start of a stream and listened for.
// Inside core/devices only.
#pragma once
#include <cstdint>
#include <optional>
#include <span>
#include <vector>

namespace heathmist {

class RoundTrip {
 public:
  /// Rates of less than 7 kHz have no mark: it has ended at once.
  RoundTrip(int sample_rate_hz, int inputs);

  /// The mark goes into so many outputs of interleaved frames, from one on; in the device's thread. `at`: the frame of
  /// the stream with which they begin.
  void send(std::span<double> out, int of_outputs, int first, int count, int64_t at) const;

  /// What came in, `inputs` wide and from the stream's first frame on; in one other thread.
  void listen(std::span<const double> came);
  bool has_ended() const { return ended_; }  ///< it is known, or 2.5 s have gone by without it
  std::optional<double> latency_samples() const { return latency_; }

 private:
  const int rate_;
  const std::vector<double> mark_;
  const int64_t sent_at_;
  std::vector<std::vector<double>> heard_;  // channel by channel: two of them may cancel each other
  size_t look_at_;
  bool ended_;
  std::optional<double> latency_;
};

}  // namespace heathmist
