// Cutting the excerpt that causes are looked for in.
#pragma once
#include "core/compare/causes/cause.hpp"
#include "core/compare/continuity.hpp"
#include "core/compare/sums.hpp"

namespace heathmist::causes {

/// All of the overlap where it has at most `most_samples` (frames by pairs), else stretches of it: the two ends, the
/// loudest, the quietest, the one where the residual is greatest, and some evenly spread. Every channel is laid by its
/// own delay where `by_channel`; what breaks off or is skipped may not be read.
Excerpt take_excerpt(const Clip& master, const Clip& ret, const Fit& fit, const ResidualSums& sums,
                     const Continuity& breaks, bool by_channel, int64_t most_samples, const Job& job = {});

}  // namespace heathmist::causes
