// The fit of a return whose speed moves: no one delay lays it on its master, and yet every moment of it lies near one.
#pragma once
#include <optional>

#include "core/compare/fit.hpp"

namespace heathmist {

/// Follows the delay through a few stretches, from where the levels of both rise and fall together, and from `still`.
/// Delay: the middle of where it moves, in whole samples. Agreement: mean coherence over third octaves with the
/// movement taken out. Nothing where the delay stays, or what is followed agrees no better than `still` does, or by
/// chance.
std::optional<Fit> fit_that_moves(const Clip& master, const Clip& ret, const Fit& still, const Job& job = {});

}  // namespace heathmist
