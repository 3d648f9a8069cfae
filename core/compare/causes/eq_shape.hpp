// An EQ as an engineer would set it: the fewest bells, shelves and passes whose response is the measured one.
#pragma once
#include <complex>
#include <string>
#include <vector>

namespace heathmist::causes {

/// One section: second order, by the formulas of Bristow-Johnson's "Cookbook formulae for audio EQ biquad filter
/// coefficients"; passes of first and fourth order are Butterworth.
struct EqSection {
  enum class Kind { bell, low_shelf, high_shelf, high_pass, low_pass };
  Kind kind = Kind::bell;
  double hz = 1000, gain_db = 0, q = 0.707;
  int order = 2;  ///< of a pass: 1, 2 or 4
  std::complex<double> response(double hz, double rate_hz) const;
};
const char* name_of(EqSection::Kind kind);

/// A measured response at one frequency.
struct ShapePoint {
  double hz = 0, db = 0, weight = 0;
  std::complex<double> h;
};

struct EqShape {
  std::vector<EqSection> sections;
  double flat_db = 0;    ///< the level of the part that nothing was done to
  double error_db = 0;   ///< RMS, weighted
  double range_db = 0;   ///< of the measured magnitudes, from the flat part
  double phase_deg = 0;  ///< RMS of what the sections' phase does not explain
  bool linear_phase = false;
};

/// At most `most` sections; the fewest that leave no more than measuring does.
EqShape shape_of(const std::vector<ShapePoint>& points, double rate_hz, size_t most = 4);

}  // namespace heathmist::causes
