// Convolution with an impulse response, by FFT in partitions of equal length (Stockham 1966; overlap-save).
#include <fmt/format.h>

#include <cmath>
#include <numbers>

#include "core/dsp/fft.hpp"
#include "core/stages/stage_context.hpp"

namespace heathmist {

namespace {

namespace p = parameter;
using dsp::RealFft;
using Bins = std::vector<std::complex<double>>;

constexpr int64_t part = 4096;

/// One channel: the response's partitions and the input's last spectra.
class Convolver {
 public:
  explicit Convolver(std::span<const double> response) : fft_(2 * part) {
    for (size_t at = 0; at < response.size(); at += part) {
      std::fill(fft_.time().begin(), fft_.time().end(), 0.0);
      std::copy_n(response.begin() + long(at), std::min<size_t>(part, response.size() - at), fft_.time().begin());
      fft_.forward();
      response_.emplace_back(fft_.spectrum().begin(), fft_.spectrum().end());
    }
    past_.assign(response_.size(), Bins(fft_.bins(), 0.0));
    last_.assign(part, 0.0);
  }
  /// The next `part` frames, in place.
  void run(std::span<double> x) {
    std::copy(last_.begin(), last_.end(), fft_.time().begin());
    std::copy(x.begin(), x.end(), fft_.time().begin() + part);
    std::copy(x.begin(), x.end(), last_.begin());
    fft_.forward();
    newest_ = (newest_ + past_.size() - 1) % past_.size();
    std::copy(fft_.spectrum().begin(), fft_.spectrum().end(), past_[newest_].begin());
    auto sum = fft_.spectrum();
    std::fill(sum.begin(), sum.end(), 0.0);
    for (size_t k = 0; k < response_.size(); ++k) {
      const Bins &a = response_[k], &b = past_[(newest_ + k) % past_.size()];
      for (size_t n = 0; n < sum.size(); ++n)
        sum[n] += std::complex(a[n].real() * b[n].real() - a[n].imag() * b[n].imag(),
                               a[n].real() * b[n].imag() + a[n].imag() * b[n].real());
    }
    fft_.inverse();
    for (size_t n = 0; n < x.size(); ++n) x[n] = fft_.time()[size_t(part) + n] / double(2 * part);
  }

 private:
  RealFft<double> fft_;
  std::vector<Bins> response_, past_;
  std::vector<double> last_;
  size_t newest_ = 0;
};

class ConvolvedFlow : public AudioStream {
 public:
  ConvolvedFlow(AudioStreamPtr in, std::vector<Convolver> convolvers, int64_t longer)
      : AudioStream(reals_like(in->format())), in_(std::move(in)), convolvers_(std::move(convolvers)), left_(0) {
    format_.frames += longer;
  }
  void next(int64_t frames, Planar& out) override {
    out.resize(format_.channels, frames);
    for (int64_t done = 0; done < frames;) {
      if (left_ == 0) {
        in_->next(part, block_);
        for (int c = 0; c < block_.channels(); ++c) convolvers_[size_t(c)].run(block_.channel(c));
        left_ = part;
      }
      const int64_t count = std::min(left_, frames - done);
      for (int c = 0; c < out.channels(); ++c)
        std::copy_n(block_.channel(c).begin() + (part - left_), count, out.channel(c).begin() + done);
      left_ -= count, done += count;
    }
  }

 private:
  AudioStreamPtr in_;
  std::vector<Convolver> convolvers_;
  Planar block_;
  int64_t left_;
};

constexpr double longest_s = 60;

/// The response as it is used: at the flow's rate or as it stands, cut, faded, its gain applied.
Planar response_for(const AudioStream& in, const Values& v, const Job& job) {
  const std::string file = v.text("response");
  if (file.empty()) throw ChainError("no impulse response is chosen; set response to an audio file");
  auto clip = Clip::open(file, job);
  if (v.flag("match_rate")) clip = Clip::at_rate(clip, in.format().sample_rate_hz, job);
  const auto& f = clip->format();
  if (f.channels != 1 && f.channels != in.format().channels)
    throw ChainError(fmt::format("{} has {} channels, the audio {}; a response has one channel or as many as the audio",
                                 file, f.channels, in.format().channels));
  const double cut_s = v.number("length_ms") > 0 ? v.number("length_ms") / 1000 : longest_s;
  const int64_t frames = std::min(f.frames, std::max<int64_t>(1, std::llround(cut_s * f.sample_rate_hz)));
  Planar response;
  clip->reader()->read(0, frames, response);
  const auto fade = std::min(frames, int64_t(v.number("fade_ms") / 1000 * f.sample_rate_hz));
  for (int c = 0; c < response.channels(); ++c) {
    auto x = response.channel(c);
    for (double& value : x) value *= v.gain("gain_db");
    for (int64_t n = 0; n < fade; ++n)
      x[size_t(frames - 1 - n)] *= 0.5 - 0.5 * std::cos(std::numbers::pi * (double(n) + 0.5) / double(fade));
  }
  return response;
}

AudioStreamPtr make(AudioStreamPtr in, const Values& v, StageContext& context) {
  const Planar response = response_for(*in, v, context.job);
  std::vector<Convolver> convolvers;
  for (int c = 0; c < in->format().channels; ++c)
    convolvers.emplace_back(response.channel(response.channels() == 1 ? 0 : c));
  return std::make_unique<ConvolvedFlow>(std::move(in), std::move(convolvers), response.frames() - 1);
}

}  // namespace

std::vector<StageFamily> convolution_stages() {
  return {{{"convolution",
            "Convolution",
            "Through an impulse response from a file: of a room, a filter, a device.",
            {p::file("response", "impulse response, one channel or as many as the audio"),
             p::flag("match_rate", "convert the response to the audio's rate; off: taken sample by sample", true),
             p::number("length_ms", "cut to this length; 0: whole, up to 60 s", "ms", 0, 60000, 0),
             p::number("fade_ms", "fade at the end of the response", "ms", 0, 60000, 0),
             p::number("gain_db", "gain of the response", "dB", -144, 60, 0)}},
           make,
           [](const Values& v) { return "through " + std::filesystem::path(v.text("response")).stem().string(); }}};
}

}  // namespace heathmist
