// Sample rate conversion: five libraries at their qualities, and honest bad ones of our own.
#include <fmt/format.h>
#include <samplerate.h>
#include <soxr.h>
#include <speex/speex_resampler.h>
#include <zita-resampler/resampler.h>

extern "C" {
#include <libavutil/channel_layout.h>
#include <libavutil/opt.h>
#include <libswresample/swresample.h>
}

#include <cmath>
#include <map>
#include <numbers>
#include <numeric>

#include "core/stages/stage_context.hpp"

namespace heathmist {

namespace {

namespace p = parameter;

struct Rates {
  int from_hz, to_hz, channels;
};

/// A library's converter: takes interleaved input, gives interleaved output, in time: frame 0 stays frame 0.
template <class T>
class Engine {
 public:
  virtual ~Engine() = default;
  /// Takes up to in_frames, gives up to out_frames; says how many of each.
  struct Moved {
    int64_t in, out;
  };
  virtual Moved run(const T* in, int64_t in_frames, T* out, int64_t out_frames) = 0;
};

/// A flow through an engine; after the end of the audio zeros push out what is inside.
template <class T>
class EngineFlow : public AudioStream {
 public:
  EngineFlow(AudioStreamPtr in, int to_hz, std::unique_ptr<Engine<T>> engine)
      : AudioStream(reals_like(in->format())), in_(std::move(in)), engine_(std::move(engine)) {
    format_.sample_rate_hz = to_hz;
    format_.frames = std::llround(double(in_->format().frames) * to_hz / in_->format().sample_rate_hz);
  }
  void next(int64_t frames, Planar& out) override {
    const auto channels = size_t(format_.channels);
    out.resize(format_.channels, frames);
    made_.resize(size_t(frames) * channels);
    for (int64_t done = 0; done < frames;) {
      if (at_ == waiting_) refill();
      const auto moved =
          engine_->run(input_.data() + size_t(at_) * channels, waiting_ - at_, made_.data(), frames - done);
      at_ += moved.in;
      for (size_t c = 0; c < channels; ++c)
        for (int64_t n = 0; n < moved.out; ++n)
          out.channel(int(c))[size_t(done + n)] = double(made_[size_t(n) * channels + c]);
      done += moved.out;
      if (moved.in == 0 && moved.out == 0) at_ = waiting_;  // what is left is too little to work on
    }
  }

 private:
  static constexpr int64_t block = 4096;
  void refill() {
    in_->next(block, block_);
    const auto channels = size_t(block_.channels());
    input_.resize(size_t(block) * channels);
    for (size_t c = 0; c < channels; ++c)
      for (size_t n = 0; n < size_t(block); ++n) input_[n * channels + c] = T(block_.channel(int(c))[n]);
    at_ = 0, waiting_ = block;
  }

  AudioStreamPtr in_;
  std::unique_ptr<Engine<T>> engine_;
  std::vector<T> input_, made_;
  Planar block_;
  int64_t at_ = 0, waiting_ = 0;
};

class SoxrEngine : public Engine<double> {
 public:
  SoxrEngine(Rates r, unsigned long recipe) {
    const soxr_quality_spec_t quality = soxr_quality_spec(recipe, 0);
    const soxr_io_spec_t io = soxr_io_spec(SOXR_FLOAT64_I, SOXR_FLOAT64_I);
    soxr_error_t error = nullptr;
    soxr_.reset(soxr_create(r.from_hz, r.to_hz, unsigned(r.channels), &error, &io, &quality, nullptr));
    if (error) throw ChainError(fmt::format("libsoxr cannot convert {} to {} Hz: {}", r.from_hz, r.to_hz, error));
  }
  Moved run(const double* in, int64_t in_frames, double* out, int64_t out_frames) override {
    size_t used = 0, got = 0;
    if (const soxr_error_t error =
            soxr_process(soxr_.get(), in, size_t(in_frames), &used, out, size_t(out_frames), &got))
      throw ChainError(fmt::format("libsoxr: {}", error));
    return {int64_t(used), int64_t(got)};
  }

 private:
  struct Drop {
    void operator()(soxr_t s) const { soxr_delete(s); }
  };
  std::unique_ptr<soxr, Drop> soxr_;
};

class SampleRateEngine : public Engine<float> {
 public:
  SampleRateEngine(Rates r, int quality) : ratio_(double(r.to_hz) / r.from_hz) {
    int error = 0;
    state_.reset(src_new(quality, r.channels, &error));
    if (!state_ || !src_is_valid_ratio(ratio_))
      throw ChainError(
          fmt::format("libsamplerate cannot convert {} to {} Hz; it takes ratios up to 256", r.from_hz, r.to_hz));
  }
  Moved run(const float* in, int64_t in_frames, float* out, int64_t out_frames) override {
    SRC_DATA data{};
    data.data_in = in, data.input_frames = long(in_frames);
    data.data_out = out, data.output_frames = long(out_frames);
    data.src_ratio = ratio_;
    if (const int error = src_process(state_.get(), &data))
      throw ChainError(fmt::format("libsamplerate: {}", src_strerror(error)));
    return {data.input_frames_used, data.output_frames_gen};
  }

 private:
  struct Drop {
    void operator()(SRC_STATE* s) const { src_delete(s); }
  };
  std::unique_ptr<SRC_STATE, Drop> state_;
  double ratio_;
};

class SpeexEngine : public Engine<float> {
 public:
  SpeexEngine(Rates r, int quality) {
    int error = 0;
    state_.reset(speex_resampler_init(unsigned(r.channels), unsigned(r.from_hz), unsigned(r.to_hz), quality, &error));
    if (!state_) throw ChainError(fmt::format("speexdsp cannot convert {} to {} Hz", r.from_hz, r.to_hz));
    speex_resampler_skip_zeros(state_.get());
  }
  Moved run(const float* in, int64_t in_frames, float* out, int64_t out_frames) override {
    auto used = spx_uint32_t(in_frames), got = spx_uint32_t(out_frames);
    speex_resampler_process_interleaved_float(state_.get(), in, &used, out, &got);
    return {used, got};
  }

 private:
  struct Drop {
    void operator()(SpeexResamplerState* s) const { speex_resampler_destroy(s); }
  };
  std::unique_ptr<SpeexResamplerState, Drop> state_;
};

class ZitaEngine : public Engine<float> {
 public:
  ZitaEngine(Rates r, int half_length) {
    if (resampler_.setup(unsigned(r.from_hz), unsigned(r.to_hz), unsigned(r.channels), unsigned(half_length)) != 0)
      throw ChainError(
          fmt::format("zita-resampler cannot convert {} to {} Hz; it takes ratios with small numbers, such as 147:160",
                      r.from_hz, r.to_hz));
    resampler_.inp_count = unsigned(resampler_.inpsize() / 2 - 1);  // its delay, filled with silence
    resampler_.inp_data = nullptr;
    std::vector<float> unused(size_t(r.channels) * 16);
    resampler_.out_count = 16, resampler_.out_data = unused.data();
    resampler_.process();
  }
  Moved run(const float* in, int64_t in_frames, float* out, int64_t out_frames) override {
    resampler_.inp_count = unsigned(in_frames), resampler_.inp_data = const_cast<float*>(in);
    resampler_.out_count = unsigned(out_frames), resampler_.out_data = out;
    resampler_.process();
    return {in_frames - resampler_.inp_count, out_frames - resampler_.out_count};
  }

 private:
  Resampler resampler_;
};

class SwrEngine : public Engine<double> {
 public:
  SwrEngine(Rates r, int filter_size, bool linear) : rates_(r) {
    AVChannelLayout layout;
    av_channel_layout_default(&layout, r.channels);
    SwrContext* context = nullptr;
    swr_alloc_set_opts2(&context, &layout, AV_SAMPLE_FMT_DBL, r.to_hz, &layout, AV_SAMPLE_FMT_DBL, r.from_hz, 0,
                        nullptr);
    context_.reset(context);
    av_opt_set_int(context, "filter_size", filter_size, 0);
    av_opt_set_int(context, "linear_interp", linear, 0);
    if (swr_init(context) < 0)
      throw ChainError(fmt::format("libswresample cannot convert {} to {} Hz", r.from_hz, r.to_hz));
  }
  Moved run(const double* in, int64_t in_frames, double* out, int64_t out_frames) override {
    if (swr_get_out_samples(context_.get(), 0) >= int(out_frames))  // perhaps enough is inside
      if (const int64_t got = convert(in, 0, out, out_frames)) return {0, got};
    return {in_frames, convert(in, in_frames, out, out_frames)};
  }

 private:
  struct Drop {
    void operator()(SwrContext* c) const { swr_free(&c); }
  };
  /// Never without a pointer to input: that would flush it in the middle.
  int64_t convert(const double* in, int64_t in_frames, double* out, int64_t out_frames) {
    auto* to = reinterpret_cast<uint8_t*>(out);
    const auto* from = reinterpret_cast<const uint8_t*>(in);
    const int got = swr_convert(context_.get(), &to, int(out_frames), &from, int(in_frames));
    if (got < 0) throw ChainError("libswresample failed");
    return got;
  }
  std::unique_ptr<SwrContext, Drop> context_;
  Rates rates_;
};

/// A converter of our own that reads the input around a place: hold, linear, cubic, windowed sinc.
class PlaceFlow : public AudioStream {
 public:
  /// `read(x, fraction)`: the value `fraction` after x[before]; x holds before + after samples.
  using Read = std::function<double(std::span<const double> x, double fraction)>;
  PlaceFlow(AudioStreamPtr in, int to_hz, int before, int after, Read read)
      : AudioStream(reals_like(in->format())),
        window_(std::move(in)),
        from_hz_(format_.sample_rate_hz),
        before_(before),
        after_(after),
        read_(std::move(read)) {
    format_.sample_rate_hz = to_hz;
    format_.frames = std::llround(double(format_.frames) * to_hz / from_hz_);
  }
  void next(int64_t frames, Planar& out) override {
    out.resize(format_.channels, frames);
    const int64_t to = format_.sample_rate_hz;
    const int64_t first = at_ * from_hz_ / to - before_, last = (at_ + frames) * from_hz_ / to + after_ + 1;
    window_.move_to(first, last);
    for (int64_t n = 0; n < frames; ++n) {
      const int64_t place = (at_ + n) * from_hz_, whole = place / to;
      const double fraction = double(place % to) / double(to);
      for (int c = 0; c < out.channels(); ++c)
        out.channel(c)[size_t(n)] =
            read_(window_.channel(c).subspan(size_t(whole - before_ - first), size_t(before_ + after_)), fraction);
    }
    at_ += frames;
  }

 private:
  FlowWindow window_;
  int64_t from_hz_;
  int before_, after_;
  Read read_;
  int64_t at_ = 0;
};

/// A sinc at the input's own band edge under a Hann window: no anti-alias filter when the rate goes down.
AudioStreamPtr windowed_sinc(AudioStreamPtr in, int to_hz, int taps) {
  const int before = taps / 2 - 1;
  return std::make_unique<PlaceFlow>(std::move(in), to_hz, before, taps - before,
                                     [before, taps](std::span<const double> x, double fraction) {
                                       if (fraction == 0) return x[size_t(before)];
                                       const double s = std::sin(std::numbers::pi * fraction) / std::numbers::pi;
                                       double sum = 0;
                                       for (int k = 0; k < taps; ++k) {
                                         const double t = k - before - fraction;
                                         sum += ((k - before) % 2 == 0 ? -s : s) / t *
                                                (0.5 + 0.5 * std::cos(2 * std::numbers::pi * t / taps)) * x[size_t(k)];
                                       }
                                       return sum;
                                     });
}

double cubic(std::span<const double> x, double t) {  // Catmull-Rom
  const double a = -0.5 * x[0] + 1.5 * x[1] - 1.5 * x[2] + 0.5 * x[3], b = x[0] - 2.5 * x[1] + 2 * x[2] - 0.5 * x[3];
  return ((a * t + b) * t + 0.5 * (x[2] - x[0])) * t + x[1];
}

AudioStreamPtr own(AudioStreamPtr in, int to_hz, const std::string& method, int taps) {
  if (method == "sinc") return windowed_sinc(std::move(in), to_hz, taps - taps % 2);
  if (method == "cubic") return std::make_unique<PlaceFlow>(std::move(in), to_hz, 1, 3, cubic);
  if (method == "linear")
    return std::make_unique<PlaceFlow>(std::move(in), to_hz, 0, 2,
                                       [](std::span<const double> x, double t) { return x[0] + t * (x[1] - x[0]); });
  return std::make_unique<PlaceFlow>(std::move(in), to_hz, 0, 1,
                                     [](std::span<const double> x, double) { return x[0]; });
}

template <class T, class E, class... Extra>
AudioStreamPtr through(AudioStreamPtr in, int to_hz, Extra... extra) {
  const Rates rates{in->format().sample_rate_hz, to_hz, in->format().channels};
  return std::make_unique<EngineFlow<T>>(std::move(in), to_hz, std::make_unique<E>(rates, extra...));
}

const std::vector<std::string> soxr_qualities{"very_high", "high", "medium", "low", "quick"};
const std::vector<std::string> src_qualities{"sinc_best", "sinc_medium", "sinc_fastest", "zero_order_hold", "linear"};

template <class Words>
int place_in(const Words& words, const std::string& word) {
  return int(std::find(words.begin(), words.end(), word) - words.begin());
}

AudioStreamPtr make(AudioStreamPtr in, const Values& v, StageContext&) {
  const int to_hz = v.whole("rate_hz");
  const std::string by = v.text("by");
  if (by == "libsoxr") {
    constexpr unsigned long recipes[] = {SOXR_VHQ, SOXR_HQ, SOXR_MQ, SOXR_LQ, SOXR_QQ};
    return through<double, SoxrEngine>(std::move(in), to_hz, recipes[place_in(soxr_qualities, v.text("soxr_quality"))]);
  }
  if (by == "libsamplerate")
    return through<float, SampleRateEngine>(std::move(in), to_hz,
                                            place_in(src_qualities, v.text("samplerate_quality")));
  if (by == "speexdsp") return through<float, SpeexEngine>(std::move(in), to_hz, v.whole("speex_quality"));
  if (by == "zita_resampler") return through<float, ZitaEngine>(std::move(in), to_hz, v.whole("zita_half_length"));
  if (by == "libswresample")
    return through<double, SwrEngine>(std::move(in), to_hz, v.whole("swresample_filter_size"),
                                      v.flag("swresample_linear"));
  return own(std::move(in), to_hz, by, v.whole("sinc_taps"));
}

std::string words(const Values& v) {
  std::string by = v.text("by");
  if (by == "libsoxr") by += " " + v.text("soxr_quality");
  if (by == "libsamplerate") by += " " + v.text("samplerate_quality");
  if (by == "speexdsp") by += fmt::format(" {}", v.whole("speex_quality"));
  if (by == "zita_resampler") by += fmt::format(" {}", v.whole("zita_half_length"));
  if (by == "libswresample") by += fmt::format(" {}", v.whole("swresample_filter_size"));
  if (by == "sinc") by += fmt::format(" {} taps", v.whole("sinc_taps"));
  for (char& c : by) c = c == '_' ? ' ' : c;
  return fmt::format("{} kHz by {}", plain(v.number("rate_hz") / 1000), by);
}

}  // namespace

std::vector<StageFamily> converter_stages() {
  return {
      {{"converter",
        "Converter",
        "Another sample rate. hold, linear, cubic and sinc are our own, without an anti-alias filter: poor on purpose.",
        {p::whole("rate_hz", "rate to convert to", "Hz", 8000, 384000, 44100),
         p::choice("by", "which converter",
                   {"libsoxr", "libsamplerate", "speexdsp", "zita_resampler", "libswresample", "hold", "linear",
                    "cubic", "sinc"}),
         p::only(p::choice("soxr_quality", "quality of libsoxr", soxr_qualities), "by", {"libsoxr"}),
         p::only(p::choice("samplerate_quality", "quality of libsamplerate", src_qualities), "by", {"libsamplerate"}),
         p::only(p::whole("speex_quality", "quality of speexdsp", "", 0, 10, 10), "by", {"speexdsp"}),
         p::only(p::whole("zita_half_length", "half length of zita-resampler's filter", "samples", 8, 96, 48), "by",
                 {"zita_resampler"}),
         p::only(p::whole("swresample_filter_size", "filter of libswresample", "samples", 8, 256, 32), "by",
                 {"libswresample"}),
         p::only(p::flag("swresample_linear", "libswresample interpolates between its filter phases", false), "by",
                 {"libswresample"}),
         p::only(p::whole("sinc_taps", "length of our windowed sinc", "samples", 4, 512, 32), "by", {"sinc"})}},
       make,
       words}};
}

}  // namespace heathmist
