#include "core/compare/causes/eq_section.hpp"

#include <numbers>

namespace heathmist::causes {

using dsp::Biquad;
using Kind = EqSection::Kind;

const char* name_of(Kind kind) {
  static constexpr const char* names[] = {"bell", "low_shelf", "high_shelf", "high_pass", "low_pass"};
  return names[int(kind)];
}

std::vector<Biquad> EqSection::biquads(double rate_hz) const {
  if (kind == Kind::bell) return {Biquad::bell(rate_hz, hz, q, gain_db)};
  if (kind == Kind::low_shelf) return {Biquad::low_shelf(rate_hz, hz, q, gain_db)};
  if (kind == Kind::high_shelf) return {Biquad::high_shelf(rate_hz, hz, q, gain_db)};
  const bool high = kind == Kind::high_pass;
  if (order == 1) return {high ? Biquad::first_high_pass(rate_hz, hz) : Biquad::first_low_pass(rate_hz, hz)};
  const auto second = high ? Biquad::high_pass : Biquad::low_pass;
  if (order == 4) return {second(rate_hz, hz, 0.541196), second(rate_hz, hz, 1.306563)};
  return {second(rate_hz, hz, q)};
}

std::complex<double> EqSection::response(double at_hz, double rate_hz) const {
  const auto delay = std::polar(1.0, -2 * std::numbers::pi * at_hz / rate_hz);
  std::complex<double> h = 1;
  for (const Biquad& b : biquads(rate_hz)) h *= b.response(delay);
  return h;
}

}  // namespace heathmist::causes
