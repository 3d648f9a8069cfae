// The inner loops that vectors make fast, chosen at run time for the processor (Highway).
#pragma once
#include <cstdint>

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

}  // namespace heathmist::dsp::simd
