// A linear path's response as points that an EQ is fitted to, and the EQs that fit.
#pragma once
#include <vector>

#include "core/compare/causes/eq_shape.hpp"
#include "core/compare/causes/response.hpp"

namespace heathmist::causes {

/// How certain bins must be to be read together: their certainty is 1 by chance.
inline constexpr double several_bins = 8, least_certain = 4;

/// The bins of a twelfth octave around a place, of the lower ones at least one.
struct Bins {
  size_t from, to;
};
Bins bins_around(const Response& response, double hz);
/// Whether a bin of the model holds more than what leaks into it; `most`: of all bins.
bool tells(const std::vector<double>& power, double most, size_t bin);

/// The response of a pair in twelfth octaves. Its levels may be low where a coder has dropped something, or where the
/// model is off itself (Bendat and Piersol, Random Data, 9.1: noise at the input): by as much as the coherence is low.
std::vector<ShapePoint> points_of(const Response& response, size_t pair, bool may_be_low = false);

/// One EQ for both channels where they were turned alike as far as they are known, else one for each pair.
/// `untouched_db`: as in shape_of.
std::vector<EqShape> shapes_of(const std::vector<std::vector<ShapePoint>>& points, double rate_hz, double untouched_db);

}  // namespace heathmist::causes
