// A filter, and a gain by level or a curve beside it, each take some of what the other is off by.
#pragma once
#include "core/compare/causes/cause_set.hpp"

namespace heathmist::causes {

/// They come apart slowly by turns: so one whatever the other, and each with the other undone, until that makes no
/// odds. `left`: by all causes before; what is left by them then is returned.
double come_apart(CauseSet& causes, double left, const Job& job);

/// What a filter leaves, and a law beside it, that have come apart.
bool is_well_known(const CauseSet& causes, double left);

}  // namespace heathmist::causes
