// The loudness meter: ITU-R BS.1770-5, EBU R 128, EBU Tech 3341 and 3342.
//
//   Loudness heard = measure_loudness(*Clip::open("master.wav"));       // a whole file, on all cores
//   Meter meter(48000, 2); meter.add(block); heard = meter.finish();    // the same, block by block
//
// Both give the same to the last bit, whatever the blocks and the threads. Loudness is in LUFS (which is LKFS), ranges
// in LU, true peaks in dBTP, samples in dBFS where 0 is a full-scale square wave's RMS. What does not exist is empty:
// the loudness of silence, a 3 s value of 2 s.
#pragma once
#include <memory>

#include "core/measure/listen.hpp"
#include "core/measure/loudness.hpp"
#include "core/measure/true_peak.hpp"

namespace heathmist {

struct MeterOptions {
  using Listen = heathmist::Listen;
  Listen listen = Listen::all;
  int channel = 0;               ///< for Listen::one
  bool dual_mono = false;        ///< a single channel counts as it would from two loudspeakers: 3.01 LU more
  double rms_window_s = 0.3;     ///< of the highest RMS
  double limit_dbtp = 0;         ///< overs are moments above this
  int64_t first = 0, last = -1;  ///< frames [first, last) of a clip; -1: its end
};

struct Loudness {
  std::optional<double> integrated_lufs, relative_gate_lufs;
  std::optional<LoudnessRange> range;
  std::optional<double> momentary_max_lufs, short_term_max_lufs;  ///< read every 10 ms
  double momentary_max_at_s = 0, short_term_max_at_s = 0;         ///< ends of those 400 ms and 3 s
  std::optional<double> true_peak_dbtp, sample_peak_dbfs, rms_dbfs, rms_max_dbfs;
  double true_peak_at_s = 0;
  int true_peak_channel = 0;
  std::optional<double> crest_db;  ///< sample peak - RMS
  std::optional<double> plr_db;    ///< true peak - integrated
  std::optional<double>
      psr_min_db;           ///< least true peak of 3 s - their short-term loudness, where that is above -70 LUFS
  double psr_min_at_s = 0;  ///< end of those 3 s
  int64_t over_count = 0;   ///< moments above the limit; less than 100 ms apart they are one
  std::vector<Over> overs;  ///< the first 1000 of them
  double duration_s = 0;
  LoudnessPieces pieces;     ///< of 100 ms: what its lines, its histogram and an album are made from
  std::vector<float> peaks;  ///< greatest sample of each piece; its true peak where that matters to anything above
};

/// Measures a clip. Throws InputError where it cannot be read, Cancelled.
Loudness measure_loudness(const Clip& clip, const MeterOptions& options = {}, const Job& job = {});

/// The same for audio as it comes.
class Meter {
 public:
  Meter(int sample_rate_hz, int channels, const MeterOptions& options = {});
  ~Meter();
  void add(const Planar& block);
  Loudness finish();

 private:
  struct Inside;
  std::unique_ptr<Inside> inside_;
};

/// Several programmes as one, in this order: what is gated together, and the highest of each.
Loudness album_of(const std::vector<const Loudness*>& programmes);

/// The greatest sample of each of up to so many equal parts of a programme.
std::vector<float> outline_of(const Loudness& loudness, size_t parts);

/// How many 100 ms steps of the programme lie in each bin of loudness.
struct LoudnessHistogram {
  double low_lufs = -70, step_lu = 1;
  std::vector<double> share;  ///< of all counted steps; they sum to 1
};
/// `span` pieces at a time: 4 momentary, 30 short-term. Below -70 LUFS nothing is counted; the last bin holds what is
/// louder.
LoudnessHistogram loudness_histogram(const LoudnessPieces& pieces, int span, double step_lu = 1);

}  // namespace heathmist
