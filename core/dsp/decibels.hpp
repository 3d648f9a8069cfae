// Levels in dB as factors.
#pragma once
#include <algorithm>
#include <cmath>
#include <optional>

namespace heathmist::dsp {

/// The factor on amplitudes that so many dB are: 10^(db / 20).
inline double gain_of(double db) { return std::pow(10, db / 20); }

/// A factor on amplitudes in dB; above 0.
inline double db_of(double gain) { return 20 * std::log10(gain); }

constexpr double no_gain = 1e-20;  ///< -400 dB

/// Likewise of either sign; of less than `least` as of that.
inline double db_of(double gain, double least) { return db_of(std::max(std::abs(gain), least)); }

/// Likewise; nothing of silence.
inline std::optional<double> db_or_nothing(double gain) { return gain > 0 ? std::optional(db_of(gain)) : std::nullopt; }

}  // namespace heathmist::dsp
