// Reading a signal between its samples over its whole band, by FFT.
#pragma once
#include <complex>
#include <cstdint>
#include <map>
#include <span>
#include <vector>

#include "core/dsp/fft.hpp"

namespace heathmist::dsp {

/// Band-limited interpolation with a Kaiser-windowed sinc of 4096 taps, run by overlap and save (Oppenheim and Schafer,
/// "Discrete-Time Signal Processing", 8.7; Kaiser 1974 for length against attenuation): flat within -120 dB to 0.998 of
/// the Nyquist frequency. What lies above that no block can read between its samples. Not to be shared by threads.
class FullBand {
 public:
  static constexpr int taps = 4096;
  static constexpr int before = taps / 2 - 1;  ///< input needed before the place that is read
  static constexpr int after = taps / 2;       ///< and after it

  /// Reads places `fraction` in [0, 1) after a sample.
  explicit FullBand(double fraction);
  /// out[n] = x(n + fraction), where x[n] is in[n + before]; `in` holds out.size() + taps - 1 samples.
  void shift(std::span<const double> in, std::span<double> out);

 private:
  struct Block {
    RealFft<double> fft;
    std::vector<std::complex<double>> kernel;
  };
  Block& block_of(size_t size);
  double fraction_;
  std::map<size_t, Block> blocks_;
};

/// The same at places that run at another speed: the signal is brought to twice its rate by FullBand, where a short
/// kernel (24 taps) reads it anywhere within -140 dB.
class FullBandStretch {
 public:
  static constexpr int before = FullBand::before + 8, after = FullBand::after + 8;

  FullBandStretch() : half_(0.5) {}
  /// out[n] = x(start + n * step), where x[k] is in[k + before]; `in` reaches `after` beyond the last place.
  void stretch(std::span<const double> in, double start, double step, std::span<double> out);

 private:
  FullBand half_;
  std::vector<double> between_, dense_;
};

}  // namespace heathmist::dsp
