// The gain of each moment, apart from what a filter made of each band.
#pragma once
#include "core/compare/causes/excerpt.hpp"

namespace heathmist::causes {

/// Gains in dB as the sum of one of the moment and one of the band and the pair: a two-way layout without interaction
/// (Scheffe, The Analysis of Variance, 1959, chapter 4), by least squares weighed by how well each gain is known.
/// Moments are 43 ms long (at 48 kHz) and stand half of that apart.
struct MomentGains {
  int64_t hop = 1;           ///< frames between their middles; the first lies one hop in
  std::vector<double> db{};  ///< by moment; that of the one before where none is known
  double spread_db = 0;      ///< root mean square of them about their mean
};
MomentGains moment_gains(const Excerpt& excerpt, const Planar& model);

/// Multiplies a model by its moments' gains, straight in dB between them.
void put_in(const MomentGains& gains, Planar& model);

}  // namespace heathmist::causes
