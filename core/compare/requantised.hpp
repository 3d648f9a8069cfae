// How a return was cut to its word length: rounded or truncated, with which dither. Told by the error it made.
#pragma once
#include <optional>

#include "core/compare/sums.hpp"

namespace heathmist {

/// Probability densities of the total error in steps (Lipshitz, Wannamaker and Vanderkooy, "Quantization and dither: a
/// theoretical survey", JAES 40, 1992): plain rounding is uniform over one step (variance 1/12); rectangular dither of
/// one step makes it 1/6 within +-1; triangular of two steps 1/4 within +-1.5.
enum class Dither { none, rectangular, triangular, shaped, other };
const char* name_of(Dither dither);

struct Requantisation {
  int bits = 0;
  bool truncated = false;  ///< the mean error is half a step down
  Dither dither = Dither::none;
  double mean_steps = 0, variance_steps2 = 0, peak_steps = 0;  ///< of the error, in steps of the return
  double tilt_db = 0;  ///< error density in the top quarter of the band against the lowest quarter
};

/// Studies the error of a return of `bits` bits that differs in nothing else: whole delay, unchanged level. Nothing
/// where the error does not look like one of requantising.
std::optional<Requantisation> study_requantising(const Clip& master, const Clip& ret, const Fit& fit,
                                                 const ResidualSums& sums, int bits, const Job& job = {});

}  // namespace heathmist
