// Which channel came back as which.
#pragma once
#include <vector>

#include "core/compare/anchors.hpp"
#include "core/compare/fit.hpp"

namespace heathmist {

struct ChannelMap {
  std::vector<ChannelPair> pairs;
  bool return_is_one = false;  ///< both its channels are the same: their polarity is one too
};

/// The pairing that leaves the least unexplained, the plain one where it is as good, or where a filter explains it as
/// well.
ChannelMap find_pairs(const Clip& master, const Clip& ret, std::vector<Anchor> anchors, const DelayLine& line,
                      const Job& job);

}  // namespace heathmist
