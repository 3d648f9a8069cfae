#include "core/measure/spectrogram.hpp"

#include <algorithm>
#include <cmath>
#include <complex>
#include <numeric>

#include "core/dsp/fft.hpp"

namespace heathmist {

namespace {

constexpr float nothing_db = -300;
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
  }
  int channels() const { return options_.listen == MeterOptions::Listen::all ? block_.channels() : 1; }
  const std::vector<double>& window() const { return window_; }
  const std::vector<double>& ramp() const { return ramp_; }
  const std::vector<double>& slope() const { return slope_; }
  double scale() const { return scale_; }

  std::span<std::complex<double>> transform(const std::vector<double>& window, int channel) {
    using Listen = MeterOptions::Listen;
    const auto time = fft_.time();
    const bool pair = options_.listen == Listen::mid || options_.listen == Listen::side;
    const double sign = options_.listen == Listen::side ? -0.5 : 0.5;
    const int only = options_.listen == Listen::one ? options_.channel : channel;
    for (size_t n = 0; n < time.size(); ++n)
      time[n] = window[n] * (pair ? 0.5 * block_.channel(0)[n] + sign * block_.channel(1)[n] : block_.channel(only)[n]);
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

/// Puts each bin's energy at the place and frequency of its centre of gravity. `sums`: all cells.
void reassign(Transformer& t, const Grid& grid, double middle, std::vector<double>& sums) {
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
                                         (2 * 3.14159265358979323846);
      const auto column = int64_t(std::floor((frame - grid.first_frame) / grid.frames_a_column));
      const auto row = std::upper_bound(grid.bin_edges.begin(), grid.bin_edges.end(), bin) - grid.bin_edges.begin() - 1;
      if (column < 0 || column >= grid.o.columns || row < 0 || row >= grid.o.rows) continue;
      sums[size_t(column) * size_t(grid.o.rows) + size_t(row)] += power * t.scale();
    }
  }
}

void reassigned_cells(const Clip& clip, const Grid& grid, const Job& job, Spectrogram& s) {
  const double hop = std::max(double(grid.o.fft_size) / 16, grid.frames_a_column / std::max(1, grid.o.blocks));
  const auto blocks = int64_t(std::ceil(grid.frames_a_column * grid.o.columns / hop));
  constexpr int64_t group = 32;
  std::vector<std::vector<double>> parts(size_t((blocks + group - 1) / group));
  for_each_segment(
      int64_t(parts.size()), job, [&] { return std::make_unique<Transformer>(clip, grid.o); },
      [&](auto& t, int64_t n) {
        auto& own = parts[size_t(n)];
        own.assign(s.db.size(), 0);
        for (int64_t b = n * group; b < std::min(blocks, (n + 1) * group); ++b)
          reassign(*t, grid, grid.first_frame + (double(b) + 0.5) * hop, own);
      });
  std::vector<double> sums(s.db.size(), 0);
  for (const auto& own : parts)  // in order, so that threads change nothing
    for (size_t k = 0; k < own.size(); ++k) sums[k] += own[k];
  // every column is seen by so many blocks as a window is long, each with the window's power over its bins
  const double share = std::max(1.0, grid.frames_a_column / hop);
  for (size_t k = 0; k < sums.size(); ++k)
    if (sums[k] > 0) s.db[k] = std::max(nothing_db, float(10 * std::log10(sums[k] / share)));
}

void check(const Clip& clip, const SpectrogramOptions& o) {
  if (o.columns < 1 || o.rows < 1 || o.columns > 20000 || o.rows > 20000)
    throw std::invalid_argument("a spectrogram takes 1 to 20000 columns and rows");
  if (o.fft_size < 64 || o.fft_size > (1U << 20)) throw std::invalid_argument("an FFT takes 64 to 1048576 points");
  const int channels = clip.format().channels;
  using Listen = MeterOptions::Listen;
  if (o.listen == Listen::one && (o.channel < 0 || o.channel >= channels))
    throw std::invalid_argument("there is no channel " + std::to_string(o.channel + 1) + " in " +
                                std::to_string(channels));
  if ((o.listen == Listen::mid || o.listen == Listen::side) && channels != 2)
    throw std::invalid_argument("mid and side take two channels, there are " + std::to_string(channels));
}

}  // namespace

Spectrogram spectrogram_of(const Clip& clip, const SpectrogramOptions& o, const Job& job) {
  check(clip, o);
  const double rate = clip.format().sample_rate_hz, last = o.last_s > o.first_s ? o.last_s : clip.format().duration_s();
  const double high = o.high_hz > o.low_hz ? o.high_hz : rate / 2;
  Spectrogram s{o.columns, o.rows, o.first_s, last, edges(o, high), {}};
  s.db.assign(size_t(o.columns) * size_t(o.rows), nothing_db);
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
