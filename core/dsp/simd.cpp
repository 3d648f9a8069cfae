#include "core/dsp/simd.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "core/dsp/simd.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace heathmist::dsp::simd {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

void Convolve(const double* in, const double* h, int taps, double* out, int64_t count) {
  const hn::ScalableTag<double> d;
  const int64_t lanes = int64_t(hn::Lanes(d));
  int64_t n = 0;
  for (; n + 4 * lanes <= count; n += 4 * lanes) {
    auto s0 = hn::Zero(d), s1 = s0, s2 = s0, s3 = s0;
    const double* x = in + n;
    for (int k = 0; k < taps; ++k, ++x) {
      const auto tap = hn::Set(d, h[k]);
      s0 = hn::MulAdd(tap, hn::LoadU(d, x), s0);
      s1 = hn::MulAdd(tap, hn::LoadU(d, x + lanes), s1);
      s2 = hn::MulAdd(tap, hn::LoadU(d, x + 2 * lanes), s2);
      s3 = hn::MulAdd(tap, hn::LoadU(d, x + 3 * lanes), s3);
    }
    hn::StoreU(s0, d, out + n);
    hn::StoreU(s1, d, out + n + lanes);
    hn::StoreU(s2, d, out + n + 2 * lanes);
    hn::StoreU(s3, d, out + n + 3 * lanes);
  }
  for (; n < count; ++n) {
    double sum = 0;
    for (int k = 0; k < taps; ++k) sum += h[k] * in[n + k];
    out[n] = sum;
  }
}

double BlendDot(const double* in, const double* a, const double* b, double mix, int taps) {
  const hn::CappedTag<double, 8> d;
  const int lanes = int(hn::Lanes(d));
  const auto m = hn::Set(d, mix);
  auto sum = hn::Zero(d);
  for (int k = 0; k < taps; k += lanes) {
    const auto from = hn::LoadU(d, a + k);
    const auto tap = hn::MulAdd(m, hn::Sub(hn::LoadU(d, b + k), from), from);
    sum = hn::MulAdd(tap, hn::LoadU(d, in + k), sum);
  }
  return hn::GetLane(hn::SumOfLanes(d, sum));
}

Summary Summarize(const double* in, int64_t count) {
  const hn::CappedTag<double, 8> d;
  const int64_t lanes = int64_t(hn::Lanes(d));
  auto low = hn::Set(d, in[0]), high = low, sum = hn::Zero(d), squares = sum;
  int64_t n = 0;
  for (; n + lanes <= count; n += lanes) {
    const auto x = hn::LoadU(d, in + n);
    low = hn::Min(low, x);
    high = hn::Max(high, x);
    sum = hn::Add(sum, x);
    squares = hn::MulAdd(x, x, squares);
  }
  Summary result{hn::GetLane(hn::MinOfLanes(d, low)), hn::GetLane(hn::MaxOfLanes(d, high)),
                 hn::GetLane(hn::SumOfLanes(d, sum)), hn::GetLane(hn::SumOfLanes(d, squares))};
  for (; n < count; ++n) {
    result.low = in[n] < result.low ? in[n] : result.low;
    result.high = in[n] > result.high ? in[n] : result.high;
    result.sum += in[n];
    result.square_sum += in[n] * in[n];
  }
  return result;
}

}  // namespace HWY_NAMESPACE
}  // namespace heathmist::dsp::simd
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace heathmist::dsp::simd {
HWY_EXPORT(Convolve);
HWY_EXPORT(BlendDot);
HWY_EXPORT(Summarize);
void convolve(const double* in, const double* h, int taps, double* out, int64_t count) {
  HWY_DYNAMIC_DISPATCH(Convolve)(in, h, taps, out, count);
}
double blend_dot(const double* in, const double* a, const double* b, double mix, int taps) {
  return HWY_DYNAMIC_DISPATCH(BlendDot)(in, a, b, mix, taps);
}
Summary summarize(const double* in, int64_t count) { return HWY_DYNAMIC_DISPATCH(Summarize)(in, count); }
}  // namespace heathmist::dsp::simd
#endif
