#include "core/probes/read.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>

#include "core/dsp/window.hpp"

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

}  // namespace

ProbeReading read_probe(const Clip& ret, const std::string& kind, int channel, const Job& job) {
  probe_score(kind, probe_rates().back());  // refuses a kind that is none
  const auto& format = ret.format();
  check_listening(Listen::one, channel, format.channels);
  const auto fit = find_probe(ret, kind, channel, job.part(0, 0.2));
  if (!fit)
    throw InputError(ret.path(),
                     "the chirps that begin a probe are not in it; write the probe with 'heathmist-cli probe " + kind +
                         "', play all of it and read what came back");
  ProbeReading reading{probe_score(kind, fit->probe_rate_hz), *fit, format.sample_rate_hz, fit->at_s,
                       (fit->stretch - 1) * 1e6};
  if (!fit->ends)
    throw InputError(ret.path(), "the chirp that ends the probe '" + kind +
                                     "' is not where it should be; record all of it, or name the probe it was");
  const Job rest = job.part(0.2, 1);
  if (reading.score.sweep) {
    SweepReadingOptions options;
    options.channel = channel;
    reading.sweep = read_sweep(ret, reading.score, *fit, options, rest);
    if (reading.sweep->gain_db < fit->level_db - lost_db)
      throw InputError(ret.path(), "what lies between its chirps is not the probe '" + kind + "'; name the one it was");
  }
  if (!reading.score.impulses_s.empty()) reading.impulse = read_impulses(ret, reading.score, *fit, channel);
  for (size_t n = 0; n < reading.score.steps.size(); ++n) {
    reading.steps.push_back(read_step(ret, reading, reading.score.steps[n], channel, Job{job.stop, {}, job.threads}));
    rest.report(double(n + 1) / double(reading.score.steps.size()));
  }
  return reading;
}

}  // namespace heathmist
