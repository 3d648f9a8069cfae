// The level of a residual as deliveries weigh it: a number also where nothing is left.
#pragma once
#include <algorithm>

#include "core/compare/null.hpp"

namespace heathmist {

inline constexpr double nothing_left_db = -300;  ///< dBr, of digital silence
/// dBr; under this nothing is left that matters: a bit-identical copy, a whole shift, a plain gain.
inline constexpr double identical_db = -120;

/// dBr, of the whole; nothing_left_db at least.
inline double residual_level_db(const NullReport& report) {
  return std::max(nothing_left_db, report.residual_relative_db().value_or(nothing_left_db));
}

}  // namespace heathmist
