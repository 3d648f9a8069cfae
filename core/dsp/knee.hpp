// The static curve of dynamics: how far a level lies into its slope.
#pragma once

namespace heathmist::dsp {

/// dB into the slope at so many dB over the threshold: a parabola over the knee's width about the threshold
/// (Giannoulis, Massberg and Reiss, J. Audio Eng. Soc. 60, 2012, equation 4).
inline double into_slope(double over_db, double knee_db) {
  if (2 * over_db <= -knee_db) return 0;
  return 2 * over_db >= knee_db ? over_db : (over_db + knee_db / 2) * (over_db + knee_db / 2) / (2 * knee_db);
}

}  // namespace heathmist::dsp
