#include "core/dsp/inter_sample.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>

#include "core/dsp/fft.hpp"
#include "core/dsp/interpolator.hpp"
#include "core/dsp/simd.hpp"

namespace heathmist::dsp {

namespace {

constexpr int oversampling = 8, coarse = 4, short_taps = 48;
constexpr double short_beta = 5.5;

/// A Kaiser-windowed sinc of few taps; tap k lies k - (short_taps / 2 - 1) samples after the left sample.
std::vector<double> short_kernel(double fraction) {
  std::vector<double> h(short_taps);
  for (int k = 0; k < short_taps; ++k) {
    const double t = k - (short_taps / 2 - 1) - fraction, edge = t / (short_taps / 2.0);
    h[size_t(k)] = std::sin(std::numbers::pi * t) / (std::numbers::pi * t) *
                   std::cyl_bessel_i(0.0, short_beta * std::sqrt(std::max(0.0, 1 - edge * edge))) /
                   std::cyl_bessel_i(0.0, short_beta);
  }
  return h;
}

/// Vertex of the parabola through three values at -1, 0 and 1; the middle one itself where it is not the greatest.
std::pair<double, double> vertex(double left, double middle, double right) {
  const double curve = left - 2 * middle + right, slope = (right - left) / 2;
  if (!(curve < 0) || left > middle || right > middle) return {0, middle};
  const double at = -slope / curve;
  return {at, middle - slope * slope / (2 * curve)};
}

}  // namespace

static_assert(InterSample::before == Interpolator::before && InterSample::after == Interpolator::after + 1);

InterSample::InterSample() {
  for (int k = 1; k < oversampling; ++k) kernels_.push_back(Interpolator::kernel(double(k) / oversampling));
  for (int k = 1; k < coarse; ++k) short_kernels_.push_back(short_kernel(double(k) / coarse));
}

void InterSample::peaks(std::span<const double> in, double least, std::span<double> gaps) const {
  double last = -1;  // the place just before the chunk; none where that was passed over
  for (size_t at = 0; at < gaps.size(); at += chunk) {
    const size_t count = std::min(chunk, gaps.size() - at);
    double top = 0;
    for (size_t n = at; n <= at + count; ++n) top = std::max(top, std::abs(in[before + n]));
    std::fill_n(gaps.begin() + long(at), count, 0.0);
    if (top < least) {
      last = -1;
      continue;
    }
    double between[chunk], dense[chunk * oversampling + 1];
    for (size_t n = 0; n <= count; ++n) dense[n * oversampling] = std::abs(in[before + at + n]);
    for (size_t k = 0; k < kernels_.size(); ++k) {
      simd::convolve(in.data() + at, kernels_[k].data(), Interpolator::taps, between, int64_t(count));
      for (size_t n = 0; n < count; ++n) dense[n * oversampling + k + 1] = std::abs(between[n]);
    }
    for (size_t n = 0; n < count; ++n)
      for (size_t place = n * oversampling; place < (n + 1) * oversampling; ++place) {
        const double left = place > 0 ? dense[place - 1] : last < 0 ? dense[place] : last;
        gaps[at + n] = std::max(gaps[at + n], vertex(left, dense[place], dense[place + 1]).second);
      }
    last = dense[count * oversampling - 1];
  }
}

double InterSample::estimate(const double* x) const {
  double greatest = std::abs(x[chunk]), between[chunk];
  for (size_t n = 0; n < chunk; ++n) greatest = std::max(greatest, std::abs(x[n]));
  for (const auto& kernel : short_kernels_) {
    simd::convolve(x - (short_taps / 2 - 1), kernel.data(), short_taps, between, int64_t(chunk));
    for (const double v : between) greatest = std::max(greatest, std::abs(v));
  }
  return greatest;
}

InterSample::Top InterSample::top(const double* x) const {
  constexpr size_t places = chunk * oversampling + 1;
  double between[oversampling - 1][chunk], dense[places];
  for (size_t k = 0; k < kernels_.size(); ++k)
    simd::convolve(x - before, kernels_[k].data(), Interpolator::taps, between[k], int64_t(chunk));
  for (size_t n = 0; n < chunk; ++n) {
    dense[n * oversampling] = std::abs(x[n]);
    for (size_t k = 0; k < kernels_.size(); ++k) dense[n * oversampling + k + 1] = std::abs(between[k][n]);
  }
  dense[places - 1] = std::abs(x[chunk]);
  const size_t at = size_t(std::max_element(dense, dense + places) - dense);
  auto single = [](const std::vector<double>& kernel, const double* in) {
    double out = 0;
    simd::convolve(in, kernel.data(), Interpolator::taps, &out, 1);
    return std::abs(out);
  };
  const double left = at > 0 ? dense[at - 1] : single(kernels_.back(), x - 1 - before);
  const double right = at + 1 < places ? dense[at + 1] : single(kernels_.front(), x + chunk - before);
  const auto [shift, level] = vertex(left, dense[at], right);
  return {level, (double(at) + shift) / oversampling};
}

}  // namespace heathmist::dsp
