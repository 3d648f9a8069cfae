// A section of an EQ: what an engineer sets, and its response.
#pragma once
#include <complex>
#include <vector>

namespace heathmist::causes {

/// One section: second order, by the formulas of Bristow-Johnson's "Cookbook formulae for audio EQ biquad filter
/// coefficients"; passes of first and fourth order are Butterworth.
struct EqSection {
  enum class Kind { bell, low_shelf, high_shelf, high_pass, low_pass };
  Kind kind = Kind::bell;
  double hz = 1000, gain_db = 0, q = 0.707;
  int order = 2;  ///< of a pass: 1, 2 or 4
  bool is_pass() const { return kind == Kind::high_pass || kind == Kind::low_pass; }
  bool is_shelf() const { return kind == Kind::low_shelf || kind == Kind::high_shelf; }
  /// (b0 + b1 z^-1 + b2 z^-2) / (a0 + a1 z^-1 + a2 z^-2)
  struct Coefficients {
    double b0, b1, b2, a0, a1, a2;
    std::complex<double> response(std::complex<double> delay) const;  ///< delay: z^-1
  };
  std::vector<Coefficients> coefficients(double rate_hz) const;
  std::complex<double> response(double hz, double rate_hz) const;
};
const char* name_of(EqSection::Kind kind);

}  // namespace heathmist::causes
