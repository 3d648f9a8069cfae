// Reading a signal between its samples over its whole band, by FFT.
#pragma once
#include <complex>
#include <cstdint>
#include <map>
#include <memory>
#include <span>
#include <vector>

#include "core/dsp/fft.hpp"

namespace heathmist::dsp {

/// Band-limited interpolation with a Kaiser-windowed sinc of 8192 taps, run by overlap and save (Oppenheim and Schafer,
/// "Discrete-Time Signal Processing", 8.7; Kaiser 1974 for length against attenuation): flat within -120 dB to 0.998 of
/// the Nyquist frequency, and nothing from there on: what lies at the very edge no block can read between its samples.
/// Not to be shared by threads.
class FullBand {
 public:
  static constexpr int taps = 8192;
  static constexpr int before = taps / 2 - 1;  ///< input needed before the place that is read
  static constexpr int after = taps / 2;       ///< and after it

  /// Reads places `fraction` in [0, 1) after a sample; a fraction of 0 only takes the edge of the band away. `step`: of
  /// a signal that is to be read at steps of that many samples, so that its edge lies where that of the other signal
  /// (`step` of 1, `other_step` the first one's) does.
  explicit FullBand(double fraction, double step = 1, double other_step = 1);
  /// out[n] = x(n + fraction), where x[n] is in[n + before]; `in` holds out.size() + taps - 1 samples.
  void shift(std::span<const double> in, std::span<double> out);
  /// The same with what another one reads of it, by one transform of the input.
  void shift(std::span<const double> in, std::span<double> out, FullBand& other, std::span<double> of_other);

 private:
  struct Block {
    RealFft<double> fft;
    std::shared_ptr<const std::vector<std::complex<double>>> kernel;
  };
  Block& block_of(size_t size);
  void write_kernel(RealFft<double>& fft) const;
  void filter(Block& block, std::span<const std::complex<double>> spectrum, std::span<double> fresh);
  double fraction_, step_, cutoff_;
  std::map<size_t, Block> blocks_;
  std::vector<std::complex<double>> spectrum_;
};

/// The same at places that run at another speed: the signal is brought to twice its rate by FullBand, where a short
/// kernel (24 taps) reads it anywhere within -140 dB.
class FullBandStretch {
 public:
  static constexpr int before = FullBand::before + 8, after = FullBand::after + 8;

  explicit FullBandStretch(double step) : step_(step), whole_(0, step), half_(0.5, step) {}
  /// out[n] = x(start + n * step), where x[k] is in[k + before]; `in` reaches `after` beyond the last place.
  void stretch(std::span<const double> in, double start, std::span<double> out);

 private:
  double step_;
  FullBand whole_, half_;
  std::vector<double> even_, odd_, dense_;
};

}  // namespace heathmist::dsp
