#include "core/measure/meter_track.hpp"

#include <algorithm>
#include <cmath>

#include "core/dsp/interpolator.hpp"

namespace heathmist {

namespace {

using dsp::simd::Cascade16;

constexpr int64_t window_pieces = 29;      // that a window of 3 s covers whole, wherever it begins
constexpr int least_weighting_hz = 40000;  // below that the bilinear transform bends the shelf by more than 0.02 dB

std::vector<double> weights_for(int channels, const MeterOptions& o) {
  if (heard_channels(o.listen, channels) == 1) return {o.dual_mono ? 2.0 : 1.0};
  return channel_weights(channels);
}

/// For every piece the least of the greatest samples of all windows of 3 s it lies in, as far as they reach.
std::vector<double> least_window_peaks(const std::vector<double>& pieces) {
  const auto count = int64_t(pieces.size());
  std::vector<double> windows, least(pieces.size());
  for (int64_t from = 1 - window_pieces; from < count; ++from) {
    const auto first = pieces.begin() + std::max<int64_t>(0, from),
               last = pieces.begin() + std::min(count, from + window_pieces);
    windows.push_back(*std::max_element(first, last));
  }
  for (int64_t p = 0; p < count; ++p)  // window p is the first that holds piece p
    least[size_t(p)] = *std::min_element(windows.begin() + p, windows.begin() + p + window_pieces);
  return least;
}

}  // namespace

int64_t StepGrid::whole_steps() const {
  int64_t steps = frames * 100 / std::max(1, rate_hz) + 1;
  while (steps > 0 && (steps * rate_hz + 50) / 100 > frames) --steps;
  return steps;
}

int64_t StepGrid::segments() const {
  const int64_t whole = whole_steps(), all = whole + (begin(whole) < frames ? 1 : 0);
  return (all + segment_steps() - 1) / segment_steps();
}

TrackWorker::TrackWorker(const StepGrid& grid, int channels, const MeterOptions& options)
    : grid_(grid),
      options_(options),
      weights_(weights_for(channels, options)),
      limit_(std::pow(10.0, options.limit_dbtp / 20)),
      lead_(std::max<int64_t>(PeakScan::before, StepGrid::lead_steps * grid.rate_hz / 100 + 1)),
      up_(grid.rate_hz < least_weighting_hz ? (least_weighting_hz + grid.rate_hz - 1) / std::max(1, grid.rate_hz) : 1) {
}

Planar TrackWorker::raised(const Planar& block) const {
  using dsp::Interpolator;
  const int64_t places = block.frames() - Interpolator::taps + 1;
  Planar dense(block.channels(), block.frames() * up_);
  std::vector<double> between(size_t(std::max<int64_t>(0, places)));
  for (int c = 0; c < block.channels() && places > 0; ++c)
    for (int64_t k = 0; k < up_; ++k) {
      Interpolator::shift(block.channel(c), double(k) / double(up_), between);
      for (int64_t n = 0; n < places; ++n)
        dense.channel(c)[size_t((n + Interpolator::before) * up_ + k)] = between[size_t(n)];
    }
  return dense;
}

/// Eight lanes of a segment run side by side, each from 0.2 s before its start: by then the weighting has forgotten
/// that it began with nothing (its slowest pole decays by 1e-20).
void TrackWorker::weigh(const Planar& block, int64_t first_step, int64_t steps, TrackPart& part) {
  constexpr int lanes = int(StepGrid::lanes), per_run = Cascade16::width / lanes;
  part.energy.assign(size_t(steps), 0);
  const int64_t lane_steps = (steps + lanes - 1) / lanes, lead = lead_ * up_;
  const int64_t origin = grid_.begin(first_step) * up_ - lead;
  std::vector<int> channels;
  for (int c = 0; c < int(weights_.size()); ++c)
    if (weights_[size_t(c)] > 0) channels.push_back(c);
  const KWeighting weighting(double(grid_.rate_hz * up_));
  auto begin = [&](int64_t lane, int64_t step) {
    return up_ * grid_.begin(first_step + std::min(steps, lane * lane_steps + step));
  };
  for (size_t at = 0; at < channels.size(); at += per_run) {
    Cascade16 cascade{};
    std::copy_n(weighting.shelf().begin(), 5, cascade.first);
    std::copy_n(weighting.high_pass().begin(), 5, cascade.second);
    const double* in[Cascade16::width];
    double energy[Cascade16::width], extra[Cascade16::width];
    auto point = [&](int64_t step, int64_t back) {
      for (int k = 0; k < Cascade16::width; ++k) {
        const bool over = (k % lanes) * lane_steps + step >= steps;  // such a lane runs on over anything
        in[k] = block.channel(channels[std::min(at + size_t(k / lanes), channels.size() - 1)]).data() +
                (over ? 0 : begin(k % lanes, step) - back - origin);
      }
    };
    point(0, lead);
    dsp::simd::cascade_energy(cascade, in, lead, energy);
    for (int64_t s = 0; s < lane_steps; ++s) {
      int64_t most = 0, least = grid_.rate_hz * up_;
      for (int lane = 0; lane < lanes; ++lane) {
        const int64_t frames = begin(lane, s + 1) - begin(lane, s);
        most = std::max(most, frames);
        if (frames > 0) least = std::min(least, frames);
      }
      point(s, 0);
      dsp::simd::cascade_energy(cascade, in, least, energy);
      if (most > least) {  // some lanes have a frame more
        const Cascade16 before = cascade;
        for (auto& x : in) x += least;
        dsp::simd::cascade_energy(cascade, in, up_, extra);
        for (int k = 0; k < Cascade16::width; ++k) {
          if (begin(k % lanes, s + 1) - begin(k % lanes, s) > least)
            energy[k] += extra[k];
          else
            for (int i = 0; i < 4; ++i) cascade.state[i][k] = before.state[i][k];
        }
      }
      for (int k = 0; k < Cascade16::width; ++k) {
        const int64_t step = (k % lanes) * lane_steps + s;
        if (step < steps && at + size_t(k / lanes) < channels.size())
          part.energy[size_t(step)] += weights_[size_t(channels[at + size_t(k / lanes)])] * energy[k] / double(up_);
      }
    }
  }
}

void TrackWorker::squares(const Planar& block, int64_t first_step, int64_t steps, TrackPart& part) const {
  part.squares.assign(size_t(steps), 0);
  const int64_t origin = grid_.begin(first_step) - lead_;
  for (int c = 0; c < block.channels(); ++c)
    for (int64_t s = 0; s < steps; ++s) {
      const int64_t from = grid_.begin(first_step + s), to = grid_.begin(first_step + s + 1);
      if (to > from)
        part.squares[size_t(s)] += dsp::simd::summarize(&block.channel(c)[size_t(from - origin)], to - from).square_sum;
    }
}

void TrackWorker::peaks(const Planar& block, int64_t first_step, int64_t steps, TrackPart& part) {
  constexpr int64_t chunk = PeakScan::chunk;
  const int64_t begin = grid_.begin(first_step), frames = grid_.begin(first_step + steps) - begin;
  const int64_t pieces = (steps + StepGrid::piece_steps - 1) / StepGrid::piece_steps,
                chunks = (frames + chunk - 1) / chunk;
  auto step_chunk = [&](int64_t step) {
    const int64_t frame = grid_.begin(first_step + std::min(steps, step)) - begin;
    return std::min(chunks, (frame + chunk - 1) / chunk);
  };
  auto first_chunk = [&](int64_t piece) { return step_chunk(piece * StepGrid::piece_steps); };
  std::vector<std::vector<double>> tops(size_t(block.channels()), std::vector<double>(size_t(chunks)));
  std::vector<double> highest(size_t(pieces), 0.0);
  for (int c = 0; c < block.channels(); ++c) {
    auto& top = tops[size_t(c)];
    const double* x = block.channel(c).data() + lead_;
    dsp::simd::chunk_peaks(x, frames / chunk, chunk, top.data());
    for (int64_t n = frames / chunk * chunk; n < frames; ++n) top.back() = std::max(top.back(), std::abs(x[n]));
    for (int64_t p = 0; p < pieces; ++p)
      for (int64_t m = first_chunk(p); m < first_chunk(p + 1); ++m)
        highest[size_t(p)] = std::max(highest[size_t(p)], top[size_t(m)]);
  }
  const auto need = least_window_peaks(highest);
  part.peaks.assign(size_t(steps), 0);
  for (const double h : highest) part.sample_peak = std::max(part.sample_peak, h);
  for (int c = 0; c < block.channels(); ++c)
    for (int64_t s = 0; s < steps; ++s) {
      const int64_t from = step_chunk(s), to = step_chunk(s + 1);
      if (to <= from) continue;
      const Peak peak = scan_.run(block.channel(c).data() + lead_ + from * chunk,
                                  std::span(tops[size_t(c)]).subspan(size_t(from), size_t(to - from)),
                                  begin + from * chunk, c, need[size_t(s / StepGrid::piece_steps)], limit_, part.overs);
      part.peaks[size_t(s)] = std::max(part.peaks[size_t(s)], float(peak.level));
      if (peak.level > part.greatest.level) part.greatest = peak;
    }
}

TrackPart TrackWorker::run(Planar& block, int64_t segment) {
  TrackPart part;
  listen_to(block, options_.listen, options_.channel);
  const int64_t first = segment * grid_.segment_steps(), whole = grid_.whole_steps();
  const int64_t all = whole + (grid_.begin(whole) < grid_.frames ? 1 : 0);
  const int64_t loud = std::clamp<int64_t>(whole - first, 0, grid_.segment_steps());
  if (up_ > 1)
    weigh(raised(block), first, loud, part);
  else
    weigh(block, first, loud, part);
  const int64_t steps = std::clamp<int64_t>(all - first, 0, grid_.segment_steps());
  squares(block, first, steps, part);
  peaks(block, first, steps, part);
  return part;
}

}  // namespace heathmist
