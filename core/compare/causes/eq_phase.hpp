// What the phase of a response tells of the EQ that made it.
#pragma once
#include <vector>

#include "core/compare/causes/eq_fit.hpp"

namespace heathmist::causes {

/// Of a point that tells anything by itself.
inline constexpr double least_weight = 0.02;

/// How sections explain a measured phase. The fit has laid the return by a delay already, which a filter may have
/// pulled: all is judged at the delay that leaves least.
struct PhaseJudged {
  double left_deg = 0;                ///< RMS, weighted, of what the sections' own phase does not explain
  bool linear = false;                ///< there is none where the sections have much
  std::vector<size_t> level_alone{};  ///< sections that take the treble's level and turn nothing, as a coder does
};
PhaseJudged judge_phase(const EqSetting& setting, const std::vector<ShapePoint>& points, double rate_hz);

/// High passes under all that is heard, each of another order, which turn the phase of what is and hardly its level:
/// those that explain nearly all that a setting leaves of the phase, the best first, of second order as most are set.
std::vector<EqSection> passes_by_phase(const EqSetting& setting, const std::vector<ShapePoint>& points, double rate_hz);

}  // namespace heathmist::causes
