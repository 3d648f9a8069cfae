#include "core/compare/null.hpp"
#include "core/measure/bandwidth.hpp"

#include <algorithm>
#include <cmath>

#include "core/compare/manual_fit.hpp"

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

Comparable comparable(std::shared_ptr<const Clip> master, std::shared_ptr<const Clip> ret, const Job& job) {
  const int rate = master->format().sample_rate_hz, other = ret->format().sample_rate_hz;
  if (rate == other) return {master, ret};
  const double shared_hz = std::min(rate, other) / 2.0;
  auto moved = Clip::at_rate(ret, rate, job.part(0, 0.4));
  return {band_limited(*master, 0, 0.9 * shared_hz, 0.04 * shared_hz, job.part(0.4, 0.7)),
          band_limited(*moved, 0, 0.9 * shared_hz, 0.04 * shared_hz, job.part(0.7, 1))};
}

namespace {

/// A converter cuts off the ringing of what begins or ends at once: no difference of the programme.
void leave_edges(Fit& fit) {
  const int64_t edge = std::min<int64_t>(2048, (fit.last - fit.first) / 64);
  fit.first += edge, fit.last -= edge;
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
  if (report.master.sample_rate_hz != report.ret.sample_rate_hz) leave_edges(report.fit);
  report.master_bandwidth_hz = bandwidth_of(master, Job{job.stop, {}, job.threads});
  report.return_bandwidth_hz = bandwidth_of(ret, Job{job.stop, {}, job.threads});
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
