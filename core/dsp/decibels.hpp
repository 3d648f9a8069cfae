// Levels in dB as factors.
#pragma once
#include <cmath>

namespace heathmist::dsp {

/// The factor on amplitudes that so many dB are: 10^(db / 20).
inline double gain_of(double db) { return std::pow(10, db / 20); }

/// A factor on amplitudes in dB; above 0.
inline double db_of(double gain) { return 20 * std::log10(gain); }

}  // namespace heathmist::dsp
