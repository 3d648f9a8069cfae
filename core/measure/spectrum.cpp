#include "core/measure/spectrum.hpp"

#include <algorithm>
#include <cmath>
#include <numeric>

#include "core/dsp/fft.hpp"
#include "core/dsp/window.hpp"

namespace heathmist {

namespace {

struct BlockReader {
  std::unique_ptr<Reader> reader;
  dsp::RealFft<double> fft;
  Planar block{};
};

}  // namespace

Spectrum average_spectrum(const Clip& clip, size_t fft_size, int64_t first, int64_t last, int most_blocks,
                          const Job& job, std::optional<double> side_lobe_db) {
  if (last < 0) last = clip.format().frames;
  const int64_t hop = int64_t(fft_size) / 2;
  const int64_t possible = std::max<int64_t>(1, (last - first) / hop - 1);
  const int64_t count = std::min<int64_t>(possible, most_blocks);
  const auto window =
      side_lobe_db ? dsp::window_of(dsp::Window::kaiser, fft_size, *side_lobe_db) : dsp::blackman_harris(fft_size);
  const double window_power = std::inner_product(window.begin(), window.end(), window.begin(), 0.0);
  const int channels = clip.format().channels;
  std::vector<std::vector<double>> sums(size_t((count + 63) / 64));
  for_each_segment(
      int64_t(sums.size()), job,
      [&] {
        return BlockReader{clip.reader(), dsp::RealFft<double>(fft_size)};
      },
      [&](BlockReader& b, int64_t group) {
        auto& sum = sums[size_t(group)];
        sum.assign(b.fft.bins(), 0);
        for (int64_t i = group * 64; i < std::min(count, (group + 1) * 64); ++i) {
          const int64_t at = first + (count > 1 ? (possible - 1) * i / (count - 1) : 0) * hop;
          b.reader->read(at, int64_t(fft_size), b.block);
          for (int c = 0; c < channels; ++c) {
            std::transform(window.begin(), window.end(), b.block.channel(c).begin(), b.fft.time().begin(),
                           std::multiplies<>());
            b.fft.forward();
            for (size_t k = 0; k < sum.size(); ++k) sum[k] += std::norm(b.fft.spectrum()[k]);
          }
        }
      });
  Spectrum result{double(clip.format().sample_rate_hz) / double(fft_size), std::vector<double>(fft_size / 2 + 1)};
  const double scale = 2 / (window_power * double(fft_size) * double(count) * channels);
  for (const auto& sum : sums)
    for (size_t k = 0; k < sum.size(); ++k) result.power[k] += sum[k] * scale;
  result.power.front() /= 2;
  result.power.back() /= 2;
  return result;
}

SpectrumLine smoothed(const Spectrum& spectrum, double low_hz, double high_hz, int points, bool logarithmic,
                      int fraction) {
  SpectrumLine line;
  const size_t bins = spectrum.power.size();
  if (bins < 2 || points < 2) return line;
  std::vector<double> sums(fraction > 0 ? bins + 1 : 0, 0);
  for (size_t k = 0; k + 1 < sums.size(); ++k) sums[k + 1] = sums[k] + spectrum.power[k];
  const double half = fraction > 0 ? std::pow(2.0, 0.5 / fraction) : 1;
  auto place = [&](double p) {
    const double t = p / (points - 1);
    return logarithmic ? low_hz * std::pow(high_hz / low_hz, t) : low_hz + (high_hz - low_hz) * t;
  };
  for (int p = 0; p < points; ++p) {
    const double hz = place(p);
    const double from_hz = fraction > 0 ? hz / half : place(p - 0.5), to_hz = fraction > 0 ? hz * half : place(p + 0.5);
    const auto from = size_t(std::clamp(std::llround(from_hz / spectrum.bin_hz), 0LL, (long long)bins - 1));
    const auto to = size_t(std::clamp(std::llround(to_hz / spectrum.bin_hz), (long long)from, (long long)bins - 1));
    double power = fraction > 0
                       ? (sums[to + 1] - sums[from]) / double(to + 1 - from)
                       : *std::max_element(spectrum.power.begin() + long(from), spectrum.power.begin() + long(to) + 1);
    line.hz.push_back(hz);
    line.db.push_back(10 * std::log10(std::max(power, 1e-30)));
  }
  return line;
}

double power_between(const Spectrum& spectrum, double low_hz, double high_hz) {
  double sum = 0;
  for (auto k = size_t(std::max(0.0, std::ceil(low_hz / spectrum.bin_hz)));
       k < spectrum.power.size() && double(k) * spectrum.bin_hz < high_hz; ++k)
    sum += spectrum.power[k];
  return sum;
}

SpectrumLine relative_to(SpectrumLine line, const SpectrumLine& against) {
  for (size_t n = 0; n < line.db.size(); ++n) line.db[n] -= against.db[n];
  return line;
}

}  // namespace heathmist
