#include "core/dsp/between.hpp"

#include <algorithm>
#include <cmath>

#include "core/dsp/interpolator.hpp"
#include "core/dsp/simd.hpp"

namespace heathmist::dsp {

namespace {
constexpr int oversampling = 8;
constexpr size_t piece = 32;
}  // namespace

static_assert(BetweenSamples::before == Interpolator::before && BetweenSamples::after == Interpolator::after + 1);

BetweenSamples::BetweenSamples() {
  for (int k = 1; k < oversampling; ++k) kernels_.push_back(Interpolator::kernel(double(k) / oversampling));
}

void BetweenSamples::peaks(std::span<const double> in, double least, std::span<double> gaps) const {
  for (size_t at = 0; at < gaps.size(); at += piece) {
    const size_t count = std::min(piece, gaps.size() - at);
    double top = 0;
    for (size_t n = at; n <= at + count; ++n) top = std::max(top, std::abs(in[before + n]));
    std::fill_n(gaps.begin() + long(at), count, 0.0);
    if (top < least) continue;
    double between[piece];
    for (const auto& kernel : kernels_) {
      simd::convolve(in.data() + at, kernel.data(), Interpolator::taps, between, int64_t(count));
      for (size_t n = 0; n < count; ++n) gaps[at + n] = std::max(gaps[at + n], std::abs(between[n]));
    }
  }
}

}  // namespace heathmist::dsp
