#include "core/measure/clicks.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <cstdint>
#include <numeric>

#include "core/dsp/fft.hpp"
#include "core/dsp/median.hpp"
#include "core/dsp/simd.hpp"

namespace heathmist {

namespace {

constexpr int order = 24;
constexpr int64_t block = 2048;          // predicted by coefficients of its own, from twice as much around it
constexpr double click_stands_out = 14;  // of the usual error
constexpr double least_level = 1e-3;     // -60 dBFS
constexpr double alone_share = 0.4;      // of its own error: nothing else close by comes near it
constexpr double longest_click_s = 0.001, near_s = 0.015, side_s = 0.025;
constexpr double same_sound = 4, far_less = 0.001, as_loud = 4, no_error = 1e-8;

using Predictor = std::array<double, order>;

/// By Levinson and Durbin, of a block under a Hann window.
Predictor predictor_of(std::span<const double> x) {
  thread_local std::vector<double> window, windowed;
  if (window.size() != x.size()) window = dsp::hann(x.size());
  windowed.resize(x.size());
  for (size_t n = 0; n < x.size(); ++n) windowed[n] = x[n] * window[n];
  std::array<double, order + 1> r{};
  for (size_t lag = 0; lag <= order; ++lag)
    r[lag] = std::transform_reduce(windowed.begin() + std::ptrdiff_t(lag), windowed.end(), windowed.begin(), 0.0);
  Predictor a{};
  double error = r[0] * (1 + 1e-9);
  for (int i = 0; i < order && error > 0; ++i) {
    double sum = r[size_t(i) + 1];
    for (int k = 0; k < i; ++k) sum -= a[size_t(k)] * r[size_t(i - k)];
    const double reflection = sum / error;
    Predictor next = a;
    next[size_t(i)] = reflection;
    for (int k = 0; k < i; ++k) next[size_t(k)] = a[size_t(k)] - reflection * a[size_t(i - 1 - k)];
    a = next;
    error *= 1 - reflection * reflection;
  }
  return a;
}

/// Mean square of what a predictor does not tell of x.
double error_of(const Predictor& a, std::span<const double> x) {
  double sum = 0;
  for (size_t n = order; n < x.size(); ++n) {
    double told = 0;
    for (size_t k = 0; k < order; ++k) told += a[k] * x[n - 1 - k];
    sum += (x[n] - told) * (x[n] - told);
  }
  return x.size() > order ? sum / double(x.size() - order) : 0;
}

/// A click of this size lies in a sound that goes on: what foretells the one side tells the other about as well, or is
/// off by much less than the click. Where a sound begins or ends it does neither.
bool goes_on(std::span<const double> x, int64_t first, int64_t last, double size, int sample_rate_hz) {
  const auto side = std::max<int64_t>(8 * order, int64_t(side_s * sample_rate_hz));
  const int64_t from = std::max<int64_t>(0, first - 2 - side), until = std::min(last + 3 + side, int64_t(x.size()));
  if (first - 2 - from < 4 * order || until - last - 3 < 4 * order) return false;
  const auto before = x.subspan(size_t(from), size_t(first - 2 - from)),
             after = x.subspan(size_t(last + 3), size_t(until - last - 3));
  const double louder = (dsp::simd::mean_square(after) + no_error) / (dsp::simd::mean_square(before) + no_error);
  if (louder > as_loud || louder < 1 / as_loud) return false;
  const auto by_before = predictor_of(before), by_after = predictor_of(after);
  const auto tells = [&](const Predictor& a, std::span<const double> own, std::span<const double> other) {
    return error_of(a, other) < std::max(same_sound * error_of(a, own), std::pow(far_less * size, 2));
  };
  return tells(by_before, before, after) && tells(by_after, after, before);
}

}  // namespace

std::vector<int64_t> clicks_in(std::span<const double> x, int64_t from, int64_t until, int sample_rate_hz) {
  std::vector<int64_t> found;
  const auto longest = int64_t(std::ceil(longest_click_s * sample_rate_hz)), near = int64_t(near_s * sample_rate_hz);
  std::vector<double> error(block, 0.0);
  for (int64_t start = from - from % block; start < until; start += block) {
    const int64_t first = std::max<int64_t>(order, start), end = std::min(start + block, int64_t(x.size()));
    if (end - first < 64) continue;
    const int64_t around = std::max<int64_t>(0, start - block / 2);
    const auto a = predictor_of(x.subspan(size_t(around), size_t(std::min(2 * block, int64_t(x.size()) - around))));
    for (int64_t n = first; n < end; ++n) {
      double told = 0;
      for (int k = 0; k < order; ++k) told += a[size_t(k)] * x[size_t(n - 1 - k)];
      error[size_t(n - start)] = std::abs(x[size_t(n)] - told);
    }
    const double usual = dsp::median(std::span(error).subspan(size_t(first - start), size_t(end - first))) /
                         0.6745;  // of a Gaussian error: its standard deviation
    for (int64_t n = first; n < end; ++n) {
      if (error[size_t(n - start)] < std::max(least_level, click_stands_out * usual)) continue;
      const double least = std::max(least_level / 10, alone_share * error[size_t(n - start)]);
      int64_t last = n;
      for (int64_t m = n; m < std::min(end, n + longest + order); ++m)
        if (error[size_t(m - start)] > least) last = m;
      bool alone = last - n < longest + order;
      for (int64_t m = std::max(first, n - near); m < std::min(end, last + near) && alone; ++m)
        alone = (m >= n && m <= last) || error[size_t(m - start)] <= least;
      const bool click = alone && goes_on(x, n, last, error[size_t(n - start)], sample_rate_hz);
      if (click && n >= from && n < until) found.push_back(n);
      n = click ? last + near : last;  // what was none may lie close in front of one
    }
  }
  return found;
}

}  // namespace heathmist
