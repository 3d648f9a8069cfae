#include "core/dsp/full_band.hpp"

#include <algorithm>
#include <bit>
#include <cmath>
#include <numbers>

#include "core/dsp/shared_tables.hpp"
#include "core/dsp/simd.hpp"

namespace heathmist::dsp {

namespace {

/// A Kaiser window over `taps`, at `away` taps from its middle; looked up, since the Bessel function is slow.
class KaiserTable {
 public:
  KaiserTable(double beta, double reach) : reach_(reach) {
    const double whole = std::cyl_bessel_i(0.0, beta);
    for (int n = 0; n <= steps + 1; ++n) {
      const double edge = std::min(1.0, double(n) / steps);
      values_.push_back(std::cyl_bessel_i(0.0, beta * std::sqrt(1 - edge * edge)) / whole);
    }
  }
  double at(double away) const {
    const double place = std::abs(away) / reach_ * steps;
    if (place >= steps) return 0;
    const auto n = size_t(place);
    const double t = place - double(n);  // cubic (Catmull and Rom), mirrored about the middle
    const double a = values_[n == 0 ? 1 : n - 1], b = values_[n], c = values_[n + 1],
                 d = values_[std::min<size_t>(n + 2, steps + 1)];
    return b + 0.5 * t * (c - a + t * (2 * a - 5 * b + 4 * c - d + t * (3 * (b - c) + d - a)));
  }

 private:
  static constexpr int steps = 8192;
  double reach_;
  std::vector<double> values_;
};

double sinc(double t) { return t == 0 ? 1 : std::sin(std::numbers::pi * t) / (std::numbers::pi * t); }

/// The product, without the care for infinities that std::complex takes.
void multiply(std::span<const std::complex<double>> a, std::span<const std::complex<double>> b,
              std::span<std::complex<double>> to) {
  const auto *x = reinterpret_cast<const double*>(a.data()), *y = reinterpret_cast<const double*>(b.data());
  auto* z = reinterpret_cast<double*>(to.data());
  for (size_t n = 0; n < 2 * b.size(); n += 2) {
    const double re = x[n] * y[n] - x[n + 1] * y[n + 1], im = x[n] * y[n + 1] + x[n + 1] * y[n];
    z[n] = re, z[n + 1] = im;
  }
}

constexpr double edge = 0.99905;      // of the Nyquist frequency: the middle of a transition of 0.0019
constexpr double most_drift = 0.004;  // of a step
constexpr size_t short_block = 2 * FullBand::taps, long_block = 4 * FullBand::taps;

}  // namespace

FullBand::FullBand(double fraction, double step, double other_step)
    : fraction_(fraction), step_(step), cutoff_(edge * std::min({1.0, step, other_step})) {}

FullBand::Block& FullBand::block_of(size_t size) {
  const auto known = blocks_.find(size);
  if (known != blocks_.end()) return known->second;
  auto& block = blocks_.emplace(size, Block{RealFft<double>(size), {}}).first->second;
  static SharedTables<std::vector<std::complex<double>>> kernels(16 << 20);
  std::string key;
  for (const double part : {fraction_, step_, cutoff_, double(size)})
    key += std::to_string(std::bit_cast<uint64_t>(part)) + ' ';
  block.kernel = kernels.get(key, 8 * size, [&] {
    write_kernel(block.fft);
    const auto made = block.fft.spectrum();
    return std::make_shared<const std::vector<std::complex<double>>>(made.begin(), made.end());
  });
  return block;
}

/// What reads at the fraction, as a spectrum.
void FullBand::write_kernel(RealFft<double>& fft) const {
  static const KaiserTable window(12.3, taps / 2.0 / (1 + most_drift));  // -120 dB
  std::fill(fft.time().begin(), fft.time().end(), 0.0);
  for (int k = 0; k < taps; ++k) {
    const double t = (k - before - fraction_) / step_;  // in samples of the one that is read at steps of 1
    fft.time()[size_t(taps - 1 - k)] =                  // turned: a convolution
        cutoff_ / step_ * sinc(cutoff_ * t) * window.at(t) / double(fft.size());
  }
  fft.forward();
}

void FullBand::filter(Block& block, std::span<const std::complex<double>> spectrum, std::span<double> fresh) {
  multiply(spectrum, *block.kernel, block.fft.spectrum());
  block.fft.inverse();
  std::copy_n(block.fft.time().begin() + taps - 1, fresh.size(), fresh.begin());
}

void FullBand::shift(std::span<const double> in, std::span<double> out) { shift(in, out, *this, {}); }

void FullBand::shift(std::span<const double> in, std::span<double> out, FullBand& other, std::span<double> of_other) {
  for (size_t at = 0; at < out.size();) {
    const size_t left = out.size() - at, size = left > short_block - taps + 1 ? long_block : short_block;
    const size_t fresh = std::min(left, size - taps + 1);
    Block& block = block_of(size);
    const auto time = block.fft.time();
    std::copy_n(in.begin() + long(at), fresh + taps - 1, time.begin());
    std::fill(time.begin() + long(fresh + taps - 1), time.end(), 0.0);
    block.fft.forward();
    spectrum_.assign(block.fft.spectrum().begin(), block.fft.spectrum().end());
    filter(block, spectrum_, out.subspan(at, fresh));
    if (!of_other.empty()) other.filter(other.block_of(size), spectrum_, of_other.subspan(at, fresh));
    at += fresh;
  }
}

namespace {

/// Reads a signal of twice the rate, which fills half of its band: (phases + 1) x taps, the last row being one sample
/// on from the first.
struct ShortKernel {
  static constexpr int taps = 24, before = taps / 2 - 1, phases = 2048;
  std::vector<double> rows;
  ShortKernel() {
    const KaiserTable window(14.5, taps / 2.0);
    for (int p = 0; p <= phases; ++p)
      for (int k = 0; k < taps; ++k) {
        const double t = k - before - double(p) / phases;
        rows.push_back(sinc(t) * window.at(t));
      }
  }
};

}  // namespace

void FullBandStretch::stretch(std::span<const double> in, double start, std::span<double> out) {
  static const ShortKernel kernel;
  even_.resize(in.size() - FullBand::taps + 1), odd_.resize(even_.size()), dense_.resize(2 * even_.size());
  whole_.shift(in, even_, half_, odd_);
  for (size_t n = 0; n < even_.size(); ++n) dense_[2 * n] = even_[n], dense_[2 * n + 1] = odd_[n];
  const double first = 2 * double(before - FullBand::before);  // x[0] in dense_
  for (size_t n = 0; n < out.size(); ++n) {
    const double place = first + 2 * (start + double(n) * step_), whole = std::floor(place);
    const double phase = (place - whole) * ShortKernel::phases;
    const int row = std::min(int(phase), ShortKernel::phases - 1);
    out[n] = simd::blend_dot(dense_.data() + int64_t(whole) - ShortKernel::before,
                             kernel.rows.data() + size_t(row) * ShortKernel::taps,
                             kernel.rows.data() + size_t(row + 1) * ShortKernel::taps, phase - row, ShortKernel::taps);
  }
}

}  // namespace heathmist::dsp
