// The fit of a return in which only the difference of the master's two channels is left: against either of them alone
// it may look like another programme, the more the more of them is in the middle.
#pragma once
#include <optional>

#include "core/compare/fit.hpp"

namespace heathmist {

/// Master of two channels, return of one, or of two that are one (or one and its inverse). Nothing where the return is
/// no such one, or `plain` explains it as well. Gain 0 dB, no channel inverted: both stand in the mixing that is left.
std::optional<Fit> fit_of_the_side(const Clip& master, const Clip& ret, const Fit& plain, const FitOptions& options,
                                   const Job& job = {});

}  // namespace heathmist
