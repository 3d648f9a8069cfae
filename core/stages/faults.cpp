// Faults put in on purpose: noise, hum, a clock that drifts, dropouts.
#include <fmt/format.h>

#include <cmath>
#include <numbers>

#include "core/dsp/interpolator.hpp"
#include "core/dsp/noise.hpp"
#include "core/stages/stage_context.hpp"

namespace heathmist {

namespace {

namespace p = parameter;
using dsp::Interpolator;

/// Pink from white: three poles and zeros (R. Bristow-Johnson, W. Anderson), within 0.3 dB from 30 Hz to 0.45 of the
/// rate at 44.1 kHz; scaled to an RMS of 1 by its impulse response.
class Pink {
 public:
  double run(double white) {
    for (int k = 0; k < 3; ++k) {
      const double out = white - zeros_[k] * in_[k] + poles_[k] * out_[k];
      in_[k] = white;
      out_[k] = out;
      white = out;
    }
    return white;
  }
  static double rms() {
    static const double value = [] {
      Pink pink;
      double sum = 0;
      for (int n = 0; n < 200000; ++n) {
        const double h = pink.run(n == 0);
        sum += h * h;
      }
      return std::sqrt(sum);
    }();
    return value;
  }

 private:
  static constexpr double zeros_[3] = {0.98443604, 0.83392334, 0.07568359};
  static constexpr double poles_[3] = {0.99572754, 0.94790649, 0.53567505};
  double in_[3] = {}, out_[3] = {};
};

AudioStreamPtr make_noise(AudioStreamPtr in, const Values& v, StageContext&) {
  const bool pink = v.text("colour") == "pink";
  const double rms = std::pow(10.0, v.number("level_dbfs") / 20) / (pink ? Pink::rms() : 1);
  std::vector<dsp::Noise> chances;
  for (int c = 0; c < in->format().channels; ++c)
    chances.emplace_back(uint64_t(v.whole("seed")) * 977 + uint64_t(c) + 1);
  std::vector<Pink> colours(chances.size());
  return changed_flow(std::move(in), [=](Planar& block) mutable {
    for (int c = 0; c < block.channels(); ++c)
      for (double& x : block.channel(c)) {
        const double white = chances[size_t(c)].gaussian();
        x += rms * (pink ? colours[size_t(c)].run(white) : white);
      }
  });
}

AudioStreamPtr make_hum(AudioStreamPtr in, const Values& v, StageContext&) {
  const double step = 2 * std::numbers::pi * v.number("mains_hz") / in->format().sample_rate_hz;
  const double level = std::sqrt(2.0) * v.gain("level_dbfs"), fall = std::pow(10.0, -v.number("fall_db") / 20);
  const int lines = v.whole("lines");
  double power = 0;
  for (int k = 0; k < lines; ++k) power += std::pow(fall, 2 * k);
  return changed_flow(std::move(in), [=, at = int64_t(0), scale = level / std::sqrt(power)](Planar& block) mutable {
    for (size_t n = 0; n < size_t(block.frames()); ++n, ++at) {
      double hum = 0, part = scale;
      for (int k = 1; k <= lines; ++k, part *= fall)
        hum += part * std::sin(std::remainder(step * k * double(at), 2 * std::numbers::pi));
      for (int c = 0; c < block.channels(); ++c) block.channel(c)[n] += hum;
    }
  });
}

class DriftFlow : public AudioStream {
 public:
  DriftFlow(AudioStreamPtr in, double ppm)
      : AudioStream(reals_like(in->format())), window_(std::move(in)), step_(1 / (1 + 1e-6 * ppm)) {
    format_.frames = std::llround(double(format_.frames) * (1 + 1e-6 * ppm));
  }
  void next(int64_t frames, Planar& out) override {
    out.resize(format_.channels, frames);
    const double start = double(at_) * step_;
    const int64_t first = int64_t(start) - Interpolator::before,
                  span = int64_t(double(frames) * step_) + 2 + Interpolator::taps;
    window_.move_to(first, first + span);
    for (int c = 0; c < out.channels(); ++c)
      Interpolator::stretch(window_.channel(c).first(size_t(span)), start - std::floor(start), step_, out.channel(c));
    at_ += frames;
  }

 private:
  FlowWindow window_;
  double step_;
  int64_t at_ = 0;
};

AudioStreamPtr make_drift(AudioStreamPtr in, const Values& v, StageContext&) {
  return std::make_unique<DriftFlow>(std::move(in), v.number("drift_ppm"));
}

/// Where the breaks are: frames of the input.
struct Breaks {
  int64_t first, length, every;
  /// Start of the first break at or after a frame.
  int64_t from(int64_t at) const {
    if (at <= first) return first;
    return every > 0 ? first + (at - first + every - 1) / every * every : INT64_MAX;
  }
  int64_t count(int64_t frames) const {
    if (first + length > frames) return 0;
    return every > 0 ? (frames - first - length) / every + 1 : 1;
  }
};

AudioStreamPtr muted(AudioStreamPtr in, Breaks b) {
  return changed_flow(std::move(in), [b, at = int64_t(0)](Planar& block) mutable {
    for (int64_t n = 0; n < block.frames(); ++n, ++at) {
      const bool inside = at >= b.first && (b.every > 0 ? (at - b.first) % b.every : at - b.first) < b.length;
      for (int c = 0; inside && c < block.channels(); ++c) block.channel(c)[size_t(n)] = 0;
    }
  });
}

/// Skips the breaks, or plays what comes before each of them twice.
class SpliceFlow : public AudioStream {
 public:
  SpliceFlow(AudioStreamPtr in, Breaks breaks, bool repeat)
      : AudioStream(reals_like(in->format())),
        window_(std::move(in)),
        b_(breaks),
        repeat_(repeat),
        next_(breaks.first) {
    const int64_t count = b_.count(format_.frames);
    left_ = count;
    format_.frames += (repeat ? 1 : -1) * count * b_.length;
  }
  void next(int64_t frames, Planar& out) override {
    out.resize(format_.channels, frames);
    for (int64_t done = 0; done < frames;) {
      if (left_ > 0 && at_ == next_) jump();
      const int64_t piece = left_ > 0 ? std::min(frames - done, next_ - at_) : frames - done;
      const int64_t from = std::max<int64_t>(0, (again_ ? next_ : at_) - b_.length);
      window_.move_to(from, at_ + piece);
      const auto offset = size_t(at_ - from);
      for (int c = 0; c < out.channels(); ++c) {
        const auto x = window_.channel(c).subspan(offset, size_t(piece));
        std::copy(x.begin(), x.end(), out.channel(c).begin() + done);
      }
      at_ += piece;
      done += piece;
    }
  }

 private:
  void jump() {
    if (repeat_ && !again_) {  // comes by here once more
      again_ = true;
      at_ -= b_.length;
      return;
    }
    again_ = false;
    if (!repeat_) at_ += b_.length;
    --left_;
    next_ = b_.from(next_ + 1);
  }
  FlowWindow window_;
  Breaks b_;
  bool repeat_, again_ = false;
  int64_t next_, at_ = 0, left_;
};

AudioStreamPtr make_dropouts(AudioStreamPtr in, const Values& v, StageContext&) {
  const double rate = in->format().sample_rate_hz;
  const Breaks b{std::llround(v.number("at_s") * rate),
                 std::max<int64_t>(1, std::llround(v.number("length_ms") * rate / 1000)),
                 std::llround(v.number("every_s") * rate)};
  if (b.every > 0 && b.every <= 2 * b.length)
    throw ChainError(fmt::format("every_s is {}; with breaks of {} ms it takes 0 (once) or more than {}",
                                 plain(v.number("every_s")), plain(v.number("length_ms")),
                                 plain(2 * double(b.length) / rate)));
  if (v.text("mode") == "mute") return muted(std::move(in), b);
  if (v.text("mode") == "repeat" && b.first < b.length)
    throw ChainError("at_s lies within the first length_ms; a repeat needs that much before it");
  return std::make_unique<SpliceFlow>(std::move(in), b, v.text("mode") == "repeat");
}

}  // namespace

std::vector<StageFamily> fault_stages() {
  return {
      {{"noise",
        "Noise",
        "Gaussian noise added, each channel its own.",
        {p::number("level_dbfs", "RMS level", "dBFS", -180, 0, -90), p::choice("colour", "spectrum", {"white", "pink"}),
         p::whole("seed", "the same seed gives the same noise", "", 0, 1000000, 1)}},
       make_noise,
       [](const Values& v) {
         return fmt::format("{} noise {} dBFS", v.text("colour"), plain(v.number("level_dbfs")));
       }},
      {{"hum",
        "Hum",
        "Mains hum added, the same in all channels.",
        {p::number("mains_hz", "mains frequency", "Hz", 40, 70, 50),
         p::number("level_dbfs", "RMS level", "dBFS", -180, 0, -70),
         p::whole("lines", "lines of its family", "", 1, 16, 6),
         p::number("fall_db", "each line under the one before", "dB", 0, 40, 6)}},
       make_hum,
       [](const Values& v) {
         return fmt::format("{} Hz hum {} dBFS", plain(v.number("mains_hz")), plain(v.number("level_dbfs")));
       }},
      {{"drift",
        "Clock drift",
        "A recorder's clock that runs fast: the return is longer by so much.",
        {p::number("drift_ppm", "drift", "ppm", -10000, 10000, 50)}},
       make_drift,
       [](const Values& v) { return fmt::format("drift {} ppm", plain(v.number("drift_ppm"))); }},
      {{"dropouts",
        "Dropouts",
        "Breaks: silence in place, audio left out, or audio played twice.",
        {p::choice("mode", "what happens", {"mute", "skip", "repeat"}),
         p::number("at_s", "the first break", "s", 0, 100000, 1),
         p::number("length_ms", "how long each is", "ms", 0.01, 10000, 10),
         p::number("every_s", "from one break to the next; 0: once", "s", 0, 100000, 0)}},
       make_dropouts,
       [](const Values& v) { return fmt::format("{} {} ms", v.text("mode"), plain(v.number("length_ms"))); }},
  };
}

}  // namespace heathmist
