// The spectrum of what is heard just now: fixed memory, read from another thread.
#pragma once
#include <atomic>
#include <mutex>
#include <span>
#include <vector>

#include "core/dsp/fft.hpp"

namespace heathmist {

/// Power spectra of blocks of about 0.17 s (Blackman-Harris, half overlap; Welch 1967), mean of left and right, as
/// lines of 1/12 octave at fixed frequencies. 0 dB: a full-scale square wave.
class LiveSpectrum {
 public:
  static constexpr int points = 240;
  static constexpr double lowest_hz = 20, momentary_s = 0.3;

  explicit LiveSpectrum(int sample_rate_hz);
  /// Interleaved stereo. One thread.
  void add(std::span<const double> stereo);
  /// Average and peaks begin anew; from any thread, and takes hold at the next add().
  void reset() { reset_ = true; }

  /// dB at hz(); empty as long as no block is whole.
  struct Lines {
    std::vector<float> momentary, average, held;
    int64_t blocks = 0;  ///< since the start
  };
  Lines lines() const;  ///< from any thread
  const std::vector<float>& hz() const { return hz_; }

 private:
  void end_block();
  void forget();
  std::vector<float> line_of(const std::vector<double>& power, double scale) const;
  double rate_hz_, forget_;
  std::vector<double> window_;
  double scale_;  // a bin's power to full scale
  dsp::RealFft<double> fft_;
  std::vector<double> left_, right_;  // the running block
  size_t filled_ = 0;
  std::atomic<bool> reset_{false};
  std::vector<float> hz_;
  std::vector<std::pair<size_t, size_t>> bins_;  // of each point
  mutable std::mutex lock_;
  std::vector<double> now_, sum_, top_;
  int64_t blocks_ = 0, summed_ = 0;
};

}  // namespace heathmist
