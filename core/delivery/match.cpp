#include "core/delivery/match.hpp"

#include <algorithm>
#include <cmath>

#include "core/measure/meter.hpp"

namespace heathmist {

namespace {

using Seconds = std::pair<double, double>;

LoudnessPieces within(const LoudnessPieces& pieces, double start_s, double piece_s, const Seconds& seconds) {
  auto place = [&](double at_s) {
    return std::clamp<int64_t>(std::llround((at_s - start_s) / piece_s), 0, int64_t(pieces.size()));
  };
  return {pieces.begin() + place(seconds.first),
          pieces.begin() + std::max(place(seconds.first), place(seconds.second))};
}

std::optional<double> greatest_short_term(const LoudnessPieces& pieces) {
  const auto means = window_means(pieces, std::clamp(int(pieces.size()), 1, 30));
  return means.empty() ? std::nullopt : lufs(*std::max_element(means.begin(), means.end()));
}

/// Greatest sample in dBFS between two frames.
std::optional<double> greatest_sample(const Overview& overview, double first, double last) {
  double peak = 0;
  const auto& bins = overview.finest();
  const auto from = size_t(std::max(0.0, first / Overview::bin_frames));
  for (size_t n = from; n < bins.size() && double(n) * Overview::bin_frames < last; ++n)
    peak = std::max({peak, double(bins[n].high), -double(bins[n].low)});
  return peak > 0 ? std::optional(20 * std::log10(peak)) : std::nullopt;
}

std::optional<double> loudness_of(const Clip& clip, const std::optional<Seconds>& seconds, const Job& job) {
  const ClipFormat& f = clip.format();
  const auto place = [&](double at_s) {
    return std::clamp<int64_t>(std::llround(at_s * f.sample_rate_hz), 0, f.frames);
  };
  MeterOptions options;
  if (seconds) options.first = place(seconds->first), options.last = place(seconds->second);
  if (options.last == options.first) return {};
  return measure_loudness(clip, options, job).integrated_lufs;
}

}  // namespace

std::optional<double> match_gain_db(const Clip& master, const Clip& other, const std::optional<Seconds>& seconds,
                                    const Job& job) {
  const auto m = loudness_of(master, seconds, job.part(0, 0.5)), o = loudness_of(other, seconds, job.part(0.5, 1));
  return m && o ? std::optional(*m - *o) : std::nullopt;
}

std::optional<double> match_gain_db(const NullReport& report, MatchBy by, const std::optional<Seconds>& seconds) {
  const double rate = report.master.sample_rate_hz;
  const Seconds range = seconds.value_or(Seconds{double(report.fit.first) / rate, double(report.fit.last) / rate});
  std::optional<double> master, ret;
  if (by == MatchBy::peak) {
    if (report.master_overview.empty() || report.return_overview.empty()) return {};
    const double ratio = report.ret.sample_rate_hz / rate;  // the return's overview is of its own samples
    auto place = [&](double at_s) { return report.fit.place_in_return(int64_t(at_s * rate)) * ratio; };
    master = greatest_sample(report.master_overview, range.first * rate, range.second * rate);
    ret = greatest_sample(report.return_overview, place(range.first), place(range.second));
  } else {
    const double piece_s = double(loudness_piece_frames(int(rate)) / 5 * 5) / rate,
                 start_s = double(report.sums.first) / rate;
    const auto m = within(report.sums.master_pieces, start_s, piece_s, range),
               r = within(report.sums.return_pieces, start_s, piece_s, range);
    master = by == MatchBy::integrated ? integrated_lufs(m) : greatest_short_term(m);
    ret = by == MatchBy::integrated ? integrated_lufs(r) : greatest_short_term(r);
  }
  return master && ret ? std::optional(*master - *ret) : std::nullopt;
}

}  // namespace heathmist
