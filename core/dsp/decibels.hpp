// Levels in dB as factors.
#pragma once
#include <cmath>

namespace heathmist::dsp {

/// The factor on amplitudes that so many dB are: 10^(db / 20).
inline double gain_of(double db) { return std::pow(10, db / 20); }

}  // namespace heathmist::dsp
