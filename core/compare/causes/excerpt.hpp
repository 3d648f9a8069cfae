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

/// The gain in dB that a quarter of the loud samples come back at within 2e-5 (4e-4, 4e-3 where noise lies on them),
/// beyond the one that the excerpt was laid by; 0 where none holds.
double held_gain_db(const Excerpt& excerpt);
/// Turns the excerpt's return down.
void turn_down(Excerpt& excerpt, double db);

}  // namespace heathmist::causes
