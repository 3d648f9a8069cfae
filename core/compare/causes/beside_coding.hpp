// What is told of an EQ beside lossy coding: a coder takes treble away too, and that is none of the EQ's.
#pragma once
#include <optional>

#include "core/compare/causes/estimates.hpp"

namespace heathmist::causes {

/// The cause as it is told where the return is coded: an EQ without what the coder left out; where that is all there
/// is, `band_limit`, or `lossy` where it is only a little less treble, a part of the coding. `band_hz`: how far up the
/// return reaches, where it ends.
Cause told_beside_coding(const Found& found, std::optional<double> band_hz);

}  // namespace heathmist::causes
