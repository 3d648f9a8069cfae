// Which parts of a long overlap are read where not all of it must be.
#pragma once
#include <vector>

#include "core/compare/sums.hpp"

namespace heathmist {

/// Energy of the return, at the master's level, less the master in one of the sums' short pieces.
double residual_in_piece(const ResidualSums& sums, const Fit& fit, size_t piece);

struct Segment {
  int64_t index = 0;
  double weight = 1;  ///< how many of its kind it stands for
};

/// Of `count` segments of `frames` each from where the overlap starts at most `most`, in order: a third of them where
/// the residual is strongest, which stand for themselves, and others evenly spread, which stand for all that are left
/// (stratified sampling: Cochran, "Sampling Techniques", 3rd ed., ch. 5). All of them where there are no more.
std::vector<Segment> segments_of(const ResidualSums& sums, const Fit& fit, int rate_hz, int64_t count, int64_t frames,
                                 int64_t most);

}  // namespace heathmist
