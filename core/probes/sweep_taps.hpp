// A filter's response around one frequency, from the samples around the moment the sweep passes it.
//
// At half the return's rate the wanted line and its mirror run through one another, and no gate in time parts them.
// They are two unknowns of one equation, though: the return is the sweep through a filter that rings for a moment. Its
// taps, a few dozen over that moment, are those of least squares. Where other components cross, what no such filter
// makes tells that they count. Inside core/probes only.
#pragma once
#include <cmath>
#include <complex>
#include <optional>
#include <vector>

#include "core/probes/probe.hpp"

namespace heathmist {

/// What came back of a sweep, without its images. Seconds and Hz are the probe's own.
struct SweepBody {
  std::vector<double> samples;
  double rate_hz = 0;
  double first_s = 0;  ///< of the first sample, in the sweep
  double delay_s = 0;  ///< of the middle of the filter's response
};

struct LocalTaps {
  double middle_hz = 0, reach_hz = 0;  ///< told either way of the middle
  double first_s = 0, step_s = 0;
  std::vector<std::complex<double>> taps;  ///< from first_s on
  bool reaches(double hz) const { return std::abs(hz - middle_hz) < reach_hz; }
  double gain_at(double hz) const;  ///< 1: as loud as what went in
};
struct TapsPlan {
  double around_s = 0.06;  ///< of the sweep, either way
  double every = 4;        ///< about one sample of so many is looked at: the band is narrow
};
/// Nothing where the sweep does not run so far past the place, or no filter makes what came back.
std::optional<LocalTaps> taps_around(double hz, const TapsPlan& plan, const SweepBody& body, const ProbeScore& score);

}  // namespace heathmist
