#include "core/measure/spectra.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <numeric>

#include "core/dsp/fft.hpp"
#include "core/measure/loudness.hpp"

namespace heathmist {

namespace {

constexpr double no_power_db = -300;
constexpr int64_t most_parts = 16;  // of a clip, each with sums of its own: as many whatever the threads and the length

struct BinSums {
  std::vector<double> sum, most;
};

/// Transforms block after block into sums of its own.
class Workspace {
 public:
  Workspace(const Clip& clip, const SpectraOptions& o, std::span<const double> window)
      : options_(o), window_(window), reader_(clip.reader()), fft_(o.fft_size) {}
  void add(int64_t at, BinSums& sums) {
    reader_->read(at, int64_t(options_.fft_size), block_);
    listen_to(block_, options_.listen, options_.channel);
    power_.assign(fft_.bins(), 0);
    for (int c = 0; c < block_.channels(); ++c) {
      std::transform(window_.begin(), window_.end(), block_.channel(c).begin(), fft_.time().begin(),
                     std::multiplies<>());
      fft_.forward();
      for (size_t k = 0; k < power_.size(); ++k) power_[k] += std::norm(fft_.spectrum()[k]);
    }
    if (sums.sum.empty()) sums.sum.assign(power_.size(), 0), sums.most.assign(power_.size(), 0);
    for (size_t k = 0; k < power_.size(); ++k)
      sums.sum[k] += power_[k], sums.most[k] = std::max(sums.most[k], power_[k]);
  }

 private:
  const SpectraOptions& options_;
  std::span<const double> window_;
  std::unique_ptr<Reader> reader_;
  dsp::RealFft<double> fft_;
  Planar block_;
  std::vector<double> power_;
};

int64_t hop_of(const SpectraOptions& o) {
  return std::max<int64_t>(1, std::llround(double(o.fft_size) * (1 - std::clamp(o.overlap, 0.0, 0.95))));
}

}  // namespace

Spectra spectra_of(const Clip& clip, const SpectraOptions& o, const Job& job) {
  if (o.fft_size < least_fft_size || o.fft_size > most_fft_size)
    throw std::invalid_argument("an FFT takes 512 to 1048576 points");
  check_listening(o.listen, o.channel, clip.format().channels);
  const int channels = heard_channels(o.listen, clip.format().channels);
  const int64_t last = o.last < 0 ? clip.format().frames : o.last;
  const auto size = int64_t(o.fft_size);
  const int64_t hop = hop_of(o);
  const int64_t possible = std::max<int64_t>(1, (last - o.first - size) / hop + 1);
  const int64_t count = std::min<int64_t>(possible, std::max(1, o.most_blocks));
  const auto window = dsp::window_of(o.window, o.fft_size, o.side_lobe_db);
  const double sum = std::accumulate(window.begin(), window.end(), 0.0);
  const double power = std::inner_product(window.begin(), window.end(), window.begin(), 0.0);
  std::vector<BinSums> sums(size_t(std::min(count, most_parts)));
  const auto parts = int64_t(sums.size());
  for_each_segment(
      parts, job, [&] { return std::make_unique<Workspace>(clip, o, window); },
      [&](auto& reader, int64_t n) {
        for (int64_t i = n * count / parts; i < (n + 1) * count / parts; ++i) {
          job.check();
          reader->add(o.first + (count > 1 ? (possible - 1) * i / (count - 1) : 0) * hop, sums[size_t(n)]);
        }
      });
  const double bin_hz = double(clip.format().sample_rate_hz) / double(size);
  const size_t bins = o.fft_size / 2 + 1;
  Spectra s{{bin_hz, std::vector<double>(bins, 0)}, {bin_hz, std::vector<double>(bins, 0)}, 1, count};
  for (const BinSums& part : sums)
    for (size_t k = 0; k < bins; ++k) {
      s.average.power[k] += part.sum[k] / double(count);
      s.hold.power[k] = std::max(s.hold.power[k], part.most[k]);
    }
  for (Spectrum* spectrum : {&s.average, &s.hold})
    for (size_t k = 0; k < bins; ++k)
      spectrum->power[k] *= (k == 0 || k + 1 == bins ? 1 : 2) / (power * double(size) * channels);
  s.enbw_bins = double(size) * power / (sum * sum);
  return s;
}

Spectra momentary_spectra(const Clip& clip, int64_t frame, int blocks, SpectraOptions o, const Job& job) {
  const int64_t span = int64_t(o.fft_size) + (std::max(1, blocks) - 1) * hop_of(o);
  o.first = frame - span / 2;
  o.last = o.first + span;
  o.most_blocks = std::max(1, blocks);
  return spectra_of(clip, o, job);
}

namespace {

/// Power in the third of an octave around each frequency.
SpectrumLine thirds(const Spectrum& s, SpectrumLine line) {
  std::vector<double> sums(s.power.size() + 1, 0);
  for (size_t k = 0; k < s.power.size(); ++k) sums[k + 1] = sums[k] + s.power[k];
  const double half = std::pow(10, 0.05);  // a tenth of a decade wide: IEC 61260-1, base ten
  auto below = [&](double hz) {            // power under a frequency; a bin reaches half a bin either way
    const double place = std::clamp(hz / s.bin_hz + 0.5, 0.0, double(s.power.size()));
    const auto whole = std::min(size_t(place), s.power.size() - 1);
    return sums[whole] + (place - double(whole)) * s.power[whole];
  };
  for (size_t n = 0; n < line.hz.size(); ++n)
    line.db[n] = 10 * std::log10(std::max(2 * (below(line.hz[n] * half) - below(line.hz[n] / half)), 1e-30));
  return line;
}

/// Where points lie closer than bins, a line from bin to bin instead of steps.
void join_bins(const Spectrum& s, SpectrumLine& line) {
  auto db = [&](size_t bin) { return 10 * std::log10(std::max(s.power[std::min(bin, s.power.size() - 1)], 1e-30)); };
  for (size_t n = 0; n + 1 < line.hz.size() && line.hz[n + 1] - line.hz[n] < s.bin_hz; ++n) {
    const double place = line.hz[n] / s.bin_hz, part = place - std::floor(place);
    line.db[n] = db(size_t(place)) * (1 - part) + db(size_t(place) + 1) * part;
  }
}

}  // namespace

SpectrumLine shown(const Spectra& spectra, const Spectrum& which, const Showing& showing) {
  const double top = which.bin_hz * double(which.power.size() - 1);
  const double high = showing.high_hz > 0 ? showing.high_hz : top;
  SpectrumLine line = smoothed(which, showing.low_hz, high, showing.points, showing.logarithmic, 0);
  join_bins(which, line);
  if (showing.unit == SpectrumUnit::third_octave) line = thirds(which, std::move(line));
  const double shift = showing.unit == SpectrumUnit::per_line      ? 10 * std::log10(2 * spectra.enbw_bins)
                       : showing.unit == SpectrumUnit::per_root_hz ? 10 * std::log10(2 / which.bin_hz)
                                                                   : 0;
  for (size_t n = 0; n < line.hz.size(); ++n)
    line.db[n] = line.hz[n] > top * (1 + 1e-9)
                     ? no_power_db
                     : line.db[n] + shift + showing.slope_db_per_octave * std::log2(line.hz[n] / 1000);
  return line;
}

namespace {

double a_weighting_db(double f) {
  const double f2 = f * f, a = 12194.217 * 12194.217, b = 20.598997 * 20.598997, c = 107.65265 * 107.65265,
               d = 737.86223 * 737.86223;
  return 20 * std::log10(a * f2 * f2 / ((f2 + b) * std::sqrt((f2 + c) * (f2 + d)) * (f2 + a))) + 2.0;
}

double ccir_468_db(double f) {  // the curve's closed form in BS.468-4, table 2, with 12.2 dB at 6.3 kHz
  const double h1 = -4.737338981378384e-24 * std::pow(f, 6) + 2.043828333606125e-15 * std::pow(f, 4) -
                    1.363894795463638e-7 * f * f + 1,
               h2 = 1.306612257412824e-19 * std::pow(f, 5) - 2.118150887518656e-11 * std::pow(f, 3) +
                    5.559488023498642e-4 * f;
  return 18.2 + 20 * std::log10(1.246332637532143e-4 * f / std::hypot(h1, h2));
}

double k_weighting_db(double f) {
  static const KWeighting weighting(192000);
  const auto z = std::polar(1.0, -2 * std::numbers::pi * std::min(f, 95000.0) / 192000);
  auto gain = [&](const auto& c) {
    return std::abs((c[0] + c[1] * z + c[2] * z * z) / (1.0 + c[3] * z + c[4] * z * z));
  };
  return 20 * std::log10(gain(weighting.shelf()) * gain(weighting.high_pass()));
}

}  // namespace

double weighting_db(Weighting weighting, double hz) {
  if (weighting == Weighting::none) return 0;
  if (hz <= 0) return -400;
  return weighting == Weighting::a   ? a_weighting_db(hz)
         : weighting == Weighting::k ? k_weighting_db(hz)
                                     : ccir_468_db(hz);
}

}  // namespace heathmist
