// The static curve of a compressor or an expander: threshold, slope and knee of a law of level.
#pragma once
#include "core/compare/causes/level_law.hpp"

namespace heathmist::causes {

/// A law as a hinge: flat on one side of a threshold, a slope on the other, and a parabola of so many dB about it
/// (core/dsp/knee.hpp).
struct StaticCurve {
  double threshold_db = 0, knee_db = 0;
  double slope = 0;  ///< dB a dB
  double flat_db = 0;
  bool slopes_above = true;  ///< the threshold; else beneath
  bool straight = false;     ///< one slope at every level that occurs: where the threshold lies is not seen
  double error_db = 0;       ///< RMS
};
StaticCurve static_curve_of(const LevelLaw& law);

}  // namespace heathmist::causes
