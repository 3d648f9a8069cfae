// What a listener or a delivery desk would stumble over in one file by itself: silence at its ends, clicks, dropouts,
// sides that cancel, a side that is late.
#pragma once
#include <optional>
#include <vector>

#include "core/audio/clip.hpp"
#include "core/job.hpp"

namespace heathmist {

struct Condition {
  /// Before the first and after the last sample above -60 dBFS; all of it where there is none.
  double head_silence_s = 0, tail_silence_s = 0;

  /// Moments a few samples long that what lies around them does not foretell (linear prediction of order 24: Vaseghi
  /// and Rayner, IEE Proc. I 137, 1990), where the sound goes on after as before. A wave that has such edges all the
  /// time has no clicks.
  int64_t clicks = 0;
  std::vector<double> clicks_at_s;  ///< the first hundred

  /// 1 to 500 ms of digital silence in the middle of sound; not where a gate shuts again and again.
  int64_t dropouts = 0;
  std::vector<double> dropouts_at_s;

  /// Of left and right, -1 .. 1, over all of it and over the 3 s where it is least; none: not two channels, or silence.
  std::optional<double> correlation, least_correlation;
  double least_correlation_at_s = 0;

  /// The right channel is late by so much (negative: early), steadily; none: it is not, or the two are not alike.
  std::optional<double> channel_delay_samples;
};

/// One pass over the clip, on all cores. Throws InputError, Cancelled.
Condition study_condition(const Clip& clip, const Job& job = {});

}  // namespace heathmist
