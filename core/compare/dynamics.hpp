// Clipping and limiting: flat tops wherever they sit, and the gain that moves between master and
// return.
#pragma once
#include <vector>

#include "core/compare/sums.hpp"
#include "core/measure/true_peak.hpp"

namespace heathmist {

struct FlatTops {
  int64_t runs = 0;          ///< runs of three or more equal samples that are the top of their wave
  double level_dbfs = 0;     ///< of the highest of them
  std::vector<double> at_s;  ///< where the first 100 start
};
/// Flat tops at 70 % of the clip's peak and above, where most of them sit at one level (within 0.05 dB): that of a
/// clipper. `peak` comes from the survey.
FlatTops find_flat_tops(const Clip& clip, double peak, const Job& job = {});

/// Gain of the return against the master in pieces of 20 ms, less the fit's own gain and polarity.
struct GainTrace {
  double first_s = 0, piece_s = 0;
  std::vector<float> db;  ///< not a number where the master is silent
  double deepest_db = 0;  ///< reduction below the usual (90th percentile), 0 or less
  double deepest_at_s = 0;
  double average_db = 0;  ///< mean reduction, weighted with the master's energy
};
GainTrace gain_trace(const ResidualSums& sums, const Fit& fit, int sample_rate_hz);

}  // namespace heathmist
