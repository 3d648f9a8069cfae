// Reading a signal between its samples.
#pragma once
#include <cstdint>
#include <span>
#include <vector>

namespace heathmist::dsp {

/// Band-limited interpolation with a Kaiser-windowed sinc (Smith, "Digital Audio Resampling": 160 taps, beta 13.5).
/// Flat within -130 dB to 0.94 of the Nyquist frequency: a fractional delay of programme to 20 kHz at 44.1 kHz and up
/// leaves less than that behind.
class Interpolator {
 public:
  static constexpr int taps = 160;
  static constexpr int before = taps / 2 - 1;  ///< input needed before the place that is read
  static constexpr int after = taps / 2;       ///< and after it

  /// Every sample later by `fraction` in [0, 1): out[n] = x(n + fraction), where x[n] is in[n + before].
  /// `in` holds out.size() + taps - 1 samples. A fraction of 0 copies exactly.
  static void shift(std::span<const double> in, double fraction, std::span<double> out);

  /// out[n] = x(start + n * step), where x[k] is in[k + before]; all places must lie inside `in`.
  static void stretch(std::span<const double> in, double start, double step, std::span<double> out);

  /// The taps that read a place `fraction` after a sample; they sum to 1 within 1e-6.
  static std::vector<double> kernel(double fraction);
};

}  // namespace heathmist::dsp
