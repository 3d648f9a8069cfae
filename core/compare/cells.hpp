// What single cells of time and band say of a pair: the gain that most of them hold, and whether a filter moves them.
#pragma once
#include <optional>
#include <vector>

#include "core/compare/anchors.hpp"

namespace heathmist {

/// The gain that holds in most cells of time and band: a fade, an EQ, a phase turn or a clipped peak moves some cells
/// and leaves the others where they are.
struct HeldGain {
  double db = 0;
  bool exact = false;  ///< it holds in a fifth of them; else three tenths lie within half a decibel around it
};
/// Nothing where neither is so.
std::optional<HeldGain> gain_of_most_cells(const std::vector<CrossSpectra>& spectra, double sample_rate_hz);

/// Mean squared coherence over the third octaves in which the master has anything.
double band_coherence(const std::vector<CrossSpectra>& spectra, double sample_rate_hz);

/// The return's level, or its phase, moves from band to band, all over the files alike: a filter. Its phase is no
/// delay.
bool is_filtered(const std::vector<CrossSpectra>& spectra);

/// The ratio of return to master that a quarter of the samples come back at within 2e-5 (4e-4, 4e-3 where noise lies on
/// them): what bends, fades or mutes others leaves these alone. `none`: the ratio that is taken where it holds as well.
/// `widest`: of those windows the last to be tried; a hum or an offset beside the programme leans on the wide one.
/// Nothing where none holds.
std::optional<double> held_ratio(std::vector<double> ratios, double none, double widest = 4e-3);

}  // namespace heathmist
