#include "core/measure/true_peak.hpp"

#include <algorithm>
#include <cmath>

#include "core/dsp/simd.hpp"
#include "core/measure/peak_scan.hpp"

namespace heathmist {

namespace {

constexpr int64_t peak_segment_frames = 1 << 16;
constexpr double least_neighbour = 0.6;  // a peak above 1 has a sample nearby that reaches this

struct State {
  std::unique_ptr<Reader> reader;
  Planar block{};
  PeakScan scan{};
  std::vector<double> sample_peaks{};

  /// Peaks above `limit` in [first, first + frames), and the greatest of all; exact from `need` on.
  Peak scan_frames(int64_t first, int64_t frames, double need, double limit, std::vector<Peak>& over) {
    const int64_t whole = (frames + PeakScan::chunk - 1) / PeakScan::chunk * PeakScan::chunk;
    reader->read(first - PeakScan::before, whole + PeakScan::before + PeakScan::after, block);
    sample_peaks.resize(size_t(whole / PeakScan::chunk));
    Peak greatest;
    for (int c = 0; c < block.channels(); ++c) {
      const double* x = block.channel(c).data() + PeakScan::before;
      dsp::simd::chunk_peaks(x, int64_t(sample_peaks.size()), PeakScan::chunk, sample_peaks.data());
      const double top = *std::max_element(sample_peaks.begin(), sample_peaks.end());
      const Peak peak = scan.run(x, sample_peaks, first, c, std::max(need, top), limit, over);
      if (peak.level > greatest.level) greatest = peak;
    }
    return greatest;
  }
};

TruePeaks put_together(std::vector<std::vector<Peak>>& parts, int rate_hz) {
  TruePeaks result;
  Moments moments(rate_hz, most_overs);
  for (auto& part : parts) moments.add(std::move(part));
  result.overs = moments.overs();
  return result;
}

}  // namespace

TruePeaks true_peaks(const Clip& clip, double limit_dbtp, const Job& job) {
  const auto& f = clip.format();
  const double limit = std::pow(10.0, limit_dbtp / 20);
  std::vector<std::vector<Peak>> parts(size_t((f.frames + peak_segment_frames - 1) / peak_segment_frames));
  std::vector<Peak> greatest(parts.size());
  for_each_segment(
      int64_t(parts.size()), job, [&] { return State{clip.reader()}; },
      [&](State& state, int64_t s) {
        const int64_t first = s * peak_segment_frames, frames = std::min(peak_segment_frames, f.frames - first);
        greatest[size_t(s)] = state.scan_frames(first, frames, 0, limit, parts[size_t(s)]);
      });
  TruePeaks result = put_together(parts, f.sample_rate_hz);
  const auto top = std::max_element(greatest.begin(), greatest.end(),
                                    [](const Peak& a, const Peak& b) { return a.level < b.level; });
  if (top != greatest.end() && top->level > 0)
    result.dbtp = 20 * std::log10(top->level), result.at_s = top->at / f.sample_rate_hz, result.channel = top->channel;
  return result;
}

std::vector<Over> find_overs(const Clip& clip, const Overview& overview, const Job& job) {
  std::vector<int64_t> loud;
  if (!overview.empty())
    for (size_t n = 0; n < overview.finest().size(); ++n)
      if (const auto& bin = overview.finest()[n]; std::max(bin.high, -bin.low) >= float(least_neighbour))
        loud.push_back(int64_t(n));
  constexpr int64_t frames = Overview::bin_frames, group = 64;
  std::vector<std::vector<Peak>> parts((loud.size() + group - 1) / group);
  for_each_segment(
      int64_t(parts.size()), job, [&] { return State{clip.reader()}; },
      [&](State& state, int64_t g) {
        for (size_t i = size_t(g * group); i < std::min(loud.size(), size_t((g + 1) * group)); ++i)
          state.scan_frames(loud[i] * frames, frames, 1, 1, parts[size_t(g)]);
      });
  return put_together(parts, clip.format().sample_rate_hz).overs;
}

}  // namespace heathmist
