#include "core/measure/meter.hpp"

#include <algorithm>
#include <cmath>
#include <deque>

#include "core/dsp/decibels.hpp"
#include "core/measure/meter_track.hpp"

namespace heathmist {

namespace {

constexpr int momentary_steps = 40, short_term_steps = 300, short_term_pieces = 30;
constexpr double absolute_gate_lufs = -70;

/// The greatest mean of a window of steps, and the step behind it.
struct Greatest {
  double mean_square = 0;
  int64_t end_step = 0;
};

class Windows {
 public:
  Windows(const StepGrid& grid, const std::vector<double>& steps) : grid_(grid), sums_(steps.size() + 1) {
    for (size_t n = 0; n < steps.size(); ++n) sums_[n + 1] = sums_[n] + steps[n];
  }
  Greatest greatest(int64_t span) const {
    Greatest top;
    for (int64_t n = span; n < int64_t(sums_.size()); ++n) {
      const double mean = this->mean(n, span);
      if (mean > top.mean_square) top = {mean, n};
    }
    return top;
  }
  int64_t steps() const { return int64_t(sums_.size()) - 1; }
  /// Of the `span` steps before step `end`.
  double mean(int64_t end, int64_t span) const {
    return (sums_[size_t(end)] - sums_[size_t(end - span)]) / double(grid_.begin(end) - grid_.begin(end - span));
  }
  double all() const { return sums_.back(); }

 private:
  const StepGrid& grid_;
  std::vector<double> sums_;
};

LoudnessPieces pieces_of(const StepGrid& grid, const std::vector<double>& energy) {
  LoudnessPieces pieces;
  for (int64_t n = 0; n + StepGrid::piece_steps <= int64_t(energy.size()); n += StepGrid::piece_steps) {
    double sum = 0;
    for (int64_t k = n; k < n + StepGrid::piece_steps; ++k) sum += energy[size_t(k)];
    pieces.push_back(sum / double(grid.begin(n + StepGrid::piece_steps) - grid.begin(n)));
  }
  return pieces;
}

/// Steps put together to pieces.
std::vector<float> piece_peaks(const std::vector<float>& steps) {
  std::vector<float> pieces((steps.size() + StepGrid::piece_steps - 1) / StepGrid::piece_steps, 0);
  for (size_t n = 0; n < steps.size(); ++n)
    pieces[n / StepGrid::piece_steps] = std::max(pieces[n / StepGrid::piece_steps], steps[n]);
  return pieces;
}

/// Every 10 ms, as the maxima are read. `peaks`: of steps; the highest of a window are held in falling order.
void find_psr(Loudness& l, const Windows& weighted, const std::vector<float>& peaks) {
  std::deque<int64_t> highest;
  for (int64_t n = 0; n < std::min(weighted.steps(), int64_t(peaks.size())); ++n) {
    while (!highest.empty() && peaks[size_t(highest.back())] <= peaks[size_t(n)]) highest.pop_back();
    highest.push_back(n);
    if (highest.front() <= n - short_term_steps) highest.pop_front();
    if (n + 1 < short_term_steps) continue;
    const auto loud = lufs(weighted.mean(n + 1, short_term_steps));
    const float peak = peaks[size_t(highest.front())];
    if (!loud || *loud < absolute_gate_lufs || peak <= 0) continue;
    const double psr = 20 * std::log10(double(peak)) - *loud;
    if (l.psr_min_db && *l.psr_min_db <= psr) continue;
    l.psr_min_db = psr;
    l.psr_min_at_s = 0.01 * double(n + 1);
  }
}

void gate(Loudness& l, const std::vector<double>& blocks, std::vector<double> short_terms) {
  const Gated gated = gated_loudness(blocks);
  l.integrated_lufs = gated.lufs;
  l.relative_gate_lufs = gated.gate_lufs;
  l.range = range_of(std::move(short_terms));
  if (l.true_peak_dbtp && l.integrated_lufs) l.plr_db = *l.true_peak_dbtp - *l.integrated_lufs;
}

}  // namespace

Loudness loudness_of(const StepGrid& grid, int channels, const MeterOptions& options,
                     const std::vector<TrackPart>& parts) {
  std::vector<double> energy, squares;
  std::vector<float> peaks;
  Loudness l;
  Peak greatest;
  double sample_peak = 0;
  Moments moments(grid.rate_hz, most_overs);
  for (const TrackPart& part : parts) {
    energy.insert(energy.end(), part.energy.begin(), part.energy.end());
    squares.insert(squares.end(), part.squares.begin(), part.squares.end());
    peaks.insert(peaks.end(), part.peaks.begin(), part.peaks.end());
    sample_peak = std::max(sample_peak, part.sample_peak);
    if (part.greatest.level > greatest.level) greatest = part.greatest;
    moments.add(part.overs);
  }
  const int heard = heard_channels(options.listen, channels);
  l.duration_s = double(grid.frames) / std::max(1, grid.rate_hz);
  l.pieces = pieces_of(grid, energy);
  l.peaks = piece_peaks(peaks);
  l.sample_peak_dbfs = dsp::db_or_nothing(sample_peak);
  l.true_peak_dbtp = dsp::db_or_nothing(greatest.level);
  l.true_peak_at_s = std::clamp(greatest.at / std::max(1, grid.rate_hz), 0.0, l.duration_s);
  l.true_peak_channel = options.listen == MeterOptions::Listen::one ? options.channel : greatest.channel;
  l.over_count = moments.count();
  l.overs = moments.overs();

  const Windows weighted(grid, energy), plain(grid, squares);
  if (const auto top = weighted.greatest(momentary_steps); top.end_step > 0)
    l.momentary_max_lufs = lufs(top.mean_square), l.momentary_max_at_s = 0.01 * double(top.end_step);
  if (const auto top = weighted.greatest(short_term_steps); top.end_step > 0)
    l.short_term_max_lufs = lufs(top.mean_square), l.short_term_max_at_s = 0.01 * double(top.end_step);
  if (grid.frames > 0) l.rms_dbfs = dsp::db_or_nothing(std::sqrt(plain.all() / double(grid.frames * heard)));
  const auto window = std::max<int64_t>(1, std::llround(options.rms_window_s * 100));
  if (const auto top = plain.greatest(window); top.end_step > 0)
    l.rms_max_dbfs = dsp::db_or_nothing(std::sqrt(top.mean_square / heard));
  if (l.sample_peak_dbfs && l.rms_dbfs) l.crest_db = *l.sample_peak_dbfs - *l.rms_dbfs;
  gate(l, window_means(l.pieces, 4), window_means(l.pieces, short_term_pieces));
  find_psr(l, weighted, peaks);
  return l;
}

Loudness measure_loudness(const Clip& clip, const MeterOptions& options, const Job& job) {
  const auto& f = clip.format();
  check_listening(options.listen, options.channel, f.channels);
  const int64_t first = std::clamp<int64_t>(options.first, 0, f.frames),
                last = options.last < 0 ? f.frames : std::clamp(options.last, first, f.frames);
  const StepGrid grid{f.sample_rate_hz, last - first};
  std::vector<TrackPart> parts(size_t(grid.segments()));
  struct State {
    std::unique_ptr<Reader> reader;
    TrackWorker worker;
    Planar block{};
  };
  for_each_segment(
      int64_t(parts.size()), job,
      [&] {
        return State{clip.reader(), TrackWorker(grid, f.channels, options)};
      },
      [&](State& state, int64_t s) {
        const int64_t from = grid.begin(s * grid.segment_steps()), to = grid.begin((s + 1) * grid.segment_steps());
        const int64_t lead = state.worker.lead_frames();
        state.reader->read(first + from - lead, to - from + lead + TrackWorker::tail_frames, state.block);
        parts[size_t(s)] = state.worker.run(state.block, s);
      });
  Loudness l = loudness_of(grid, f.channels, options, parts);
  const double offset_s = double(first) / f.sample_rate_hz;
  for (double* at : {&l.momentary_max_at_s, &l.short_term_max_at_s, &l.true_peak_at_s, &l.psr_min_at_s})
    *at += offset_s;
  for (Over& over : l.overs) over.at_s += offset_s;
  return l;
}

struct Meter::Inside {
  int rate_hz, channels;
  MeterOptions options;
  std::vector<std::vector<double>> waiting;  // from `first` on
  int64_t first = 0, given = 0;
  std::vector<TrackPart> parts{};

  StepGrid grid(int64_t frames) const { return {rate_hz, frames}; }

  /// The next segment, of a programme of so many frames.
  void run_next(const StepGrid& whole) {
    TrackWorker worker(whole, channels, options);
    const auto s = int64_t(parts.size());
    const int64_t from = whole.begin(s * whole.segment_steps()) - worker.lead_frames(),
                  to = whole.begin((s + 1) * whole.segment_steps()) + TrackWorker::tail_frames;
    Planar block(channels, to - from);
    for (int c = 0; c < channels; ++c)
      for (int64_t n = from; n < to; ++n)
        block.channel(c)[size_t(n - from)] = n >= first && n < given ? waiting[size_t(c)][size_t(n - first)] : 0;
    parts.push_back(worker.run(block, s));
    const int64_t keep = to - TrackWorker::tail_frames - worker.lead_frames(), passed = std::min(keep, given) - first;
    if (passed <= 0) return;
    for (auto& channel : waiting) channel.erase(channel.begin(), channel.begin() + passed);
    first += passed;
  }

  void run_ready() {
    const StepGrid whole = grid(given);
    while (whole.begin((int64_t(parts.size()) + 1) * whole.segment_steps()) + TrackWorker::tail_frames <= given)
      run_next(whole);
  }
};

Meter::Meter(int sample_rate_hz, int channels, const MeterOptions& options)
    : inside_(new Inside{sample_rate_hz, channels, options, std::vector<std::vector<double>>(size_t(channels))}) {
  check_listening(options.listen, options.channel, channels);
}
Meter::~Meter() = default;

/// A long block goes in by slices, so that what waits stays short.
void Meter::add(const Planar& block) {
  constexpr int64_t slice = 1 << 16;
  for (int64_t at = 0; at < block.frames(); at += slice) {
    const int64_t frames = std::min(slice, block.frames() - at);
    for (int c = 0; c < inside_->channels; ++c) {
      const auto x = block.channel(c).subspan(size_t(at), size_t(frames));
      inside_->waiting[size_t(c)].insert(inside_->waiting[size_t(c)].end(), x.begin(), x.end());
    }
    inside_->given += frames;
    inside_->run_ready();
  }
}

Loudness Meter::finish() {
  const StepGrid whole = inside_->grid(inside_->given);
  while (int64_t(inside_->parts.size()) < whole.segments()) inside_->run_next(whole);
  return loudness_of(whole, inside_->channels, inside_->options, inside_->parts);
}

Loudness album_of(const std::vector<const Loudness*>& programmes) {
  Loudness all;
  std::vector<double> blocks, short_terms;
  auto highest = [](std::optional<double>& so_far, std::optional<double> value) {
    if (value && (!so_far || *value > *so_far)) so_far = value;
  };
  for (const Loudness* l : programmes) {
    for (const auto& [span, to] : {std::pair{4, &blocks}, {short_term_pieces, &short_terms}}) {
      const auto means = window_means(l->pieces, span);
      to->insert(to->end(), means.begin(), means.end());
    }
    highest(all.true_peak_dbtp, l->true_peak_dbtp);
    highest(all.sample_peak_dbfs, l->sample_peak_dbfs);
    highest(all.momentary_max_lufs, l->momentary_max_lufs);
    highest(all.short_term_max_lufs, l->short_term_max_lufs);
    all.over_count += l->over_count;
    all.duration_s += l->duration_s;
    all.pieces.insert(all.pieces.end(), l->pieces.begin(), l->pieces.end());
    all.peaks.insert(all.peaks.end(), l->peaks.begin(), l->peaks.end());
  }
  gate(all, blocks, std::move(short_terms));
  return all;
}

std::vector<float> outline_of(const Loudness& l, size_t parts) {
  parts = std::min(parts, l.peaks.size());
  std::vector<float> outline;
  for (size_t p = 0; p < parts; ++p)
    outline.push_back(*std::max_element(l.peaks.begin() + long(p * l.peaks.size() / parts),
                                        l.peaks.begin() + long((p + 1) * l.peaks.size() / parts)));
  return outline;
}

LoudnessHistogram loudness_histogram(const LoudnessPieces& pieces, int span, double step_lu) {
  LoudnessHistogram h{absolute_gate_lufs, step_lu, std::vector<double>(size_t(std::ceil(80 / step_lu)), 0.0)};
  double count = 0;
  for (const double mean : window_means(pieces, span)) {
    const auto loud = lufs(mean);
    if (!loud || *loud < h.low_lufs) continue;
    const auto bin = std::min(h.share.size() - 1, size_t((*loud - h.low_lufs) / step_lu));
    h.share[bin] += 1;
    count += 1;
  }
  for (double& s : h.share) s /= std::max(1.0, count);
  return h;
}

}  // namespace heathmist
