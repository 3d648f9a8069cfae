// What the meter keeps of the audio, step by step, and how it gets it: segments of sixteen seconds, each by itself.
// Inside core/measure only.
#pragma once
#include "core/dsp/simd.hpp"
#include "core/measure/meter.hpp"
#include "core/measure/peak_scan.hpp"

namespace heathmist {

/// Steps of 10 ms: step n begins at frame round(n rate / 100). Ten of them are a piece.
struct StepGrid {
  int rate_hz = 0;
  int64_t frames = 0;
  int64_t begin(int64_t step) const { return std::min(frames, (step * rate_hz + 50) / 100); }
  int64_t whole_steps() const;  ///< steps that are full
  int64_t lane_steps() const { return rate_hz < 100000 ? 200 : rate_hz < 200000 ? 100 : 50; }
  int64_t segment_steps() const { return lanes * lane_steps(); }
  int64_t segments() const;
  static constexpr int64_t lanes = 8, lead_steps = 20, piece_steps = 10;
};

/// What one segment gives.
struct TrackPart {
  std::vector<double> energy;   ///< K-weighted and channel-weighted sum of squares of each step
  std::vector<double> squares;  ///< sum of squares of each step, all channels
  std::vector<float> peaks;     ///< of each step: true where that can matter to a window of 3 s, else a sample's
  double sample_peak = 0;
  Peak greatest;
  std::vector<Peak> overs;
};

/// Works on segments. Each thread has its own.
class TrackWorker {
 public:
  TrackWorker(const StepGrid& grid, int channels, const MeterOptions& options);
  /// Frames that must be at hand around a segment.
  int64_t lead_frames() const { return lead_; }
  static constexpr int64_t tail_frames = PeakScan::after + PeakScan::chunk;
  /// `block` starts lead_frames() before the segment and goes on for tail_frames behind its end, zeros where there is
  /// nothing. Its samples may be changed.
  TrackPart run(Planar& block, int64_t segment);

 private:
  void weigh(const Planar& block, int64_t first_step, int64_t steps, TrackPart& part);
  /// The block at `up_` times its rate.
  Planar raised(const Planar& block) const;
  void squares(const Planar& block, int64_t first_step, int64_t steps, TrackPart& part) const;
  void peaks(const Planar& block, int64_t first_step, int64_t steps, TrackPart& part);
  StepGrid grid_;
  MeterOptions options_;
  std::vector<double> weights_;
  double limit_;
  int64_t lead_, up_;
  PeakScan scan_;
};

/// All numbers from the parts in order.
Loudness loudness_of(const StepGrid& grid, int channels, const MeterOptions& options,
                     const std::vector<TrackPart>& parts);

}  // namespace heathmist
