// A section of an EQ: what an engineer sets, and its response.
#pragma once
#include <complex>
#include <vector>

#include "core/dsp/biquad.hpp"

namespace heathmist::causes {

/// One section, by the formulas of dsp::Biquad; passes of first and fourth order are Butterworth.
struct EqSection {
  enum class Kind { bell, low_shelf, high_shelf, high_pass, low_pass };
  Kind kind = Kind::bell;
  double hz = 1000, gain_db = 0, q = 0.707;
  int order = 2;  ///< of a pass: 1, 2 or 4
  bool is_pass() const { return kind == Kind::high_pass || kind == Kind::low_pass; }
  bool is_shelf() const { return kind == Kind::low_shelf || kind == Kind::high_shelf; }
  std::vector<dsp::Biquad> biquads(double rate_hz) const;
  std::complex<double> response(double hz, double rate_hz) const;
};
const char* name_of(EqSection::Kind kind);

}  // namespace heathmist::causes
