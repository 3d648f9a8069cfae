// The inner loops that vectors make fast, chosen at run time for the processor (Highway).
#pragma once
#include <cstdint>
#include <span>

namespace heathmist::dsp::simd {

/// out[n] = sum over k of h[k] in[n + k], n = 0 .. count-1; `in` holds count + taps - 1 values.
void convolve(const double* in, const double* h, int taps, double* out, int64_t count);

/// sum over k of in[k] ((1 - mix) a[k] + mix b[k]); taps is a multiple of 8.
double blend_dot(const double* in, const double* a, const double* b, double mix, int taps);

struct Summary {
  double low, high, sum, square_sum;
};
/// Least, greatest, sum and sum of squares of count >= 1 values. A value that is no number makes square_sum no number.
Summary summarize(const double* in, int64_t count);

/// 0 of none.
inline double mean_square(std::span<const double> x) {
  return x.empty() ? 0 : summarize(x.data(), int64_t(x.size())).square_sum / double(x.size());
}

/// peaks[m]: greatest |in[n]| for n in [m chunk, (m + 1) chunk).
void chunk_peaks(const double* in, int64_t chunks, int64_t chunk, double* peaks);

/// Two biquads in cascade (b0 b1 b2 a1 a2 each, transposed direct form II) for sixteen signals at once: one signal
/// alone would wait for itself.
struct Cascade16 {
  static constexpr int width = 16;
  double first[5], second[5];
  double state[4][width] = {};
};
/// Runs each signal in[k] on by count samples; energy[k]: sum of squares of what comes out.
void cascade_energy(Cascade16& cascade, const double* const in[Cascade16::width], int64_t count,
                    double energy[Cascade16::width]);

/// Followers with one pole: now += (value - now) times up[k] where that is positive, else times down[k].
struct Followers {
  const float *up, *down;
  int count;
  float start;  ///< where all of them stand before the first value
};
/// Many side by side, for one alone would wait for itself. means[m followers.count + k]: mean of the k-th over the
/// values of [m piece, (m + 1) piece), each weighed by its positive weight; the last piece may be shorter.
void follow(const Followers& followers, const float* values, const float* weights, int64_t count, int64_t piece,
            float* means);

}  // namespace heathmist::dsp::simd
