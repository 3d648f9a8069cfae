#include "core/compare/manual_fit.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>

#include "core/audio/scratch.hpp"
#include "core/compare/anchors.hpp"
#include "core/dsp/fft.hpp"

namespace heathmist {

namespace {

/// One weighted sum of a clip's channels.
class MixedClip : public Clip {
 public:
  MixedClip(std::shared_ptr<const Clip> clip, Mixture mixture)
      : Clip(clip->path(), mono(clip->format())), clip_(std::move(clip)), mixture_(std::move(mixture)) {}
  std::unique_ptr<Reader> reader() const override {
    return std::make_unique<Mixed>(format_, clip_->reader(), mixture_);
  }

 private:
  static ClipFormat mono(ClipFormat format) {
    format.channels = 1;
    format.container_bits.reset();
    format.sample_format = SampleFormat::real;
    return format;
  }
  struct Mixed : Reader {
    Mixed(const ClipFormat& format, std::unique_ptr<Reader> from, Mixture weights)
        : Reader(format), source(std::move(from)), mixture(std::move(weights)) {}
    void fetch(int64_t first, int64_t frames, Planar& out, int64_t at) override {
      source->read(first, frames, block);
      const auto to = out.channel(0).subspan(size_t(at), size_t(frames));
      std::fill(to.begin(), to.end(), 0.0);
      for (int c = 0; c < block.channels(); ++c)
        for (size_t n = 0; n < to.size(); ++n) to[n] += mixture[size_t(c)] * block.channel(c)[n];
    }
    std::unique_ptr<Reader> source;
    Mixture mixture;
    Planar block;
  };
  std::shared_ptr<const Clip> clip_;
  Mixture mixture_;
};

std::optional<Mixture> mixture_of(const FitBy& by, int channels) {
  if (by.part == FitBy::Part::channel && by.channel >= 0 && by.channel < channels)
    return single_channel(channels, by.channel);
  if ((by.part == FitBy::Part::mid || by.part == FitBy::Part::side) && channels >= 2) {
    Mixture mixture(size_t(channels), 0.0);
    mixture[0] = 0.5;
    mixture[1] = by.part == FitBy::Part::mid ? 0.5 : -0.5;
    return mixture;
  }
  return {};
}

constexpr double golden = 0.6180339887498949;
constexpr double most_look_s = 2;

/// Energy of the residual over some frames at a delay.
double energy_at(const Clip& master, const Clip& ret, Fit fit, double delay, int64_t first, int64_t frames) {
  fit.delay_samples = delay;
  fit.first = first, fit.last = first + frames;
  Planar residual;
  ResidualReader(master, ret, fit).read(first, frames, residual);
  double sum = 0;
  for (int p = 0; p < residual.channels(); ++p)
    for (const double e : residual.channel(p)) sum += e * e;
  return sum;
}

}  // namespace

std::shared_ptr<const Clip> part_of(std::shared_ptr<const Clip> clip, const FitBy& by, const Job& job) {
  const auto mixture = mixture_of(by, clip->format().channels);
  auto part = mixture ? std::make_shared<MixedClip>(clip, *mixture) : clip;
  const double top = clip->format().sample_rate_hz / 2.0;
  if (by.high_hz <= by.low_hz || by.low_hz >= 0.95 * top) return part;
  return band_limited(*part, by.low_hz, std::min(by.high_hz, 0.9 * top), std::clamp(by.low_hz * 0.3, 20.0, 500.0), job);
}

Fit find_fit_by(const std::shared_ptr<const Clip>& master, const std::shared_ptr<const Clip>& ret, const Fit& whole,
                const FitBy& by, const Job& job) {
  const auto m = part_of(master, by, job.part(0, 0.25)), r = part_of(ret, by, job.part(0.25, 0.5));
  const Fit part = find_fit(*m, *r, {}, job.part(0.5, 1));
  if (!part.trusted) return whole;
  Fit fit = whole;
  fit.delay_samples = part.delay_samples;
  fit.drift_ppm = part.drift_ppm;
  fit.gain_db = part.gain_db;
  set_overlap(fit, master->format().frames, ret->format().frames);
  return fit;
}

double nearest_null(const Clip& master, const Clip& ret, const Fit& fit, int64_t first, int64_t frames, int64_t slack,
                    const Job& job) {
  first = std::clamp<int64_t>(first, 0, std::max<int64_t>(0, master.format().frames - 1));
  frames = std::min({frames, int64_t(most_look_s * master.format().sample_rate_hz), master.format().frames - first});
  if (frames < 64) return fit.delay_samples;
  std::vector<Anchor> one{{first, frames, 0, 0}};
  const double shift = (fit.ratio() - 1) * double(first);
  find_anchors(one, master, ret, uneven_mixture(master.format().channels), uneven_mixture(ret.format().channels),
               fit.delay_samples + shift, slack, job);
  auto energy = [&](double delay) { return energy_at(master, ret, fit, delay, first, frames); };
  double low = one[0].delay - shift - 1.5, high = low + 3;
  for (int n = 0; n < 24; ++n) {  // golden section: the residual has one valley within a sample and a half
    const double a = high - golden * (high - low), b = low + golden * (high - low);
    (energy(a) < energy(b) ? high : low) = energy(a) < energy(b) ? b : a;
  }
  double best = (low + high) / 2;
  if (energy(std::round(best)) <= energy(best) * 1.001) best = std::round(best);
  return energy(best) < energy(fit.delay_samples) ? best : fit.delay_samples;
}

std::shared_ptr<const Clip> band_limited(const Clip& clip, double low_hz, double high_hz, double transition_hz,
                                         const Job& job) {
  const double rate = clip.format().sample_rate_hz, beta = 0.1102 * (140 - 8.7);
  const auto half = int64_t(std::ceil((140 - 8) / (2.285 * 2 * std::numbers::pi * transition_hz / rate) / 2));
  const auto size = dsp::good_fft_size(size_t(half) * 16);
  const double upper = (2 * high_hz + transition_hz) / rate;  // middles of the edges, in half cycles per sample
  const double lower = low_hz > 0 ? std::max(0.0, (2 * low_hz - transition_hz) / rate) : 0;
  dsp::RealFft<double> kernel(size), fft(size);
  auto sinc = [](double cut, int64_t n) {
    const double x = std::numbers::pi * cut * double(n);
    return n == 0 ? cut : cut * std::sin(x) / x;
  };
  std::fill(kernel.time().begin(), kernel.time().end(), 0.0);
  for (int64_t n = -half; n <= half; ++n) {
    const double edge = double(n) / double(half);
    const double window = std::cyl_bessel_i(0.0, beta * std::sqrt(1 - edge * edge)) / std::cyl_bessel_i(0.0, beta);
    const double tap = sinc(upper, n) - (lower > 0 ? sinc(lower, n) : 0);
    kernel.time()[size_t(n < 0 ? n + int64_t(size) : n)] = window * tap / double(size);
  }
  kernel.forward();
  const auto reader = clip.reader();
  ScratchWriter out(clip.path(), clip.format().channels, true);
  const int64_t hop = int64_t(size) - 2 * half;
  Planar in, made(clip.format().channels, hop);
  for (int64_t first = 0; first < clip.format().frames; first += hop) {
    job.check();
    reader->read(first - half, int64_t(size), in);
    for (int c = 0; c < in.channels(); ++c) {
      std::copy(in.channel(c).begin(), in.channel(c).end(), fft.time().begin());
      fft.forward();
      for (size_t k = 0; k < fft.bins(); ++k) fft.spectrum()[k] *= kernel.spectrum()[k];
      fft.inverse();
      std::copy_n(fft.time().begin() + half, hop, made.channel(c).begin());
    }
    out.write(made, std::min(hop, clip.format().frames - first));
    job.report(double(first) / double(clip.format().frames));
  }
  return out.finish(clip.format(), true);
}

}  // namespace heathmist
