#include "core/probes/read.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "core/dsp/window.hpp"
#include "core/probes/score_json.hpp"

namespace heathmist {

namespace {

/// Level of a tone at a known frequency: projection under a Kaiser window.
double projected_dbfs(std::span<const double> x, double cycles_per_frame) {
  const auto window = dsp::kaiser(x.size(), 20);
  std::complex<double> sum = 0;
  double weight = 0;
  for (size_t n = 0; n < x.size(); ++n) {
    const double turn = std::remainder(cycles_per_frame * double(n), 1.0);
    sum += window[n] * x[n] * std::polar(1.0, -2 * std::numbers::pi * turn);
    weight += window[n];
  }
  return 20 * std::log10(std::max(2 * std::abs(sum) / weight, 1e-20));
}

constexpr double lost_db = 30;  // so far a sweep may lie under its marks where its response is flat

/// The greatest power of two that goes twice into a stretch with half overlap.
size_t fft_size_for(int64_t frames) {
  size_t size = 512;
  while (size < (1U << 18) && int64_t(size * 3) <= frames) size *= 2;
  return size;
}

StepReading read_step(const Clip& ret, const ProbeReading& probe, const ProbeStep& step, int channel, const Job& job) {
  const double rate = probe.return_rate_hz, margin = std::min(0.1, 0.15 * step.seconds);
  StepReading reading{step, {}, {}, {}};
  SpectraOptions o;
  o.listen = Listen::one, o.channel = channel;
  o.first = int64_t(probe.fit.return_s(step.at_s + margin) * rate);
  o.last = int64_t(probe.fit.return_s(step.at_s + step.seconds - margin) * rate);
  o.fft_size = fft_size_for(o.last - o.first);
  LineOptions lines;
  for (const double hz : step.tones_hz) lines.sources_hz.push_back(hz / probe.fit.stretch);
  lines.source_rate_hz = probe.score.rate_hz / probe.fit.stretch;
  if (!step.tones_hz.empty()) lines.reference_dbfs = step.dbfs;
  reading.lines = read_lines(spectra_of(ret, o, job).average, lines);
  if (!step.tones_hz.empty() && lines.sources_hz.front() < rate / 2) {
    Planar block;
    ret.reader()->read(o.first, o.last - o.first, block);
    reading.level_dbfs = projected_dbfs(block.channel(channel), lines.sources_hz.front() / rate);
    reading.gain_db = *reading.level_dbfs - step.dbfs;
  }
  return reading;
}

[[noreturn]] void refuse_kind(const Clip& ret, const std::string& asked, const std::string& is) {
  throw InputError(ret.path(),
                   is.empty() ? "what lies between its chirps is not the probe '" + asked + "'; name the one it was"
                              : "it holds the probe '" + is + "', not '" + asked + "'; read it as '" + is + "'");
}

/// The tones of a kind that is one long step stand in the body as loud as the marks have them come.
bool stands_there(const Clip& ret, const ProbeReading& probe, const ProbeScore& score, int channel) {
  const ProbeStep& step = score.steps.front();
  const double rate = probe.return_rate_hz;
  const auto from = int64_t(probe.fit.return_s(step.at_s + 0.25 * step.seconds) * rate);
  Planar block;
  ret.reader()->read(from, int64_t(std::min(2.0, 0.5 * step.seconds) * rate), block);
  for (const double hz : step.tones_hz) {
    const double back_hz = hz / probe.fit.stretch;
    if (back_hz > 0.49 * rate) return false;
    if (projected_dbfs(block.channel(channel), back_hz / rate) < step.dbfs + probe.fit.level_db - lost_db) return false;
  }
  return true;
}

/// Probes of one step are equally long: what stands in the body tells which it is.
void check_kind_of_step(const Clip& ret, const ProbeReading& probe, int channel) {
  const auto& own = probe.score;
  if (own.steps.size() != 1 || (!own.steps.front().tones_hz.empty() && stands_there(ret, probe, own, channel))) return;
  for (const ProbeKind& kind : probe_kinds()) {
    const ProbeScore other = probe_score(kind.key, own.rate_hz);
    if (kind.key == own.kind || other.steps.size() != 1 || other.steps.front().tones_hz.empty() ||
        std::abs(other.last_mark_s - own.last_mark_s) > 0.05)
      continue;
    if (stands_there(ret, probe, other, channel)) refuse_kind(ret, own.kind, kind.key);
  }
  if (own.kind == "tone" || own.kind == "twin_tone") refuse_kind(ret, own.kind, "");
}

void check_sweep(const Clip& ret, const ProbeReading& probe, int channel, const Job& job) {
  if (probe.sweep->gain_db >= probe.fit.level_db - lost_db) return;
  const std::string other = probe.score.kind == "sweep" ? "log_sweep" : "sweep";
  SweepReadingOptions options;
  options.channel = channel, options.points = 40;
  const auto as_other = read_sweep(ret, probe_score(other, probe.score.rate_hz), probe.fit, options, job);
  refuse_kind(ret, probe.score.kind, as_other.gain_db >= probe.fit.level_db - lost_db ? other : "");
}

/// The marks of a probe for an engine may have come out of any channel.
std::optional<ProbeFit> find_in_any(const Clip& ret, const std::string& kind, const ReadOptions& options,
                                    const Job& job) {
  const auto first = find_probe(ret, kind, options.channel, job);
  if ((first && first->ends) || !probe_kind(kind)->for_engines) return first;
  for (int c = 0; c < ret.format().channels; ++c)
    if (c != options.channel)
      if (const auto other = find_probe(ret, kind, c, Job{job.stop, {}, job.threads}); other && other->ends)
        return other;
  return first;
}

void check_ends(const Clip& ret, const std::string& kind, const ProbeFit& fit, int channel, const Job& job) {
  if (fit.ends) return;
  const auto others = kinds_that_end_there(ret, channel, Job{job.stop, {}, job.threads});
  if (others.size() == 1) refuse_kind(ret, kind, others.front());
  throw InputError(ret.path(), others.empty()
                                   ? "the chirp that ends the probe '" + kind + "' is not in it; record all of it"
                                   : fmt::format("it is no probe '{}'; by its length it is one of {}", kind,
                                                 fmt::join(others, ", ")));
}

void read_engine(const Clip& ret, ProbeReading& reading, const Job& job) {
  const auto& score = reading.score;
  if (score.kind == "transit") reading.transit = read_transit(ret, score, reading.fit, job);
  if (score.kind == "gain") reading.gain = read_gain(ret, score, reading.fit, job);
  if (score.kind == "pan") reading.pan = read_pan(ret, score, reading.fit, job);
  if (score.kind == "crossfade") reading.crossfade = read_crossfade(ret, score, reading.fit, job);
  if (score.kind == "trim") reading.trim = read_trim(ret, score, reading.fit, job);
}

void read_tones(const Clip& ret, ProbeReading& reading, int channel, const Job& job) {
  if (reading.score.sweep) {
    SweepReadingOptions options;
    options.channel = channel;
    reading.sweep = read_sweep(ret, reading.score, reading.fit, options, job);
    check_sweep(ret, reading, channel, Job{job.stop, {}, job.threads});
  }
  check_kind_of_step(ret, reading, channel);
  if (!reading.score.impulses_s.empty()) reading.impulse = read_impulses(ret, reading.score, reading.fit, channel);
  for (size_t n = 0; n < reading.score.steps.size(); ++n) {
    reading.steps.push_back(read_step(ret, reading, reading.score.steps[n], channel, Job{job.stop, {}, job.threads}));
    job.report(double(n + 1) / double(reading.score.steps.size()));
  }
  if (reading.score.kind == "silence") reading.silence = read_silence(ret, reading.score, reading.fit, channel);
}

}  // namespace

ProbeReading read_probe(const Clip& ret, const std::string& kind, const ReadOptions& options, const Job& job) {
  probe_score(kind, probe_rates().back());  // refuses a kind that is none
  const auto& format = ret.format();
  check_listening(Listen::one, options.channel, format.channels);
  const auto fit = find_in_any(ret, kind, options, job.part(0, 0.2));
  if (!fit)
    throw InputError(ret.path(),
                     "the chirps that begin a probe are not in it; write the probe with 'heathmist-cli probe " + kind +
                         "', play all of it and read what came back");
  check_ends(ret, kind, *fit, options.channel, job);
  ProbeReading reading{probe_score(kind, fit->probe_rate_hz), *fit, format.sample_rate_hz, fit->at_s,
                       (fit->stretch - 1) * 1e6};
  if (options.asked_score) reading.score = with_score(reading.score, *options.asked_score);
  const Job rest = job.part(0.2, 1);
  if (probe_kind(kind)->for_engines) {
    read_engine(ret, reading, rest);
    if (reading.transit && reading.transit->identical)
      reading.delay_s = reading.transit->latency_samples / format.sample_rate_hz;
  } else {
    read_tones(ret, reading, options.channel, rest);
  }
  return reading;
}

}  // namespace heathmist
