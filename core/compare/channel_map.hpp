// Which channel came back as which.
#pragma once
#include <vector>

#include "core/compare/anchors.hpp"
#include "core/compare/fit.hpp"

namespace heathmist {

/// Which channel came back as which: the pairing that leaves the least unexplained, the plain one where it is as good,
/// or where a filter explains it as well.
std::vector<ChannelPair> find_pairs(const Clip& master, const Clip& ret, std::vector<Anchor> anchors,
                                    const DelayLine& line, const Job& job);

}  // namespace heathmist
