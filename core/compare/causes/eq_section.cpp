#include "core/compare/causes/eq_section.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace heathmist::causes {

namespace {

using Complex = std::complex<double>;
using Kind = EqSection::Kind;

using Coefficients = EqSection::Coefficients;

Coefficients pass(bool high, double w0, double q) {
  const double c = std::cos(w0), alpha = std::sin(w0) / (2 * q);
  const double k = high ? (1 + c) / 2 : (1 - c) / 2, middle = high ? -(1 + c) : 1 - c;
  return {k, middle, k, 1 + alpha, -2 * c, 1 - alpha};
}

Coefficients first_order(bool high, double w0) {
  const double k = std::tan(w0 / 2);
  return high ? Coefficients{1, -1, 0, 1 + k, k - 1, 0} : Coefficients{k, k, 0, 1 + k, k - 1, 0};
}

Coefficients shelf(bool high, double a, double c, double root) {
  const double turn = high ? -1 : 1;
  return {a * ((a + 1) - turn * (a - 1) * c + root),  turn * 2 * a * ((a - 1) - turn * (a + 1) * c),
          a * ((a + 1) - turn * (a - 1) * c - root),  (a + 1) + turn * (a - 1) * c + root,
          turn * -2 * ((a - 1) + turn * (a + 1) * c), (a + 1) + turn * (a - 1) * c - root};
}

}  // namespace

const char* name_of(Kind kind) {
  static constexpr const char* names[] = {"bell", "low_shelf", "high_shelf", "high_pass", "low_pass"};
  return names[int(kind)];
}

Complex Coefficients::response(Complex z) const { return (b0 + z * (b1 + z * b2)) / (a0 + z * (a1 + z * a2)); }

std::vector<Coefficients> EqSection::coefficients(double rate_hz) const {
  const double w0 = 2 * std::numbers::pi * hz / rate_hz, c = std::cos(w0), alpha = std::sin(w0) / (2 * q);
  const double a = std::pow(10, gain_db / 40);
  if (kind == Kind::bell) return {{1 + alpha * a, -2 * c, 1 - alpha * a, 1 + alpha / a, -2 * c, 1 - alpha / a}};
  if (is_shelf()) return {shelf(kind == Kind::high_shelf, a, c, 2 * std::sqrt(a) * alpha)};
  const bool high = kind == Kind::high_pass;
  if (order == 1) return {first_order(high, w0)};
  if (order == 4) return {pass(high, w0, 0.541196), pass(high, w0, 1.306563)};
  return {pass(high, w0, q)};
}

Complex EqSection::response(double at_hz, double rate_hz) const {
  const Complex z = std::polar(1.0, -2 * std::numbers::pi * at_hz / rate_hz);
  Complex h = 1;
  for (const Coefficients& c : coefficients(rate_hz)) h *= c.response(z);
  return h;
}

}  // namespace heathmist::causes
