// A meter for what is heard just now: fixed memory, no allocation while it runs, read from another thread.
#pragma once
#include <array>
#include <atomic>
#include <span>

#include "core/dsp/inter_sample.hpp"
#include "core/measure/loudness.hpp"

namespace heathmist {

/// Momentary and short-term loudness every 100 ms; integrated loudness, its range, their greatest values and true peak
/// since the last reset; correlation of left and right over 400 ms. Integrated loudness and range are gated over bins
/// of 0.1 LU (as EBU Tech 3341 allows), within 0.02 LU and 0.1 LU of the meter's.
class LiveMeter {
 public:
  explicit LiveMeter(int sample_rate_hz);
  /// Interleaved stereo. One thread.
  void add(std::span<const double> stereo);
  /// Begins anew; from any thread, and takes hold at the next add().
  void reset() { reset_ = true; }
  struct Reading {
    std::optional<double> momentary_lufs, short_term_lufs, integrated_lufs, true_peak_dbtp, correlation;
    std::optional<double> range_lu, momentary_max_lufs, short_term_max_lufs;
  };
  Reading reading() const;  ///< from any thread

 private:
  static constexpr int pieces = 30, bins = 1000;
  static constexpr size_t chunk = dsp::InterSample::chunk;
  static constexpr size_t around = dsp::InterSample::before + dsp::InterSample::after + 2;
  void end_piece();
  void find_peak(int channel);
  void forget();

  std::array<KWeighting, 2> weighting_;
  dsp::InterSample between_;
  int64_t piece_frames_, in_piece_ = 0, given_ = 0;
  double energy_ = 0, products_[3] = {};  // of the running piece: K-weighted; left left, right right, left right
  std::array<double, pieces> ring_{};
  std::array<std::array<double, 3>, 4> product_ring_{};
  int64_t count_ = 0;  // pieces since the reset
  struct Bins {        // blocks of the programme by their loudness
    std::array<double, bins> energy{};
    std::array<int64_t, bins> count{};
    void add(double mean_square);
    double mean_above(double gate) const;
    std::optional<double> range_lu() const;
  };
  Bins momentaries_, short_terms_;
  std::array<std::array<double, chunk + around>, 2> recent_{};  // the last chunk and what lies around it
  size_t filled_ = 0;
  double peak_ = 0;
  std::atomic<bool> reset_{false};
  std::atomic<double> momentary_{0}, short_term_{0}, integrated_{0}, shown_peak_{0}, correlation_{2};
  std::atomic<double> range_{-1}, momentary_max_{0}, short_term_max_{0};
};

}  // namespace heathmist
