// Finding the marks: a matched filter over the whole return, then each mark's place between the samples.
#include <algorithm>
#include <cmath>
#include <numbers>

#include "core/audio/scratch.hpp"
#include "core/dsp/fft.hpp"
#include "core/probes/probe.hpp"
#include "core/probes/sync_chirp.hpp"
#include "core/probes/sync_mark.hpp"

namespace heathmist {

namespace sync_chirp {

std::complex<double> analytic(double t) {
  if (t < 0 || t > seconds) return 0;
  const double swell = std::sin(std::numbers::pi * t / seconds);
  const double turns = low_hz * t + 0.5 * (high_hz - low_hz) / seconds * t * t;
  return level * swell * swell * std::polar(1.0, 2 * std::numbers::pi * std::remainder(turns, 1.0));
}

}  // namespace sync_chirp

namespace {

struct Peak {
  double at_s = 0;
  std::complex<double> height{};  ///< 1: the mark as it was written
};

/// The mark at evenly spaced times, by rotation: its phase is a parabola, its swell a squared sine.
class MarkSamples {
 public:
  MarkSamples(double first_s, double step_s) {
    using namespace sync_chirp;
    constexpr double turn = 2 * std::numbers::pi, slope = (high_hz - low_hz) / seconds;
    wave_ = std::polar(level, turn * std::remainder(low_hz * first_s + 0.5 * slope * first_s * first_s, 1.0));
    turn_ = std::polar(1.0,
                       turn * std::remainder((low_hz + slope * first_s) * step_s + 0.5 * slope * step_s * step_s, 1.0));
    bend_ = std::polar(1.0, turn * slope * step_s * step_s);
    swell_ = std::polar(1.0, std::numbers::pi * first_s / seconds);
    swell_turn_ = std::polar(1.0, std::numbers::pi * step_s / seconds);
  }
  std::complex<double> next() {
    const double swell = swell_.imag();
    const auto now = swell * swell * wave_;
    wave_ *= turn_, turn_ *= bend_, swell_ *= swell_turn_;
    return now;
  }

 private:
  std::complex<double> wave_, turn_, bend_, swell_, swell_turn_;
};

/// How a stretch of audio matches the mark if that starts `at_s` after its first sample.
std::complex<double> match(std::span<const double> x, double rate, double at_s) {
  std::complex<double> sum = 0;
  double energy = 0;
  const auto from = size_t(std::max(0.0, std::ceil(at_s * rate)));
  MarkSamples mark(double(from) / rate - at_s, 1 / rate);
  for (size_t n = from; n < x.size() && double(n) < (at_s + sync_chirp::seconds) * rate; ++n) {
    const auto m = mark.next();
    sum += x[n] * std::conj(m);
    energy += std::norm(m) / 2;
  }
  return energy > 0 ? sum / energy : 0;
}

/// Parabolas of ever smaller span about the place where the match is greatest.
Peak refined(std::span<const double> x, double rate, double at_s) {
  for (double span = 0.5 / rate; span > 0.01 / rate; span /= 3) {
    const double below = std::norm(match(x, rate, at_s - span)), here = std::norm(match(x, rate, at_s)),
                 above = std::norm(match(x, rate, at_s + span));
    const double bend = below - 2 * here + above;
    if (bend < 0) at_s += std::clamp(0.5 * (below - above) / bend, -1.5, 1.5) * span;
  }
  return {at_s, match(x, rate, at_s)};
}

/// All places where the mark may start, in order; weak ones left out.
class MarkFinder {
 public:
  MarkFinder(const Clip& ret, int channel) : ret_(ret), channel_(channel), rate_(ret.format().sample_rate_hz) {}

  std::vector<Peak> run(const Job& job) {
    const auto length = int64_t(sync_chirp::seconds * rate_) + 1;
    const size_t size = dsp::good_fft_size(size_t(std::max<int64_t>(length * 8, 1 << 16)));
    dsp::RealFft<double> wave(size), turned(size), audio(size);
    for (int64_t n = 0; n < length; ++n) {
      const auto m = sync_chirp::analytic(double(n) / rate_);
      wave.time()[size_t(n)] = m.real(), turned.time()[size_t(n)] = m.imag();
    }
    for (const double v : wave.time()) mark_energy_ += v * v;
    wave.forward(), turned.forward();
    const auto reader = ret_.reader();
    const int64_t step = int64_t(size) - length;
    for (int64_t at = -length; at < ret_.format().frames; at += step) {
      job.check();
      job.report(double(std::max<int64_t>(0, at)) / double(ret_.format().frames));
      reader->read(at, int64_t(size), block_);
      const auto x = block_.channel(channel_);
      std::copy(x.begin(), x.end(), audio.time().begin());
      audio.forward();
      take(audio, wave, turned, at, step);
    }
    return chosen();
  }

  Peak refine(const Peak& rough) const {
    const auto first = int64_t(rough.at_s * rate_) - 64;
    Planar near;
    ret_.reader()->read(first, int64_t(sync_chirp::seconds * rate_) + 200, near);
    Peak fine = refined(near.channel(channel_), rate_, rough.at_s - double(first) / rate_);
    fine.at_s += double(first) / rate_;
    return fine;
  }

 private:
  void take(dsp::RealFft<double>& audio, dsp::RealFft<double>& wave, dsp::RealFft<double>& turned, int64_t at,
            int64_t step) {
    const size_t size = audio.size();
    std::vector<std::complex<double>> whole(audio.spectrum().begin(), audio.spectrum().end());
    std::vector<double> envelope(size);
    for (auto* part : {&wave, &turned}) {
      for (size_t k = 0; k < whole.size(); ++k) audio.spectrum()[k] = whole[k] * std::conj(part->spectrum()[k]);
      audio.inverse();
      for (size_t n = 0; n < size; ++n) envelope[n] += audio.time()[n] * audio.time()[n];
    }
    const auto reach = int64_t(0.05 * rate_), length = int64_t(size) - step;
    const auto x = block_.channel(channel_);
    double under = 0;  // energy under a mark that starts at n
    for (int64_t n = 0; n + 1 < length; ++n) under += x[size_t(n)] * x[size_t(n)];
    for (int64_t n = 0; n < step; ++n) {
      const double height = envelope[size_t(n)] / (double(size) * double(size));
      under +=
          x[size_t(n + length - 1)] * x[size_t(n + length - 1)] - (n > 0 ? x[size_t(n - 1)] * x[size_t(n - 1)] : 0);
      if (height < 1e-18 || height < faint * mark_energy_ * under) continue;
      if (!found_.empty() && at + n - found_.back().first < reach) {
        if (height > found_.back().second) found_.back() = {at + n, height};
      } else {
        found_.emplace_back(at + n, height);
      }
    }
  }

  /// The highest of each 50 ms, where what lies under them is mostly a mark.
  std::vector<Peak> chosen() const {
    std::vector<std::pair<double, int64_t>> best;
    for (const auto& [frame, height] : found_) best.emplace_back(height, frame);
    std::sort(best.rbegin(), best.rend());
    std::vector<Peak> peaks;
    for (size_t n = 0; n < std::min<size_t>(12, best.size()); ++n)
      peaks.push_back({double(best[n].second) / rate_, best[n].first});
    std::sort(peaks.begin(), peaks.end(), [](const Peak& a, const Peak& b) { return a.at_s < b.at_s; });
    return peaks;
  }

  static constexpr double faint = 0.2;  // share of what sounds that is a mark
  const Clip& ret_;
  int channel_;
  double rate_, mark_energy_ = 0;
  Planar block_;
  std::vector<std::pair<int64_t, double>> found_;
};

/// How much of the audio under a mark is the mark: 1 where nothing else is there.
double share(const Clip& ret, int channel, const Peak& peak) {
  const double rate = ret.format().sample_rate_hz;
  Planar block;
  ret.reader()->read(std::llround(peak.at_s * rate), int64_t(sync_chirp::seconds * rate), block);
  double all = 0, own = 0;
  MarkSamples mark(0, 1 / rate);
  for (size_t n = 0; n < size_t(block.frames()); ++n) {
    all += block.channel(channel)[n] * block.channel(channel)[n];
    own += std::norm(peak.height * mark.next()) / 2;
  }
  return all > 0 ? own / all : 0;
}

std::vector<Peak> marks_of(const Clip& ret, int channel, const Job& job) {
  MarkFinder finder(ret, channel);
  std::vector<Peak> marks;
  for (const Peak& rough : finder.run(job))
    if (const Peak fine = finder.refine(rough); share(ret, channel, fine) > 0.3) marks.push_back(fine);
  return marks;
}

std::optional<ProbeFit> fit_of(const std::vector<Peak>& marks, const std::string& kind) {
  for (size_t a = 0; a < marks.size(); ++a)
    for (size_t b = a + 1; b < marks.size(); ++b) {
      const double place = (marks[b].at_s - marks[a].at_s - sync_chirp::spacing_s(0)) / 0.02;
      const auto rate_place = std::lround(place);
      if (rate_place < 0 || rate_place >= long(probe_rates().size()) || std::abs(place - double(rate_place)) > 0.1)
        continue;
      if (!has_rate(kind, probe_rates()[size_t(rate_place)])) continue;
      const ProbeScore score = probe_score(kind, probe_rates()[size_t(rate_place)]);
      ProbeFit fit{score.rate_hz, 0, 1,
                   10 * std::log10(std::norm(marks[a].height)) - score.mark_dbfs + sync_chirp::dbfs,
                   marks[a].height.real() < 0};
      const double apart = score.last_mark_s - score.first_mark_s;
      for (const Peak& last : marks)  // the last mark tells how fast it ran
        if (std::abs((last.at_s - marks[a].at_s) / apart - 1) < 0.01)
          fit.stretch = (last.at_s - marks[a].at_s) / apart, fit.ends = true, fit.last_mark_s = last.at_s;
      if (score.crossfade)  // that mark lies where somebody put the second clip
        fit.stretch = (marks[b].at_s - marks[a].at_s) / (score.second_mark_s - score.first_mark_s);
      fit.at_s = marks[a].at_s - score.first_mark_s * fit.stretch;
      return fit;
    }
  return {};
}

bool can_hold_marks(const Clip& ret, int channel) {
  return channel >= 0 && channel < ret.format().channels && ret.format().sample_rate_hz >= 7000;
}

}  // namespace

std::optional<int64_t> ProbeFit::whole_frame(int return_rate_hz) const {
  const double at = at_s * return_rate_hz;
  if (return_rate_hz != probe_rate_hz || std::abs(stretch - 1) > 1e-7 || std::abs(at - std::round(at)) > 0.05)
    return {};
  return std::llround(at);
}

std::optional<ProbeFit> find_probe(const Clip& ret, const std::string& kind, int channel, const Job& job) {
  if (!can_hold_marks(ret, channel)) return {};
  return fit_of(marks_of(ret, channel, job), kind);
}

std::vector<std::string> kinds_that_end_there(const Clip& ret, int channel, const Job& job) {
  std::vector<std::string> kinds;
  if (!can_hold_marks(ret, channel)) return kinds;
  const auto marks = marks_of(ret, channel, job);
  for (const ProbeKind& kind : probe_kinds())
    if (const auto fit = fit_of(marks, kind.key); fit && fit->ends) kinds.push_back(kind.key);
  return kinds;
}

std::vector<double> sync_mark(int sample_rate_hz) {
  std::vector<double> x(size_t(sync_chirp::seconds * sample_rate_hz) + 1);
  for (size_t n = 0; n < x.size(); ++n) x[n] = sync_chirp::value(double(n) / sample_rate_hz);
  return x;
}

std::optional<HeardMark> find_sync_mark(std::span<const double> heard, int sample_rate_hz) {
  Planar sound(1, int64_t(heard.size()));
  std::copy(heard.begin(), heard.end(), sound.channel(0).begin());
  const auto clip = made_clip(sound, sample_rate_hz, "what came back");
  if (!can_hold_marks(*clip, 0)) return {};
  const auto marks = marks_of(*clip, 0, {});
  if (marks.empty()) return {};
  const Peak& first = marks.front();
  return HeardMark{first.at_s * sample_rate_hz, 10 * std::log10(std::norm(first.height)), first.height.real() < 0};
}

}  // namespace heathmist
