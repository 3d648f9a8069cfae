// What single cells of time and band say of a pair: the gain that most of them hold, and whether a filter moves them.
#pragma once
#include <optional>
#include <vector>

#include "core/compare/anchors.hpp"

namespace heathmist {

/// The gain that holds in most cells of time and band, in dB: a fade, an EQ, a phase turn or a clipped peak moves some
/// cells and leaves the others where they are. Nothing where no gain holds in a fifth of them.
std::optional<double> gain_of_most_cells_db(const std::vector<CrossSpectra>& spectra, double sample_rate_hz);

/// The return's level, or its phase, moves from band to band, all over the files alike: a filter. Its phase is no
/// delay.
bool is_filtered(const std::vector<CrossSpectra>& spectra);

}  // namespace heathmist
