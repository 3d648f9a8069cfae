// Real discrete Fourier transforms on FFTW.
#pragma once
#include <complex>
#include <memory>
#include <span>
#include <vector>

namespace heathmist::dsp {

/// A transform of one size with its own aligned buffers: fill time(), forward(), read spectrum(), and back.
/// forward(): X[k] = sum x[n] exp(-2 pi i k n / size), k = 0 .. size/2. inverse() is not scaled: divide by size.
/// inverse() destroys the spectrum. T is float or double. Not to be shared by threads.
template <class T>
class RealFft {
 public:
  explicit RealFft(size_t size);
  ~RealFft();
  RealFft(RealFft&&) noexcept;
  RealFft& operator=(RealFft&&) = delete;
  size_t size() const { return size_; }
  size_t bins() const { return size_ / 2 + 1; }
  std::span<T> time();
  std::span<std::complex<T>> spectrum();
  void forward();
  void inverse();

 private:
  struct State;
  size_t size_;
  std::unique_ptr<State> state_;
};

/// The discrete cosine transform of the fourth kind, in place: v[k] = sum v[n] cos(pi / size (n + 1/2) (k + 1/2)).
/// Its own inverse but for a factor of size / 2. `size` is even. Not to be shared by threads.
class Dct4 {
 public:
  explicit Dct4(size_t size);
  ~Dct4();
  Dct4(Dct4&&) noexcept;
  Dct4& operator=(Dct4&&) = delete;
  size_t size() const { return size_; }
  std::span<double> values();
  void run();

 private:
  struct State;
  size_t size_;
  std::unique_ptr<State> state_;
};

/// The least size >= n that has no prime factor above 5.
size_t good_fft_size(size_t n);

/// Makes a response (fft.bins() of them) one that overlap and save can run: its impulse response is faded out by a
/// quarter of the size either way.
void shorten_response(std::span<std::complex<double>> response, RealFft<double>& fft);

/// Periodic Hann window; its power sum is 3/8 size.
std::vector<double> hann(size_t size);
/// Four-term Blackman-Harris window, side lobes under -92 dB (Harris 1978, table 1).
std::vector<double> blackman_harris(size_t size);

}  // namespace heathmist::dsp
