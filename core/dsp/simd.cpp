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

void ChunkPeaks(const double* in, int64_t chunks, int64_t chunk, double* peaks) {
  const hn::CappedTag<double, 8> d;
  const int64_t lanes = int64_t(hn::Lanes(d));
  for (int64_t m = 0; m < chunks; ++m, in += chunk) {
    auto top = hn::Zero(d);
    int64_t n = 0;
    for (; n + lanes <= chunk; n += lanes) top = hn::Max(top, hn::Abs(hn::LoadU(d, in + n)));
    peaks[m] = hn::GetLane(hn::MaxOfLanes(d, top));
    for (; n < chunk; ++n) peaks[m] = in[n] > peaks[m] ? in[n] : -in[n] > peaks[m] ? -in[n] : peaks[m];
  }
}

template <class D, class V = hn::Vec<D>>
struct CascadeState {
  D d;
  V s1, s2, p1, p2, sum;
  CascadeState(D tag, const Cascade16& c, int at)
      : d(tag),
        s1(hn::LoadU(d, c.state[0] + at)),
        s2(hn::LoadU(d, c.state[1] + at)),
        p1(hn::LoadU(d, c.state[2] + at)),
        p2(hn::LoadU(d, c.state[3] + at)),
        sum(hn::Zero(d)) {}
  HWY_INLINE void Run(V x, const V* f) {
    const V y = hn::MulAdd(f[0], x, s1);
    s1 = hn::NegMulAdd(f[3], y, hn::MulAdd(f[1], x, s2));
    s2 = hn::NegMulAdd(f[4], y, hn::Mul(f[2], x));
    const V z = hn::MulAdd(f[5], y, p1);
    p1 = hn::NegMulAdd(f[8], z, hn::MulAdd(f[6], y, p2));
    p2 = hn::NegMulAdd(f[9], z, hn::Mul(f[7], y));
    sum = hn::MulAdd(z, z, sum);
  }
  void Keep(Cascade16& c, double* energy, int at) const {
    hn::StoreU(s1, d, c.state[0] + at);
    hn::StoreU(s2, d, c.state[1] + at);
    hn::StoreU(p1, d, c.state[2] + at);
    hn::StoreU(p2, d, c.state[3] + at);
    hn::StoreU(hn::Add(sum, hn::LoadU(d, energy + at)), d, energy + at);
  }
};

void CascadeEnergy(Cascade16& c, const double* const* in, int64_t count, double* energy) {
  constexpr int width = Cascade16::width;
  constexpr int64_t piece = 32;
  const hn::CappedTag<double, 8> d;
  using V = hn::Vec<decltype(d)>;
  const int lanes = int(hn::Lanes(d));
  V f[10];
  for (int k = 0; k < 5; ++k) {
    f[k] = hn::Set(d, c.first[k]);
    f[k + 5] = hn::Set(d, c.second[k]);
  }
  for (int k = 0; k < width; ++k) energy[k] = 0;
  double turned[piece * width];
  for (int64_t at = 0; at < count; at += piece) {
    const int64_t frames = count - at < piece ? count - at : piece;
    for (int k = 0; k < width; ++k)
      for (int64_t n = 0; n < frames; ++n) turned[n * width + k] = in[k][at + n];
    for (int k = 0; k < width; k += 2 * lanes) {  // two at a time: each waits for itself
      CascadeState<decltype(d)> a(d, c, k), b(d, c, k + lanes);
      for (int64_t n = 0; n < frames; ++n) {
        a.Run(hn::LoadU(d, turned + n * width + k), f);
        b.Run(hn::LoadU(d, turned + n * width + k + lanes), f);
      }
      a.Keep(c, energy, k);
      b.Keep(c, energy, k + lanes);
    }
  }
}

/// As many vectors of followers at once, from the k-th on.
template <int vectors>
void FollowAtOnce(const Followers& f, int k, const float* values, const float* weights, int64_t count, int64_t piece,
                  float* means) {
  const hn::CappedTag<float, 16> d;
  using V = hn::Vec<decltype(d)>;
  const int lanes = int(hn::Lanes(d)), used = f.count - k < vectors * lanes ? f.count - k : vectors * lanes;
  float up[vectors * 16] = {}, down[vectors * 16] = {}, out[vectors * 16];
  for (int n = 0; n < used; ++n) up[n] = f.up[k + n], down[n] = f.down[k + n];
  V now[vectors], rise[vectors], fall[vectors], sum[vectors];
  for (int v = 0; v < vectors; ++v) {
    now[v] = hn::Set(d, f.start);
    rise[v] = hn::LoadU(d, up + v * lanes);
    fall[v] = hn::LoadU(d, down + v * lanes);
  }
  for (int64_t at = 0; at < count; at += piece, means += f.count) {
    const int64_t end = count - at < piece ? count : at + piece;
    float all = 0;
    for (int v = 0; v < vectors; ++v) sum[v] = hn::Zero(d);
    for (int64_t n = at; n < end; ++n) {
      const V value = hn::Set(d, values[n]), weight = hn::Set(d, weights[n]);
      all += weights[n];
      for (int v = 0; v < vectors; ++v) {
        const V off = hn::Sub(value, now[v]);
        now[v] = hn::MulAdd(off, hn::IfThenElse(hn::Gt(off, hn::Zero(d)), rise[v], fall[v]), now[v]);
        sum[v] = hn::MulAdd(now[v], weight, sum[v]);
      }
    }
    for (int v = 0; v < vectors; ++v) hn::StoreU(sum[v], d, out + v * lanes);
    for (int n = 0; n < used; ++n) means[k + n] = out[n] / all;
  }
}

void Follow(const Followers& f, const float* values, const float* weights, int64_t count, int64_t piece, float* means) {
  const int lanes = int(hn::Lanes(hn::CappedTag<float, 16>()));
  for (int k = 0; k < f.count;)
    if (f.count - k > 2 * lanes)
      FollowAtOnce<5>(f, k, values, weights, count, piece, means), k += 5 * lanes;
    else
      FollowAtOnce<2>(f, k, values, weights, count, piece, means), k += 2 * lanes;
}

}  // namespace HWY_NAMESPACE
}  // namespace heathmist::dsp::simd
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace heathmist::dsp::simd {
HWY_EXPORT(Convolve);
HWY_EXPORT(BlendDot);
HWY_EXPORT(Summarize);
HWY_EXPORT(ChunkPeaks);
HWY_EXPORT(CascadeEnergy);
HWY_EXPORT(Follow);
void convolve(const double* in, const double* h, int taps, double* out, int64_t count) {
  HWY_DYNAMIC_DISPATCH(Convolve)(in, h, taps, out, count);
}
double blend_dot(const double* in, const double* a, const double* b, double mix, int taps) {
  return HWY_DYNAMIC_DISPATCH(BlendDot)(in, a, b, mix, taps);
}
void chunk_peaks(const double* in, int64_t chunks, int64_t chunk, double* peaks) {
  HWY_DYNAMIC_DISPATCH(ChunkPeaks)(in, chunks, chunk, peaks);
}
void cascade_energy(Cascade16& cascade, const double* const in[Cascade16::width], int64_t count,
                    double energy[Cascade16::width]) {
  HWY_DYNAMIC_DISPATCH(CascadeEnergy)(cascade, in, count, energy);
}
void follow(const Followers& followers, const float* values, const float* weights, int64_t count, int64_t piece,
            float* means) {
  HWY_DYNAMIC_DISPATCH(Follow)(followers, values, weights, count, piece, means);
}
Summary summarize(const double* in, int64_t count) { return HWY_DYNAMIC_DISPATCH(Summarize)(in, count); }
}  // namespace heathmist::dsp::simd
#endif
