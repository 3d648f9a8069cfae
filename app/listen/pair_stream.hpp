// Master, return and residual of a pair as frames to be mixed: what the feeder reads. One thread uses it at a time.
#pragma once
#include <memory>
#include <optional>
#include <span>
#include <utility>
#include <vector>

#include "app/listen/mixer.hpp"
#include "core/compare/null.hpp"
#include "core/dsp/biquad.hpp"

namespace heathmist::app {

/// Another sound on the master's time axis, at its rate: another return, or another master.
struct OtherSound {
  std::shared_ptr<const Clip> clip;
  Fit fit;  ///< of delay and drift
};

/// What is heard of a pair.
struct Hearing {
  std::shared_ptr<const OtherSound> other;           ///< in place of the return
  std::shared_ptr<const Clip> cause;                 ///< by itself in place of the residual, and the return without it
  std::optional<std::pair<double, double>> band_hz;  ///< of all three; nothing: all of it
};

class PairStream {
 public:
  /// Throws where a file can no longer be opened.
  PairStream(const Comparable& pair, const Fit& fit);
  const Comparable& pair() const { return pair_; }
  const Fit& fit() const { return fit_; }
  int rate_hz() const { return pair_.master->format().sample_rate_hz; }
  int64_t frames() const { return pair_.master->format().frames; }
  /// Frames from `first` on, all within the master. May take a while (a cause is worked out as it is read); throws
  /// where a file breaks off.
  void read(int64_t first, const Hearing& hearing, std::span<MixFrame> out);

 private:
  void put_cause(int64_t first, std::span<MixFrame> out);
  void put_other(int64_t first, std::span<MixFrame> out);
  void keep_band(const Hearing& hearing, std::span<MixFrame> out);

  Comparable pair_;
  Fit fit_;
  std::unique_ptr<Reader> master_;
  AlignedReturn laid_;
  std::shared_ptr<const Clip> cause_clip_;
  std::unique_ptr<Reader> cause_;
  std::shared_ptr<const OtherSound> other_;
  std::optional<AlignedReturn> other_laid_;
  std::optional<std::pair<double, double>> band_hz_;
  std::vector<dsp::BandPass> filters_;  // of master, return and residual, left and right; empty: no band
};

}  // namespace heathmist::app
