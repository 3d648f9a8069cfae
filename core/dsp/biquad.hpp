// Second-order sections, for filtering as it is heard.
#pragma once
#include <algorithm>
#include <cmath>
#include <complex>
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
  /// The response where a delay of one sample is `delay`: exp(-i w).
  std::complex<double> response(std::complex<double> delay) const {
    return (b0 + delay * (b1 + delay * b2)) / (1.0 + delay * (a1 + delay * a2));
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
  /// The same of order one.
  static Biquad first_low_pass(double rate_hz, double hz) {
    const double k = std::tan(std::numbers::pi * hz / rate_hz), n = 1 / (1 + k);
    return {k * n, k * n, 0, (k - 1) * n, 0};
  }
  static Biquad first_high_pass(double rate_hz, double hz) {
    const double k = std::tan(std::numbers::pi * hz / rate_hz), n = 1 / (1 + k);
    return {n, -n, 0, (k - 1) * n, 0};
  }
  /// Bell, shelves and all-pass of the Audio EQ Cookbook (R. Bristow-Johnson; W3C note of 2021).
  static Biquad bell(double rate_hz, double hz, double q, double gain_db) {
    const Corner c(rate_hz, hz, q);
    const double a = std::pow(10.0, gain_db / 40);
    return over(1 + c.alpha / a, 1 + c.alpha * a, -2 * c.cosine, 1 - c.alpha * a, -2 * c.cosine, 1 - c.alpha / a);
  }
  static Biquad low_shelf(double rate_hz, double hz, double q, double gain_db) {
    return shelf(Corner(rate_hz, hz, q), std::pow(10.0, gain_db / 40), 1);
  }
  static Biquad high_shelf(double rate_hz, double hz, double q, double gain_db) {
    return shelf(Corner(rate_hz, hz, q), std::pow(10.0, gain_db / 40), -1);
  }
  static Biquad all_pass(double rate_hz, double hz, double q) {
    const Corner c(rate_hz, hz, q);
    return over(1 + c.alpha, 1 - c.alpha, -2 * c.cosine, 1 + c.alpha, -2 * c.cosine, 1 - c.alpha);
  }

 private:
  struct Corner {
    double cosine, alpha;
    Corner(double rate_hz, double hz, double q) {
      const double w = 2 * std::numbers::pi * hz / rate_hz;
      cosine = std::cos(w), alpha = std::sin(w) / (2 * q);
    }
  };
  static Biquad over(double a0, double b0, double b1, double b2, double a1, double a2) {
    return {b0 / a0, b1 / a0, b2 / a0, a1 / a0, a2 / a0};
  }
  /// `side` 1: low shelf, -1: high shelf.
  static Biquad shelf(const Corner& c, double a, double side) {
    const double root = 2 * std::sqrt(a) * c.alpha, k = side * c.cosine;
    return over(a + 1 + (a - 1) * k + root, a * (a + 1 - (a - 1) * k + root), side * 2 * a * (a - 1 - (a + 1) * k),
                a * (a + 1 - (a - 1) * k - root), side * -2 * (a - 1 + (a + 1) * k), a + 1 + (a - 1) * k - root);
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
