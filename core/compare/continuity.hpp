// Where the return does not run through: dropouts, skips and repeats, found by fitting it piece by piece.
#pragma once
#include <vector>

#include "core/compare/sums.hpp"

namespace heathmist {

enum class BreakKind {
  dropout,  ///< the return is silent for a while and then goes on in place
  skip,     ///< from here on something is missing
  insert    ///< from here on something is there twice, or a gap was put in
};
const char* name_of(BreakKind kind);

struct Break {
  BreakKind kind = BreakKind::dropout;
  double at_s = 0;          ///< in the master's time, to the sample where the material allows
  double length_s = 0;      ///< of the dropout, or of what is missing or put in
  double jump_samples = 0;  ///< change of delay at the break: negative where something is missing
  bool repeats = false;     ///< what was put in is what stands before or after it
};

struct Continuity {
  std::vector<Break> breaks;
  double head_samples = 0;  ///< what the beginning lies later than the fit says, up to the first jump
  double broken_s = 0;      ///< of the overlap, not in place under the one fit of the whole
};

/// Looks only where the 20 ms pieces of `sums` show a residual far beyond the usual; every jump that is reported has
/// been tried and leaves a residual like the rest. Jumps of up to 2 s; up to 200 breaks.
Continuity find_breaks(const Clip& master, const Clip& ret, const Fit& fit, const ResidualSums& sums,
                       const Job& job = {});

}  // namespace heathmist
