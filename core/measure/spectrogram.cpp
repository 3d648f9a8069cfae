#include "core/measure/spectrogram.hpp"

#include <algorithm>
#include <cmath>
#include <complex>
#include <numbers>
#include <numeric>

#include "core/dsp/fft.hpp"

namespace heathmist {

namespace {

constexpr float no_tile_db = -300;
constexpr double window_db = 120;  // side lobes: a spectrogram shows no deeper

double mel(double hz) { return 2595 * std::log10(1 + hz / 700); }  // O'Shaughnessy 1987
double from_mel(double m) { return 700 * (std::pow(10, m / 2595) - 1); }

std::vector<double> edges(const SpectrogramOptions& o, double high) {
  std::vector<double> hz;
  for (int n = 0; n <= o.rows; ++n) {
    const double t = double(n) / o.rows;
    hz.push_back(o.scale == FrequencyScale::linear        ? o.low_hz + (high - o.low_hz) * t
                 : o.scale == FrequencyScale::logarithmic ? o.low_hz * std::pow(high / o.low_hz, t)
                                                          : from_mel(mel(o.low_hz) + (mel(high) - mel(o.low_hz)) * t));
  }
  return hz;
}

/// The clip's channels, or the one that is made of them, window by window.
class Transformer {
 public:
  Transformer(const Clip& clip, const SpectrogramOptions& o)
      : options_(o),
        reader_(clip.reader()),
        fft_(o.fft_size),
        window_(dsp::window_of(dsp::Window::kaiser, o.fft_size, window_db)) {
    const double sum = std::accumulate(window_.begin(), window_.end(), 0.0);
    scale_ = 4 / (sum * sum);  // a line reads its amplitude squared
    ramp_ = window_, slope_ = window_;
    const size_t size = o.fft_size;
    for (size_t n = 0; n < size; ++n) {
      ramp_[n] *= double(n) - double(size) / 2;
      slope_[n] = (window_[(n + 1) % size] - window_[(n + size - 1) % size]) / 2;
    }
  }

  void go_to(int64_t middle) {
    reader_->read(middle - int64_t(options_.fft_size / 2), int64_t(options_.fft_size), block_);
    listen_to(block_, options_.listen, options_.channel);
  }
  int channels() const { return block_.channels(); }
  const std::vector<double>& window() const { return window_; }
  const std::vector<double>& ramp() const { return ramp_; }
  const std::vector<double>& slope() const { return slope_; }
  double scale() const { return scale_; }

  std::span<std::complex<double>> transform(const std::vector<double>& window, int channel) {
    std::transform(window.begin(), window.end(), block_.channel(channel).begin(), fft_.time().begin(),
                   std::multiplies<>());
    fft_.forward();
    return fft_.spectrum();
  }

 private:
  const SpectrogramOptions& options_;
  std::unique_ptr<Reader> reader_;
  dsp::RealFft<double> fft_;
  std::vector<double> window_, ramp_, slope_;
  double scale_ = 1;
  Planar block_;
};

struct Grid {
  const SpectrogramOptions& o;
  double rate, first_frame, frames_a_column;
  std::vector<double> bin_edges;  // of the rows, in bins
};

/// The greatest bin of each row; a row between two bins reads the line from one to the other.
void pool(std::span<const double> power, const Grid& grid, float* cells) {
  const auto last = double(power.size() - 1);
  auto level = [&](double place) {
    const double at = std::clamp(place, 0.0, last), part = at - std::floor(at);
    const auto bin = size_t(at);
    return power[bin] * (1 - part) + power[std::min(bin + 1, power.size() - 1)] * part;
  };
  for (int row = 0; row < grid.o.rows; ++row) {
    const double from = grid.bin_edges[size_t(row)], to = grid.bin_edges[size_t(row) + 1];
    double most = level((from + to) / 2);
    for (auto bin = size_t(std::ceil(std::max(0.0, from))); double(bin) < std::min(to, last + 1); ++bin)
      most = std::max(most, power[bin]);
    if (most > 1e-30) cells[row] = std::max(cells[row], float(10 * std::log10(most)));
  }
}

void plain_column(Transformer& t, const Grid& grid, int column, float* cells) {
  std::vector<double> power;
  for (int b = 0; b < grid.o.blocks; ++b) {
    t.go_to(std::llround(grid.first_frame + (column + (b + 0.5) / grid.o.blocks) * grid.frames_a_column));
    for (int c = 0; c < t.channels(); ++c) {
      const auto x = t.transform(t.window(), c);
      power.resize(x.size());
      for (size_t k = 0; k < x.size(); ++k) power[k] = t.scale() * std::norm(x[k]);
      pool(power, grid, cells);
    }
  }
}

/// Cells of some columns, all rows.
struct Patch {
  int64_t first = 0;
  std::vector<double> sums{};
};

/// Puts each bin's energy at the place and frequency of its centre of gravity.
void reassign(Transformer& t, const Grid& grid, double middle, Patch& patch) {
  const auto rows = size_t(grid.o.rows);
  const auto columns = int64_t(patch.sums.size() / rows);
  t.go_to(std::llround(middle));
  for (int c = 0; c < t.channels(); ++c) {
    const auto x = t.transform(t.window(), c);
    const std::vector<std::complex<double>> plain(x.begin(), x.end());
    const auto ramp = t.transform(t.ramp(), c);
    const std::vector<std::complex<double>> timed(ramp.begin(), ramp.end());
    const auto slope = t.transform(t.slope(), c);
    for (size_t k = 1; k + 1 < plain.size(); ++k) {
      const double power = std::norm(plain[k]);
      if (power * t.scale() < 1e-16) continue;
      const double frame = middle + std::real(timed[k] * std::conj(plain[k])) / power;
      const double bin = double(k) - std::imag(slope[k] * std::conj(plain[k])) / power * double(grid.o.fft_size) /
                                         (2 * std::numbers::pi);
      const auto column = int64_t(std::floor((frame - grid.first_frame) / grid.frames_a_column)) - patch.first;
      const auto row = std::upper_bound(grid.bin_edges.begin(), grid.bin_edges.end(), bin) - grid.bin_edges.begin() - 1;
      if (column < 0 || column >= columns || row < 0 || row >= grid.o.rows) continue;
      patch.sums[size_t(column) * rows + size_t(row)] += power * t.scale();
    }
  }
}

void reassigned_cells(const Clip& clip, const Grid& grid, const Job& job, Spectrogram& s) {
  const double hop = std::max(double(grid.o.fft_size) / 16, grid.frames_a_column / std::max(1, grid.o.blocks));
  const auto reach = double(grid.o.fft_size) / 2;       // no energy is moved further than its window
  const auto before = int64_t(std::ceil(reach / hop));  // blocks beside the view, whose energy may belong into it
  const auto blocks = int64_t(std::ceil(grid.frames_a_column * grid.o.columns / hop)) + 2 * before;
  constexpr int64_t group = 32;
  std::vector<Patch> patches(size_t((blocks + group - 1) / group));
  for_each_segment(
      int64_t(patches.size()), job, [&] { return std::make_unique<Transformer>(clip, grid.o); },
      [&](auto& t, int64_t n) {
        Patch& patch = patches[size_t(n)];
        auto frame_of = [&](int64_t block) { return (double(block - before) + 0.5) * hop; };
        auto column_at = [&](double frame) {
          return std::clamp<int64_t>(int64_t(std::floor(frame / grid.frames_a_column)), 0, grid.o.columns - 1);
        };
        const int64_t from = n * group, to = std::min(blocks, (n + 1) * group);
        patch.first = column_at(frame_of(from) - reach);
        const int64_t last = column_at(frame_of(to - 1) + reach);
        patch.sums.assign(size_t(last - patch.first + 1) * size_t(grid.o.rows), 0);
        for (int64_t b = from; b < to; ++b) reassign(*t, grid, grid.first_frame + frame_of(b), patch);
      });
  std::vector<double> sums(s.db.size(), 0);
  for (const Patch& patch : patches)  // in order, so that threads change nothing
    for (size_t k = 0; k < patch.sums.size(); ++k) sums[size_t(patch.first) * size_t(grid.o.rows) + k] += patch.sums[k];
  // every column is seen by so many blocks as a window is long, each with the window's power over its bins
  const double share = std::max(1.0, grid.frames_a_column / hop);
  for (size_t k = 0; k < sums.size(); ++k)
    if (sums[k] > 0) s.db[k] = std::max(no_tile_db, float(10 * std::log10(sums[k] / share)));
}

void check(const Clip& clip, const SpectrogramOptions& o) {
  if (o.columns < 1 || o.rows < 1 || o.columns > 20000 || o.rows > 20000)
    throw std::invalid_argument("a spectrogram takes 1 to 20000 columns and rows");
  if (o.fft_size < 64 || o.fft_size > (1U << 20)) throw std::invalid_argument("an FFT takes 64 to 1048576 points");
  check_listening(o.listen, o.channel, clip.format().channels);
}

}  // namespace

Spectrogram spectrogram_of(const Clip& clip, const SpectrogramOptions& o, const Job& job) {
  check(clip, o);
  const double rate = clip.format().sample_rate_hz, last = o.last_s > o.first_s ? o.last_s : clip.format().duration_s();
  const double high = o.high_hz > o.low_hz ? o.high_hz : rate / 2;
  Spectrogram s{o.columns, o.rows, o.first_s, last, edges(o, high), {}};
  s.db.assign(size_t(o.columns) * size_t(o.rows), no_tile_db);
  Grid grid{o, rate, o.first_s * rate, (last - o.first_s) * rate / o.columns, s.edges_hz};
  for (double& edge : grid.bin_edges) edge *= double(o.fft_size) / rate;
  if (o.reassigned) {
    reassigned_cells(clip, grid, job, s);
    return s;
  }
  constexpr int group = 8;
  for_each_segment((o.columns + group - 1) / group, job, [&] { return std::make_unique<Transformer>(clip, o); },
                   [&](auto& t, int64_t n) {
                     for (int column = int(n) * group; column < std::min(o.columns, int(n + 1) * group); ++column)
                       plain_column(*t, grid, column, s.db.data() + size_t(column) * size_t(o.rows));
                   });
  return s;
}

double row_hz(const Spectrogram& s, int row) { return (s.edges_hz[size_t(row)] + s.edges_hz[size_t(row) + 1]) / 2; }

std::optional<int> row_at(const Spectrogram& s, double hz) {
  if (s.edges_hz.empty() || hz < s.edges_hz.front() || hz >= s.edges_hz.back()) return {};
  return int(std::upper_bound(s.edges_hz.begin(), s.edges_hz.end(), hz) - s.edges_hz.begin()) - 1;
}

}  // namespace heathmist
