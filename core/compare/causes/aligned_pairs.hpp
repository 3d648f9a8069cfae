// The return laid on the master pair by pair: with what is too much or missing in it undone, each channel by its own
// delay where asked for, at the master's level and polarity.
#pragma once
#include <optional>
#include <utility>
#include <vector>

#include "core/compare/continuity.hpp"
#include "core/compare/fit.hpp"

namespace heathmist::causes {

class AlignedPairs {
 public:
  AlignedPairs(const Clip& ret, const Fit& fit, int rate_hz, const Continuity& breaks, bool own_delays);
  /// pairs x frames, from a master frame on.
  void read(int64_t first, int64_t frames, Planar& out);
  /// Master frames [from, until) that are nowhere in the return, or faded over.
  const std::vector<std::pair<int64_t, int64_t>>& gone() const { return gone_; }

 private:
  struct Part {
    int64_t from;
    double moved;
  };
  struct Group {  // pairs that one delay lays
    int first, last;
    double delay;
    std::vector<std::optional<AlignedReturn>> parts;
  };
  void read_part(Group& group, size_t part, int64_t first, int64_t frames, int64_t at, Planar& out);
  const Clip& ret_;
  Fit fit_;
  std::vector<Part> parts_;
  std::vector<std::pair<int64_t, int64_t>> gone_;
  std::vector<Group> groups_;
  Planar block_;
};

}  // namespace heathmist::causes
