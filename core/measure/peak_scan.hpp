// Looking for true peaks in a block: most of it is passed over, what may matter is read between its samples. Inside
// core/measure only.
#pragma once
#include <span>

#include "core/dsp/inter_sample.hpp"
#include "core/measure/true_peak.hpp"

namespace heathmist {

/// A place above a limit.
struct Peak {
  double level = 0;  ///< full scale = 1
  double at = 0;     ///< frame, fractions too
  int channel = 0;
};

inline constexpr size_t most_overs = 1000;  ///< that are listed of a clip

/// Peaks put together to moments: less than 100 ms apart they are one.
class Moments {
 public:
  Moments(int sample_rate_hz, size_t most) : rate_hz_(sample_rate_hz), most_(most) {}
  /// Peaks of all channels, in any order; each call lies behind the one before.
  void add(std::vector<Peak> peaks);
  int64_t count() const { return count_; }
  const std::vector<Over>& overs() const { return overs_; }  ///< the first `most` of them

 private:
  int rate_hz_;
  size_t most_;
  int64_t count_ = 0;
  double last_s_ = -1;
  std::vector<Over> overs_;
};

class PeakScan {
 public:
  static constexpr int64_t chunk = int64_t(dsp::InterSample::chunk);
  static constexpr int64_t before = int64_t(dsp::InterSample::before) + 1,
                           after = int64_t(dsp::InterSample::after) + 1;  ///< frames needed around a block

  /// The true peak of some chunks in a row, as far as it matters: it is exact where it reaches `need`, and an
  /// estimate elsewhere. Peaks above `limit` go to `over` (one for each chunk that has one).
  /// `x`: the first chunk, with before and after around; `sample_peaks`: of each chunk; `first_frame`: of x[0].
  Peak run(const double* x, std::span<const double> sample_peaks, int64_t first_frame, int channel, double need,
           double limit, std::vector<Peak>& over);

 private:
  dsp::InterSample between_;
  std::vector<double> estimates_;
};

}  // namespace heathmist
