// Clipper, true-peak limiter, compressor, levelling to a target.
#include <fmt/format.h>

#include <cmath>
#include <deque>
#include <numbers>

#include "core/dsp/full_band.hpp"
#include "core/dsp/inter_sample.hpp"
#include "core/dsp/knee.hpp"
#include "core/measure/meter.hpp"
#include "core/stages/stage_context.hpp"

namespace heathmist {

namespace {

namespace p = parameter;
using dsp::InterSample;

AudioStreamPtr make_clip(AudioStreamPtr in, const Values& v, StageContext&) {
  const double top = v.gain("threshold_dbfs");
  const bool soft = v.text("shape") == "soft";
  return changed_flow(std::move(in), [top, soft](Planar& block) {
    for (int c = 0; c < block.channels(); ++c)
      for (double& x : block.channel(c)) x = soft ? top * std::tanh(x / top) : std::clamp(x, -top, top);
  });
}

/// What a common meter reads between samples: a sinc of 49 taps at four times the rate (two from 96 kHz on) under a
/// Hann window, as small as annex 2 of BS.1770 allows. Near the band's edge it reads higher than the wave is; a return
/// that is to pass such a meter has to stay under its reading too.
class ShortMeter {
 public:
  static constexpr size_t before = 25, after = 25;  // samples around the one that is read
  explicit ShortMeter(int rate_hz) : factor_(rate_hz < 96000 ? 4 : rate_hz < 192000 ? 2 : 1) {
    for (int k = 0; k < 49 && factor_ > 1; ++k) {
      const double m = k - 24, x = std::numbers::pi * m / factor_;
      taps_.push_back((m == 0 ? 1 : std::sin(x) / x) * (0.5 - 0.5 * std::cos(2 * std::numbers::pi * k / 48)));
    }
  }
  /// The greatest reading between sample `at` and the next.
  double read(std::span<const double> x, size_t at) const {
    double top = 0;
    for (int phase = 1; phase < factor_; ++phase) {
      double sum = 0;
      for (int k = (24 + phase) % factor_; k < 49;
           k += factor_)  // tap k reads the sample (k - 24 - phase) / factor away
        sum += taps_[size_t(k)] * x[size_t(int64_t(at) - (k - 24 - phase) / factor_)];
      top = std::max(top, std::abs(sum));
    }
    return top;
  }

 private:
  int factor_;
  std::vector<double> taps_;
};

/// The least of the last `span` values.
class RunningLeast {
 public:
  explicit RunningLeast(int64_t span) : span_(span) {}
  double run(double x) {
    while (!held_.empty() && held_.back().second >= x) held_.pop_back();
    held_.emplace_back(at_, x);
    if (held_.front().first <= at_ - span_) held_.pop_front();
    ++at_;
    return held_.front().second;
  }

 private:
  int64_t span_, at_ = 0;
  std::deque<std::pair<int64_t, double>> held_;
};

/// Brings the gain down ahead of every peak, along a raised cosine of the look-ahead's length, and lets it come back
/// exponentially: the gain over a peak is never more than that peak allows.
class LimiterFlow : public AudioStream {
 public:
  LimiterFlow(AudioStreamPtr in, double ceiling, double look_s, double release_s)
      : AudioStream(reals_like(in->format())),
        window_(std::move(in)),
        meter_(format_.sample_rate_hz),
        ceiling_(ceiling * std::pow(10.0, -margin_db / 20)),
        look_(std::max<int64_t>(8, std::llround(look_s * format_.sample_rate_hz))),
        reach_(std::max<int64_t>(look_ - 1, dsp::FullBand::before + 1)),
        back_(1 - std::exp(-1 / (release_s * format_.sample_rate_hz))),
        least_(look_),
        shape_(size_t(look_)),
        past_(size_t(look_), 1.0) {
    double sum = 0;
    for (size_t k = 0; k < shape_.size(); ++k)
      sum += shape_[k] = 1 - std::cos(2 * std::numbers::pi * (double(k) + 0.5) / double(look_));
    for (double& s : shape_) s /= sum;
    for (int k = 1; k < places; ++k) dense_.emplace_back(double(k) / places);
    edges_.assign(size_t(format_.channels), RunningLeast(1024));
  }

  void next(int64_t frames, Planar& out) override {
    if (read_ == 0) make_gain(look_ - 1);  // the gain of the first frame needs what follows it
    make_gain(frames);
    out.resize(format_.channels, frames);
    for (int c = 0; c < out.channels(); ++c) {
      const auto x = window_.channel(c).subspan(size_t(reach_ - (look_ - 1)));
      for (size_t n = 0; n < size_t(frames); ++n) out.channel(c)[n] = x[n] * gain_[n];
    }
  }

 private:
  static constexpr double margin_db = 0.08;  // for what the moving gain itself adds between samples
  static constexpr int places = 8;           // a sample, at which the wave is read over its whole band

  /// The wave as it is, over the whole band: what a short filter cannot read of a full-band programme. The very edge,
  /// which no block can read between its samples, counts by the greatest of it in the last 23 ms. gaps_ as in
  /// find_peaks(). Quiet stretches are passed over.
  void read_whole_band(int c) {
    const auto in = window_.channel(c).subspan(size_t(reach_) - (dsp::FullBand::before + 1));
    const size_t count = gaps_.size();
    const auto near = in.subspan(dsp::FullBand::before, count + 1);
    if (std::none_of(near.begin(), near.end(), [&](double x) { return std::abs(x) > 0.5 * ceiling_; })) {
      for (size_t n = 0; n < count; ++n) edges_[size_t(c)].run(0);
      return;
    }
    wave_.resize(count * places + 1);
    edge_.resize(count);
    whole_.shift(in.first(count + dsp::FullBand::taps - 1), edge_);
    for (size_t n = 0; n < count; ++n) edge_[n] = edges_[size_t(c)].run(-std::abs(near[n] - edge_[n]));
    for (size_t n = 0; n <= count; ++n) wave_[n * places] = near[n];
    between_places_.resize(count);
    for (int k = 1; k < places; ++k) {
      dense_[size_t(k - 1)].shift(in.first(count + dsp::FullBand::taps - 1), between_places_);
      for (size_t n = 0; n < count; ++n) wave_[n * places + size_t(k)] = between_places_[n];
    }
    for (size_t m = 0; m < count * places; ++m) {
      const double here = std::abs(wave_[m]), before = m > 0 ? std::abs(wave_[m - 1]) : 0,
                   after = std::abs(wave_[m + 1]);
      double top = here;
      if (here >= before && here > after && m > 0) {  // a parabola through the three
        const double bend = before - 2 * here + after;
        if (bend < 0) top -= (before - after) * (before - after) / (8 * bend);
      }
      if (m % places != 0) top -= edge_[m / places];
      gaps_[m / places] = std::max(gaps_[m / places], top);
    }
  }

  /// Peaks of the wave around the frames from read_ on, over all channels.
  void find_peaks(int64_t frames) {
    peaks_.assign(size_t(frames), 0.0);
    gaps_.resize(size_t(frames) + 1);
    for (int c = 0; c < format_.channels; ++c) {
      const auto in = window_.channel(c).subspan(size_t(reach_) - (InterSample::before + 1));
      between_.peaks(in, 0.6 * ceiling_, gaps_);
      for (size_t n = 0; n < gaps_.size(); ++n)
        if (gaps_[n] > 0.5 * ceiling_) gaps_[n] = std::max(gaps_[n], meter_.read(in, InterSample::before + n));
      read_whole_band(c);
      for (size_t n = 0; n < peaks_.size(); ++n)
        peaks_[n] = std::max({peaks_[n], std::abs(in[InterSample::before + 1 + n]), gaps_[n], gaps_[n + 1]});
    }
  }

  /// Reads `frames` on; gain_ is then that of the frames look_ - 1 earlier.
  void make_gain(int64_t frames) {
    window_.move_to(read_ - reach_, read_ + frames + int64_t(dsp::FullBand::after) + 1);
    find_peaks(frames);
    gain_.assign(size_t(frames), 1.0);
    for (size_t n = 0; n < gain_.size(); ++n) {
      const double allowed = least_.run(peaks_[n] > ceiling_ ? ceiling_ / peaks_[n] : 1.0);
      held_ = std::min(allowed, held_ + (1 - held_) * back_);
      if (1 - held_ < 1e-9) held_ = 1;
      if (held_ < 1) active_ = look_;
      past_[place_] = held_;
      place_ = (place_ + 1) % past_.size();
      if (active_ == 0) continue;
      --active_;
      gain_[n] = 0;
      for (size_t k = 0; k < shape_.size(); ++k) {
        const size_t at = place_ + k;
        gain_[n] += shape_[k] * past_[at < past_.size() ? at : at - past_.size()];
      }
    }
    read_ += frames;
  }

  FlowWindow window_;
  InterSample between_;
  ShortMeter meter_;
  double ceiling_;
  int64_t look_, reach_;  // reach_: how far back the window must hold
  double back_;
  RunningLeast least_;
  std::vector<double> shape_, past_, gain_, peaks_, gaps_, wave_, between_places_, edge_;
  dsp::FullBand whole_{0};
  std::vector<dsp::FullBand> dense_;
  std::vector<RunningLeast> edges_;  // of each channel: what stands at the edge of the band, negative
  size_t place_ = 0;
  double held_ = 1;
  int64_t read_ = 0, active_ = 0;
};

AudioStreamPtr limited(AudioStreamPtr in, double ceiling, double look_s, double release_s) {
  return std::make_unique<LimiterFlow>(std::move(in), ceiling, look_s, release_s);
}

AudioStreamPtr make_limiter(AudioStreamPtr in, const Values& v, StageContext&) {
  return limited(std::move(in), v.gain("ceiling_dbtp"), v.number("look_ahead_ms") / 1000,
                 v.number("release_ms") / 1000);
}

/// Feed-forward, channels linked, log domain with a smooth decoupled detector: Giannoulis, Massberg, Reiss, Digital
/// dynamic range compressor design, J. Audio Eng. Soc. 60 (2012) 399-408, equations 4 and 17.
struct Compressor {
  double threshold, slope, knee, makeup, attack, release;
  double slow = 0, smooth = 0;

  double reduction_db(double level_db) const { return slope * dsp::into_slope(level_db - threshold, knee); }
  void run(Planar& block) {
    for (size_t n = 0; n < size_t(block.frames()); ++n) {
      double peak = 1e-9;
      for (int c = 0; c < block.channels(); ++c) peak = std::max(peak, std::abs(block.channel(c)[n]));
      const double wanted = reduction_db(20 * std::log10(peak));
      slow = std::max(wanted, release * slow + (1 - release) * wanted);
      smooth = attack * smooth + (1 - attack) * slow;
      const double gain = makeup * std::pow(10.0, -smooth / 20);
      for (int c = 0; c < block.channels(); ++c) block.channel(c)[n] *= gain;
    }
  }
};

AudioStreamPtr make_compressor(AudioStreamPtr in, const Values& v, StageContext&) {
  const double rate = in->format().sample_rate_hz;
  auto coefficient = [&](const char* key) {
    const double ms = v.number(key);
    return ms > 0 ? std::exp(-1000 / (ms * rate)) : 0.0;
  };
  Compressor compressor{v.number("threshold_dbfs"), 1 - 1 / v.number("ratio"), v.number("knee_db"),
                        v.gain("make_up_db"),       coefficient("attack_ms"),  coefficient("release_ms")};
  return changed_flow(std::move(in), [compressor](Planar& block) mutable { compressor.run(block); });
}

AudioStreamPtr make_level(AudioStreamPtr in, const Values& v, StageContext& context) {
  auto clip = clip_of(*in, context.origin, context.job.part(0, 0.3));
  const bool limit = v.flag("limiter");
  const double target = v.number("target_lufs");
  const auto loudness = integrated_lufs(measure_loudness(*clip, {}, context.job.part(0.3, 0.5)).pieces);
  if (!loudness) {
    context.report.note = "silence is left as it is";
    return stream_of(clip);
  }
  double gain_db = target - *loudness;
  auto levelled = [&](double db) {
    auto flow = changed_flow(stream_of(clip), [gain = std::pow(10.0, db / 20)](Planar& block) {
      for (int c = 0; c < block.channels(); ++c)
        for (double& x : block.channel(c)) x *= gain;
    });
    return limit ? limited(std::move(flow), v.gain("ceiling_dbtp"), 0.0015, 0.08) : std::move(flow);
  };
  for (int round = 0; limit && round < 6; ++round) {  // what the limiter takes away, the gain makes good
    const auto made = materialise(*levelled(gain_db), context.origin, {context.job.stop, {}, context.job.threads});
    const Job quiet{context.job.stop, {}, context.job.threads};
    const double miss = target - integrated_lufs(measure_loudness(*made, {}, quiet).pieces).value_or(target);
    if (std::abs(miss) < 0.01) break;
    if (round == 5 && std::abs(miss) > 0.05)
      throw ChainError(
          fmt::format("target_lufs {} cannot be reached under a ceiling of {} dBTP, it stays {} LU short; ask for less "
                      "or raise the ceiling",
                      plain(target), plain(v.number("ceiling_dbtp")), fmt::format("{:.1f}", miss)));
    gain_db += miss;
  }
  context.report.note = fmt::format("{:+.2f} dB", gain_db);
  return levelled(gain_db);
}

}  // namespace

std::vector<StageFamily> dynamics_stages() {
  return {
      {{"clip",
        "Clip",
        "Cut off at a level: hard, or along a tanh curve.",
        {p::number("threshold_dbfs", "level", "dBFS", -60, 24, 0),
         p::choice("shape", "of the bend", {"hard", "soft"})}},
       make_clip,
       [](const Values& v) {
         return fmt::format("{} clip {} dBFS", v.text("shape"), plain(v.number("threshold_dbfs")));
       }},
      {{"limiter",
        "True-peak limiter",
        "Looks ahead, so that the wave between the samples stays under the ceiling too.",
        {p::number("ceiling_dbtp", "ceiling", "dBTP", -40, 0, -1),
         p::number("look_ahead_ms", "look-ahead", "ms", 0.2, 20, 1.5),
         p::number("release_ms", "time constant of the way back", "ms", 1, 2000, 80)}},
       make_limiter,
       [](const Values& v) { return fmt::format("limiter {} dBTP", plain(v.number("ceiling_dbtp"))); }},
      {{"compressor",
        "Compressor",
        "Feed-forward, peak detector, channels linked (Giannoulis and others, 2012).",
        {p::number("threshold_dbfs", "threshold", "dBFS", -80, 0, -20),
         p::number("ratio", "ratio, to one", "", 1, 100, 3),
         p::number("attack_ms", "attack time constant", "ms", 0, 500, 10),
         p::number("release_ms", "release time constant", "ms", 1, 5000, 120),
         p::number("knee_db", "width of the knee", "dB", 0, 40, 6),
         p::number("make_up_db", "gain afterwards", "dB", -40, 40, 0)}},
       make_compressor,
       [](const Values& v) {
         return fmt::format("compressor {}:1 at {} dBFS", plain(v.number("ratio")), plain(v.number("threshold_dbfs")));
       }},
      {{"level",
        "Loudness levelling",
        "Gain to a target of integrated loudness (ITU-R BS.1770), with a true-peak limiter if wanted.",
        {p::number("target_lufs", "target", "LUFS", -50, 0, -16),
         p::flag("limiter", "keep true peaks under the ceiling", false),
         p::number("ceiling_dbtp", "ceiling of the limiter", "dBTP", -40, 0, -1)}},
       make_level,
       [](const Values& v) {
         return fmt::format("to {} LUFS{}", plain(v.number("target_lufs")), v.flag("limiter") ? ", limited" : "");
       }},
  };
}

}  // namespace heathmist
