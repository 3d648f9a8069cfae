#include "core/dsp/interpolator.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>

#include "core/dsp/fft.hpp"
#include "core/dsp/simd.hpp"

namespace heathmist::dsp {

namespace {

constexpr double beta = 13.5;
constexpr int phases = 1024;

/// (phases + 1) x taps, the last row being one sample on from the first.
const std::vector<double>& phase_table() {
  static const std::vector<double> table = [] {
    std::vector<double> rows;
    for (int p = 0; p <= phases; ++p) {
      const auto row = Interpolator::kernel(double(p) / phases);
      rows.insert(rows.end(), row.begin(), row.end());
    }
    return rows;
  }();
  return table;
}

}  // namespace

std::vector<double> Interpolator::kernel(double fraction) {
  const double norm = std::cyl_bessel_i(0.0, beta);
  std::vector<double> h(taps);
  for (int k = 0; k < taps; ++k) {
    const double t = k - before - fraction;  // distance of tap k from the place that is read
    const double edge = t / (taps / 2.0);
    const double sinc = t == 0 ? 1 : std::sin(std::numbers::pi * t) / (std::numbers::pi * t);
    h[k] = std::abs(edge) >= 1 ? 0 : sinc * std::cyl_bessel_i(0.0, beta * std::sqrt(1 - edge * edge)) / norm;
  }
  return h;
}

void Interpolator::shift(std::span<const double> in, double fraction, std::span<double> out) {
  if (fraction == 0) {
    std::copy_n(in.begin() + before, out.size(), out.begin());
    return;
  }
  const auto h = kernel(fraction);
  simd::convolve(in.data(), h.data(), taps, out.data(), int64_t(out.size()));
}

void Interpolator::stretch(std::span<const double> in, double start, double step, std::span<double> out) {
  const auto& table = phase_table();
  for (size_t n = 0; n < out.size(); ++n) {
    const double place = start + double(n) * step;
    const double whole = std::floor(place);
    const double phase = (place - whole) * phases;
    const int row = std::min(int(phase), phases - 1);
    out[n] = simd::blend_dot(in.data() + int64_t(whole), table.data() + size_t(row) * taps,
                             table.data() + size_t(row + 1) * taps, phase - row, taps);
  }
}

}  // namespace heathmist::dsp
