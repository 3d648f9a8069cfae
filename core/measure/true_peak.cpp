#include "core/measure/true_peak.hpp"

#include <algorithm>
#include <cmath>

#include "core/dsp/between.hpp"

namespace heathmist {

namespace {

using dsp::BetweenSamples;

constexpr int64_t segment_frames = 1 << 16;
constexpr double least_neighbour = 0.7;  // a peak above 1 has a sample nearby that reaches this
constexpr double over_apart_s = 0.1;
constexpr size_t most_overs = 1000;

struct Peak {
  double level = 0;
  int64_t at = 0;
  int channel = 0;
};

/// Peaks above `limit` in [first, first + frames), and the greatest of all, of one channel.
/// `in` starts `before` frames ahead of `first`.
struct Scan {
  BetweenSamples between{};
  std::vector<double> gaps{};

  void run(std::span<const double> in, int64_t first, int64_t frames, int channel, double limit,
           std::vector<Peak>& over, Peak& greatest) {
    const auto x = in.subspan(BetweenSamples::before, size_t(frames));
    double top = greatest.level;
    for (const double v : x) top = std::max(top, std::abs(v));
    gaps.resize(size_t(frames));
    between.peaks(in, least_neighbour * std::min(limit, top), gaps);
    for (size_t n = 0; n < x.size(); ++n) {
      const double level = std::max(std::abs(x[n]), gaps[n]);
      if (level > greatest.level) greatest = {level, first + int64_t(n), channel};
      if (level > limit) over.push_back({level, first + int64_t(n), channel});
    }
  }
};

std::vector<Over> moments(const std::vector<std::vector<Peak>>& parts, int rate_hz) {
  std::vector<Peak> all;
  for (const auto& part : parts) all.insert(all.end(), part.begin(), part.end());
  std::stable_sort(all.begin(), all.end(), [](const Peak& a, const Peak& b) { return a.at < b.at; });
  std::vector<Over> overs;
  double last_s = -1;
  for (const Peak& p : all) {
    const double at_s = double(p.at) / rate_hz, dbtp = 20 * std::log10(p.level);
    if (overs.empty() || at_s - last_s >= over_apart_s) {
      if (overs.size() == most_overs) break;
      overs.push_back({at_s, dbtp, p.channel});
    } else if (dbtp > overs.back().dbtp) {
      overs.back() = {at_s, dbtp, p.channel};
    }
    last_s = at_s;
  }
  return overs;
}

struct State {
  std::unique_ptr<Reader> reader;
  Planar block{};
  Scan scan{};
};

void read_for(State& state, int64_t first, int64_t frames) {
  constexpr auto before = int64_t(BetweenSamples::before), after = int64_t(BetweenSamples::after);
  state.reader->read(first - before, frames + before + after, state.block);
}

}  // namespace

TruePeaks true_peaks(const Clip& clip, double limit_dbtp, const Job& job) {
  const auto& f = clip.format();
  const double limit = std::pow(10.0, limit_dbtp / 20);
  std::vector<std::vector<Peak>> parts(size_t((f.frames + segment_frames - 1) / segment_frames));
  std::vector<Peak> greatest(parts.size());
  for_each_segment(
      int64_t(parts.size()), job, [&] { return State{clip.reader()}; },
      [&](State& state, int64_t s) {
        const int64_t first = s * segment_frames, frames = std::min(segment_frames, f.frames - first);
        read_for(state, first, frames);
        for (int c = 0; c < f.channels; ++c)
          state.scan.run(state.block.channel(c), first, frames, c, limit, parts[size_t(s)], greatest[size_t(s)]);
      });
  TruePeaks result;
  const auto top = std::max_element(greatest.begin(), greatest.end(),
                                    [](const Peak& a, const Peak& b) { return a.level < b.level; });
  if (top != greatest.end() && top->level > 0)
    result.dbtp = 20 * std::log10(top->level), result.at_s = double(top->at) / f.sample_rate_hz,
    result.channel = top->channel;
  result.overs = moments(parts, f.sample_rate_hz);
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
        for (size_t i = size_t(g * group); i < std::min(loud.size(), size_t((g + 1) * group)); ++i) {
          const int64_t first = loud[i] * frames;
          read_for(state, first, frames);
          Peak unused{1, 0, 0};
          for (int c = 0; c < state.block.channels(); ++c)
            state.scan.run(state.block.channel(c), first, frames, c, 1, parts[size_t(g)], unused);
        }
      });
  return moments(parts, clip.format().sample_rate_hz);
}

}  // namespace heathmist
