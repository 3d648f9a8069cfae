#include "core/measure/tones.hpp"

#include <algorithm>
#include <cmath>
#include <numeric>

#include "core/dsp/fft.hpp"
#include "core/dsp/window.hpp"

namespace heathmist {

namespace {
constexpr double beta = 26;
constexpr size_t reach = 12;  // bins on either side that a line of that window fills
}  // namespace

Spectrum tone_spectrum(const Clip& clip, size_t fft_size, int64_t first, int64_t last, const Job& job) {
  const auto& f = clip.format();
  const auto window = dsp::kaiser(fft_size, beta);
  const double window_power = std::inner_product(window.begin(), window.end(), window.begin(), 0.0);
  dsp::RealFft<double> fft(fft_size);
  Spectrum spectrum{double(f.sample_rate_hz) / double(fft_size), std::vector<double>(fft.bins(), 0)};
  const auto reader = clip.reader();
  Planar block;
  int64_t blocks = 0;
  for (int64_t at = first; at + int64_t(fft_size) <= last; at += int64_t(fft_size) / 2, ++blocks) {
    job.check();
    reader->read(at, int64_t(fft_size), block);
    for (int c = 0; c < f.channels; ++c) {
      std::transform(window.begin(), window.end(), block.channel(c).begin(), fft.time().begin(), std::multiplies<>());
      fft.forward();
      for (size_t k = 0; k < fft.bins(); ++k)
        spectrum.power[k] += (k == 0 || k + 1 == fft.bins() ? 1 : 2) * std::norm(fft.spectrum()[k]);
    }
  }
  for (double& p : spectrum.power)
    p /= window_power * double(fft_size) * double(std::max<int64_t>(1, blocks) * f.channels);
  return spectrum;
}

std::optional<ToneReading> read_tones(const Spectrum& spectrum, std::span<const double> tones_hz) {
  const size_t bins = spectrum.power.size();
  if (tones_hz.empty() || bins < 4 * reach) return {};
  std::vector<bool> wanted(bins, false);
  double lines = 0;
  for (const double hz : tones_hz) {
    const auto at = size_t(std::llround(hz / spectrum.bin_hz));
    if (at + reach >= bins) continue;
    for (size_t k = at > reach ? at - reach : 0; k <= at + reach; ++k) {
      if (!wanted[k]) lines += spectrum.power[k];
      wanted[k] = true;
    }
  }
  if (lines < 1e-16) return {};
  ToneReading reading;
  double rest = 0, strongest = 0;
  for (auto k = size_t(std::ceil(20 / spectrum.bin_hz)); k < bins; ++k) {
    if (wanted[k]) continue;
    rest += spectrum.power[k];
    if (k < reach / 2 || k + reach / 2 >= bins) continue;
    double line = 0;
    for (size_t n = k - reach / 2; n <= k + reach / 2; ++n) line += wanted[n] ? 0 : spectrum.power[n];
    if (spectrum.power[k] >= spectrum.power[k - 1] && spectrum.power[k] >= spectrum.power[k + 1] && line > strongest)
      strongest = line, reading.spurious_hz = double(k) * spectrum.bin_hz;
  }
  reading.level_dbfs = 10 * std::log10(2 * lines);
  reading.thd_n_db = 10 * std::log10(std::max(rest, 1e-30) / lines);
  reading.spurious_dbr = 10 * std::log10(std::max(strongest, 1e-30) / lines);
  return reading;
}

}  // namespace heathmist
