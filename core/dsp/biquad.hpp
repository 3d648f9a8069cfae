// Second-order sections, for filtering as it is heard.
#pragma once
#include <algorithm>
#include <cmath>
#include <numbers>
#include <span>

namespace heathmist::dsp {

/// One section in transposed direct form II: y = b0 x + ..., a0 = 1.
struct Biquad {
  double b0 = 1, b1 = 0, b2 = 0, a1 = 0, a2 = 0, s1 = 0, s2 = 0;

  double run(double x) {
    const double y = b0 * x + s1;
    s1 = b1 * x - a1 * y + s2;
    s2 = b2 * x - a2 * y;
    return y;
  }
  /// Butterworth low and high pass of order two by the bilinear transform; `q` 0.7071 for one section.
  static Biquad low_pass(double rate_hz, double hz, double q = std::numbers::sqrt2 / 2) {
    const double k = std::tan(std::numbers::pi * hz / rate_hz), n = 1 / (1 + k / q + k * k);
    return {k * k * n, 2 * k * k * n, k * k * n, 2 * (k * k - 1) * n, (1 - k / q + k * k) * n};
  }
  static Biquad high_pass(double rate_hz, double hz, double q = std::numbers::sqrt2 / 2) {
    const double k = std::tan(std::numbers::pi * hz / rate_hz), n = 1 / (1 + k / q + k * k);
    return {n, -2 * n, n, 2 * (k * k - 1) * n, (1 - k / q + k * k) * n};
  }
};

/// A band from low to high, 24 dB an octave on either side (two Butterworth sections each, Q 0.5412 and 1.3066).
class BandPass {
 public:
  BandPass() = default;
  BandPass(double rate_hz, double low_hz, double high_hz) {
    const double top = 0.49 * rate_hz;
    const double low = std::clamp(low_hz, 5.0, 0.9 * top), high = std::clamp(high_hz, 1.05 * low, top);
    for (int n = 0; n < 2; ++n) {
      const double q = n == 0 ? 0.54119610 : 1.3065630;
      sections_[n] = Biquad::high_pass(rate_hz, low, q);
      sections_[n + 2] = Biquad::low_pass(rate_hz, high, q);
    }
  }
  double run(double x) {
    for (Biquad& section : sections_) x = section.run(x);
    return x;
  }

 private:
  Biquad sections_[4];
};

}  // namespace heathmist::dsp
