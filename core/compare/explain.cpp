#include "core/compare/explain.hpp"

#include <algorithm>
#include <cmath>

#include "core/measure/lines.hpp"

namespace heathmist {

namespace {

constexpr double floor_margin = 1.41;  // +1.5 dB: residual that is no more than the floor

ClipStudy study(const Clip& clip, const Levels& levels, const Overview& overview, const Job& job) {
  ClipStudy s;
  s.words = study_words(clip, levels.bits_used.value_or(0), job.part(0, 0.3));
  s.origin = study_origin(clip, job.part(0.3, 0.5));
  s.flat_tops = find_flat_tops(clip, levels.sample_peak, job.part(0.5, 0.8));
  s.overs = find_overs(clip, overview, job.part(0.8, 1));
  return s;
}

/// Tells the remainder by the split's finer estimate, which no short window blurs.
void refine_remainder(NullReport& report, const Split& split) {
  if (split.empty()) return;
  report.sums.remainder = split.remainder_power;
  const auto coarse = on_bins_of(split.remainder, report.sums.remainder_spectrum);
  for (size_t k = 0; k < coarse.power.size(); ++k)
    report.sums.remainder_spectrum.power[k] = std::min(coarse.power[k], report.sums.residual_spectrum.power[k]);
}

void weigh_floor(Explanation& why, const NullReport& report, const Spectrum& floor) {
  why.floor = on_bins_of(floor, report.sums.residual_spectrum);
  double no_more = 0, all = 0;
  for (const auto& [low, high] : [&] {
         std::vector<std::pair<size_t, size_t>> bands;  // twelfth octaves: single bins of noise scatter too much
         const double bin_hz = report.sums.residual_spectrum.bin_hz;
         for (double hz = 20; hz < bin_hz * double(why.floor->power.size()); hz *= std::pow(2.0, 1.0 / 12))
           bands.emplace_back(size_t(hz / bin_hz),
                              std::min(why.floor->power.size(), size_t(hz * std::pow(2.0, 1.0 / 12) / bin_hz)));
         return bands;
       }()) {
    double e = 0, f = 0;
    for (size_t k = low; k < high; ++k) e += report.sums.residual_spectrum.power[k], f += why.floor->power[k];
    all += e;
    if (e <= floor_margin * f) no_more += e;
  }
  why.floor_share = all > 0 ? no_more / all : 0;
}

/// A return of another rate may fold whatever else it is; one of the same rate not where a level, a cut or a limiter
/// says it all.
bool may_fold(const NullReport& report) {
  if (report.ret.lossy) return false;
  return report.master.sample_rate_hz != report.ret.sample_rate_hz ||
         (report.kind != Kind::shifted && report.kind != Kind::level && report.kind != Kind::word_length &&
          report.kind != Kind::limited);
}

void look_for_aliases(Explanation& why, const Clip& master, const Comparable& pair, NullReport& report,
                      const Job& job) {
  if (!may_fold(report)) return;
  const int rate = report.master.sample_rate_hz;
  for (const double hz : likely_rates(rate, report.ret.sample_rate_hz)) {
    auto found = find_aliases(master, *pair.master, *pair.ret, report.fit, hz, job);
    if (!found.bands.empty()) why.aliasing.push_back(std::move(found));
  }
  std::sort(why.aliasing.begin(), why.aliasing.end(),
            [](const Aliasing& a, const Aliasing& b) { return a.power() > b.power(); });
  if (!why.aliasing.empty() && report.sums.remainder > 0)
    report.folded_share = std::min(1.0, why.aliasing.front().power() / report.sums.remainder);
}

void look_for_shaped_noise(Explanation& why, const Comparable& pair, const NullReport& report, const Job& job) {
  if (report.kind != Kind::word_length && report.kind != Kind::noise && report.kind != Kind::converted) return;
  const int lower = std::min(report.master.sample_rate_hz, report.ret.sample_rate_hz);
  const double top = (report.master.sample_rate_hz == report.ret.sample_rate_hz ? 0.475 : 0.44) * lower;
  if (!find_shaped_noise(report.sums, top, {})) return;
  SpectraOptions options;
  options.most_blocks = 100;
  std::vector<double> lines;
  for (const SpectralLine& l : lines_of(*residual_clip(pair, report.fit), options, {}, job).lines)
    lines.push_back(l.hz);
  why.shaped_noise = find_shaped_noise(report.sums, top, lines);
}

}  // namespace

Spectrum on_bins_of(const Spectrum& spectrum, const Spectrum& like) {
  Spectrum result{like.bin_hz, std::vector<double>(like.power.size(), 0)};
  const double width = like.bin_hz / spectrum.bin_hz;
  for (size_t k = 0; k < result.power.size(); ++k) {
    const double from = std::max(0.0, (double(k) - 0.5) * width + 0.5), to = (double(k) + 0.5) * width + 0.5;
    for (auto n = size_t(from); n < spectrum.power.size() && double(n) < to; ++n) {
      const double share = std::min(to, double(n + 1)) - std::max(from, double(n));
      result.power[k] += std::max(0.0, share) * spectrum.power[n];
    }
  }
  return result;
}

Explanation explain(const Clip& master, const Clip& ret, const Comparable& pair, NullReport& report,
                    const ExplainOptions& options, const Job& job) {
  Explanation why;
  why.master = study(master, report.master_levels, report.master_overview, job.part(0, 0.15));
  why.ret =
      report.identical ? why.master : study(ret, report.return_levels, report.return_overview, job.part(0.15, 0.3));
  const Clip &m = *pair.master, &r = *pair.ret;
  why.gain = gain_trace(report.sums, report.fit, m.format().sample_rate_hz);
  why.depth = third_octave_depth(report.sums);
  if (report.fit.trusted && report.sums.residual > 0) {
    why.split = split_residual(m, r, report.fit, report.sums, job.part(0.3, 0.8));
    why.bands = path_bands(why.split, 6);
    why.closest = closest_moments(report.sums.depth);
    why.mask = mask_map(m, r, report.fit, job.part(0.8, 0.95));
    why.continuity = find_breaks(m, r, report.fit, report.sums, job.part(0.95, 1));
    report.breaks = int(why.continuity.breaks.size());
    if (report.return_levels.bits_used)
      why.requantised = study_requantising(m, r, report.fit, report.sums, *report.return_levels.bits_used,
                                           Job{job.stop, {}, job.threads});
    if (options.floor) weigh_floor(why, report, *options.floor);
    refine_remainder(report, why.split);
    const Job quiet{job.stop, {}, job.threads};
    look_for_aliases(why, master, pair, report, quiet);
    if (why.aliasing.empty()) look_for_shaped_noise(why, pair, report, quiet);
  }
  report.kind = kind_of(report);
  report.findings = findings_of(report, why);
  job.report(1);
  return why;
}

}  // namespace heathmist
