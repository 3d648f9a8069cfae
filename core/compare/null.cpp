#include "core/compare/null.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>

#include "core/audio/scratch.hpp"
#include "core/dsp/fft.hpp"

namespace heathmist {

const char* name_of(Kind kind) {
  static constexpr const char* names[] = {"identical", "shifted", "level", "word_length", "linear",   "converted",
                                          "lossy",     "limited", "noise", "changed",     "unrelated"};
  return names[int(kind)];
}

const char* name_of(Severity severity) {
  static constexpr const char* names[] = {"clean", "note", "caution", "fault"};
  return names[int(severity)];
}

bool same_samples(const Clip& master, const Clip& ret, const Job& job) {
  const auto &m = master.format(), &r = ret.format();
  if (m.sample_rate_hz != r.sample_rate_hz || m.channels != r.channels || m.frames != r.frames) return false;
  const auto from = master.reader(), to = ret.reader();
  Planar a, b;
  constexpr int64_t block = 1 << 16;
  for (int64_t first = 0; first < m.frames; first += block) {
    job.check();
    const int64_t frames = std::min(block, m.frames - first);
    from->read(first, frames, a);
    to->read(first, frames, b);
    for (int c = 0; c < m.channels; ++c)
      if (!std::equal(a.channel(c).begin(), a.channel(c).end(), b.channel(c).begin())) return false;
    job.report(double(first) / double(m.frames));
  }
  return true;
}

namespace {

/// A linear-phase low pass (Kaiser, -140 dB) over a whole clip, by overlap and save, to scratch. Frame 0 stays frame 0.
std::shared_ptr<const Clip> low_passed(const Clip& clip, double pass_hz, double stop_hz, const Job& job) {
  const double rate = clip.format().sample_rate_hz, beta = 0.1102 * (140 - 8.7);
  const auto half = int64_t(std::ceil((140 - 8) / (2.285 * 2 * std::numbers::pi * (stop_hz - pass_hz) / rate) / 2));
  const auto size = dsp::good_fft_size(size_t(half) * 16);
  const double cut = (pass_hz + stop_hz) / rate;  // in half cycles per sample
  dsp::RealFft<double> kernel(size), fft(size);
  for (int64_t n = -half; n <= half; ++n) {
    const double edge = double(n) / double(half), x = std::numbers::pi * cut * double(n);
    const double window = dsp::bessel_i0(beta * std::sqrt(1 - edge * edge)) / dsp::bessel_i0(beta);
    kernel.time()[size_t(n < 0 ? n + int64_t(size) : n)] = window * cut * (n == 0 ? 1 : std::sin(x) / x) / double(size);
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
  return out.finish(clip.format());
}

}  // namespace

Comparable comparable(std::shared_ptr<const Clip> master, std::shared_ptr<const Clip> ret, const Job& job) {
  const int rate = master->format().sample_rate_hz, other = ret->format().sample_rate_hz;
  if (rate == other) return {master, ret};
  const double shared_hz = std::min(rate, other) / 2.0;
  auto moved = Clip::at_rate(ret, rate, job.part(0, 0.4));
  return {low_passed(*master, 0.9 * shared_hz, 0.94 * shared_hz, job.part(0.4, 0.7)),
          low_passed(*moved, 0.9 * shared_hz, 0.94 * shared_hz, job.part(0.7, 1))};
}

namespace {

std::optional<double> bandwidth_of(const Clip& clip, const Job& job) {
  return bandwidth_hz(average_spectrum(clip, 8192, 0, -1, 400, Job{job.stop, {}, job.threads}));
}

}  // namespace

NullReport null_test(const Clip& master, const Clip& ret, const Comparable& pair, const NullOptions& options,
                     const Job& job) {
  NullReport report;
  report.master = master.format();
  report.ret = ret.format();
  auto surveyed = cached_survey(master, job.part(0, 0.1));
  report.master_levels = std::move(surveyed.levels);
  report.master_overview = std::move(surveyed.overview);
  surveyed = cached_survey(ret, job.part(0.1, 0.2));
  report.return_levels = std::move(surveyed.levels);
  report.return_overview = std::move(surveyed.overview);
  report.identical = same_samples(master, ret, job.part(0.2, 0.25));
  if (report.identical) {
    report.fit.pairs = plain_pairs(master.format().channels, ret.format().channels);
    report.fit.agreement = 1;
    report.fit.trusted = true;
    set_overlap(report.fit, master.format().frames, ret.format().frames);
  } else if (options.held_fit) {
    report.fit = *options.held_fit;
    set_overlap(report.fit, pair.master->format().frames, pair.ret->format().frames);
  } else {
    report.fit = find_fit(*pair.master, *pair.ret, options.fit, job.part(0.25, 0.5));
  }
  report.master_bandwidth_hz = bandwidth_of(master, job);
  report.return_bandwidth_hz = bandwidth_of(ret, job);
  SumsOptions sums;
  sums.master_peak = report.master_levels.sample_peak;
  report.sums = residual_sums(*pair.master, *pair.ret, report.fit, sums, job.part(0.55, 1));
  report.kind = kind_of(report);
  report.findings = findings_of(report);
  return report;
}

NullReport null_test(std::shared_ptr<const Clip> master, std::shared_ptr<const Clip> ret, const NullOptions& options,
                     const Job& job) {
  const auto pair = comparable(master, ret, job.part(0, 0.1));
  return null_test(*master, *ret, pair, options, job.part(0.1, 1));
}

}  // namespace heathmist
