// An EQ as an engineer would set it: the fewest bells, shelves and passes whose response is the measured one.
#pragma once
#include <optional>
#include <vector>

#include "core/compare/causes/eq_fit.hpp"

namespace heathmist::causes {

struct EqShape {
  std::vector<EqSection> sections;
  double flat_db = 0;    ///< the level of the part that nothing was done to
  double error_db = 0;   ///< RMS, weighted
  double range_db = 0;   ///< of the measured magnitudes, from the flat part
  double phase_deg = 0;  ///< RMS of what the sections' phase does not explain
  bool linear_phase = false;
  bool by_phase = false;              ///< a high pass is known by the phase that it turns, hardly by its level
  std::vector<size_t> level_alone{};  ///< sections that take the treble's level and turn no phase,
  double flat_alone_db = 0;           ///< ... and the flat part's level without them
};

/// At most `most` sections; the fewest that leave no more than measuring does. A low shelf and a gain is the same as a
/// high shelf the other way: the one whose flat part lies at `untouched_db`, if any does, where nothing was turned.
EqShape shape_of(const std::vector<ShapePoint>& points, double rate_hz, std::optional<double> untouched_db = {},
                 size_t most = 6);

}  // namespace heathmist::causes
