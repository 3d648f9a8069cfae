// What of a gain by level an estimate of a filter would take for its own.
#pragma once
#include "core/compare/causes/excerpt.hpp"
#include "core/compare/causes/level_detector.hpp"

namespace heathmist::causes {

/// Puts into a model the gain by level, straight between ten levels, that together with one filter a pair explains
/// most of the return: least squares with the filters eliminated (Golub and Pereyra, SIAM J. Numer. Anal. 10, 1973),
/// linear about the gain that the model has.
void put_in_law_beside_filter(const Excerpt& excerpt, const LevelCourse& level, Planar& model);

}  // namespace heathmist::causes
