#include "core/compare/depth.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

#include "core/dsp/fft.hpp"
#include "core/measure/masking.hpp"

namespace heathmist {

namespace {

constexpr double least_cell = 2.5e-10;     // -96 dBFS: quieter cells are no place to jump to
constexpr double least_programme = 1e-12;  // -120 dBFS: a band with less has nothing to be deep under
constexpr double full_scale_spl_db = 96;   // of a sine at full scale, as ISO 11172-3 takes it
constexpr double block_every_s = 0.05;
constexpr int64_t most_columns = 2000, segment_blocks = 256;
constexpr int64_t run_blocks = 16;  // that are read at once: between samples every read costs a transform's length

}  // namespace

std::vector<float> greatest_of(const std::vector<float>& db, int bands, int together) {
  std::vector<float> most;
  const size_t group = size_t(bands) * size_t(together);
  for (size_t at = 0; group > 0 && at < db.size(); at += group)
    for (size_t band = 0; band < size_t(bands); ++band) {
      float value = std::numeric_limits<float>::quiet_NaN();
      for (size_t k = at + band; k < std::min(db.size(), at + group); k += size_t(bands))
        value = std::fmax(value, db[k]);
      most.push_back(value);
    }
  return most;
}

std::vector<double> on_third_octaves(const std::vector<double>& hz, const std::vector<double>& of_hz,
                                     const std::vector<double>& db) {
  constexpr double same = 0.01;  // of a frequency
  std::vector<double> levels(hz.size(), -200);
  for (size_t k = 0; k < hz.size(); ++k)
    for (size_t j = 0; j < of_hz.size(); ++j)
      if (std::abs(of_hz[j] / hz[k] - 1) < same) levels[k] = db[j];
  return levels;
}

std::vector<DepthBand> third_octave_depth(const ResidualSums& sums) {
  std::vector<DepthBand> bands;
  const Spectrum& m = sums.master_spectrum;
  if (m.power.empty()) return bands;
  const double top = m.bin_hz * double(m.power.size() - 1), half = std::pow(2.0, 1.0 / 6);
  for (int n = -17; n <= 21; ++n) {
    const double centre = 1000 * std::pow(2.0, n / 3.0);
    if (centre / half >= top) break;
    if (centre * (half - 1 / half) < 2 * m.bin_hz) continue;  // narrower than the spectrum can tell
    DepthBand band{centre,
                   power_between(m, centre / half, centre * half),
                   power_between(sums.residual_spectrum, centre / half, centre * half),
                   {}};
    if (band.master > least_programme) band.depth_db = power_db(band.residual, band.master);
    bands.push_back(band);
  }
  return bands;
}

std::vector<CloseMoment> closest_moments(const DepthCells& cells, size_t most, double apart_s) {
  std::vector<CloseMoment> all;
  const int bands = cells.bands();
  for (int c = 0; c < cells.columns(); ++c) {
    double m = 0, e = 0, closest = -1e9;
    int closest_band = -1;
    for (int b = 0; b < bands; ++b) {
      const auto n = size_t(c * bands + b);
      m += double(cells.master[n]), e += double(cells.residual[n]);
      if (double(cells.residual[n]) < least_cell || cells.master[n] <= 0) continue;
      if (const double db = 10 * std::log10(double(cells.residual[n]) / double(cells.master[n])); db > closest)
        closest = db, closest_band = b;
    }
    if (closest_band < 0 || m <= 0 || e < least_cell) continue;
    all.push_back({cells.first_s + (c + 0.5) * cells.column_s, cells.band_edges_hz[size_t(closest_band)],
                   cells.band_edges_hz[size_t(closest_band) + 1], 10 * std::log10(e / m), closest});
  }
  std::stable_sort(all.begin(), all.end(), [](const auto& a, const auto& b) { return a.depth_db > b.depth_db; });
  std::vector<CloseMoment> chosen;
  for (const auto& moment : all) {
    if (chosen.size() == most) break;
    if (std::none_of(chosen.begin(), chosen.end(),
                     [&](const auto& c) { return std::abs(c.at_s - moment.at_s) < apart_s; }))
      chosen.push_back(moment);
  }
  return chosen;
}

namespace {

/// One worker of the mask map: levels of master and residual in a block, threshold of the one, bands of the other.
struct MaskWorker {
  std::unique_ptr<Reader> reader;
  ResidualReader residual;
  const Fit& fit;
  dsp::RealFft<double> fft;
  std::vector<double> window, master_power, residual_power, level;
  Planar m{}, e{};

  MaskWorker(const Clip& master, const Clip& ret, const Fit& f, int size)
      : reader(master.reader()), residual(master, ret, f), fit(f), fft(size_t(size)), window(dsp::hann(size_t(size))) {}

  void add(std::span<const double> in, std::vector<double>& power) {
    std::transform(in.begin(), in.end(), window.begin(), fft.time().begin(), std::multiplies<>());
    fft.forward();
    const double scale =
        16.0 / (double(window.size()) * double(window.size())) / double(fit.pairs.size());  // sine of 1 reads 1
    for (size_t k = 0; k < power.size(); ++k) power[k] += scale * std::norm(fft.spectrum()[k]);
  }

  void load(int64_t first, int64_t frames) {
    reader->read(first, frames, m);
    residual.read(first, frames, e);
  }

  /// Residual over mask in every band, in dB, of the block that begins at frame `at` of what is loaded.
  void block(size_t at, double bin_hz, std::span<const double> edges, std::span<float> out) {
    const size_t size = window.size();
    master_power.assign(fft.bins(), 0);
    residual_power.assign(fft.bins(), 0);
    for (size_t p = 0; p < fit.pairs.size(); ++p) {
      add(m.channel(fit.pairs[p].master).subspan(at, size), master_power);
      add(e.channel(int(p)).subspan(at, size), residual_power);
    }
    level.resize(fft.bins());
    for (size_t k = 0; k < level.size(); ++k) level[k] = full_scale_spl_db + 10 * std::log10(master_power[k] + 1e-30);
    const auto thresholds = band_thresholds_db(find_maskers(level, bin_hz), edges);
    for (size_t b = 0; b < thresholds.size(); ++b) {
      double sum = 1e-30;
      for (auto k = size_t(std::ceil(edges[b] / bin_hz));
           k < residual_power.size() && double(k) * bin_hz < edges[b + 1]; ++k)
        sum += residual_power[k] / 1.5;  // the window spreads a line's power over 1.5 bins
      out[b] = float(full_scale_spl_db + 10 * std::log10(sum) - thresholds[b]);
    }
  }
};

}  // namespace

MaskMap mask_map(const Clip& master, const Clip& ret, const Fit& fit, const Job& job) {
  MaskMap map;
  const int rate = master.format().sample_rate_hz, size = masking_block(rate);
  const auto hop = std::max<int64_t>(size / 2, std::llround(block_every_s * rate));
  const int64_t blocks = (fit.last - fit.first - size) / hop + 1;
  if (fit.last - fit.first < size) return map;
  map.band_edges_hz = critical_band_edges(rate / 2.0);
  const auto bands = size_t(map.bands());
  std::vector<float> over(size_t(blocks) * bands);
  for_each_segment((blocks + segment_blocks - 1) / segment_blocks, job,
                   [&] { return MaskWorker(master, ret, fit, size); },
                   [&](MaskWorker& worker, int64_t s) {
                     const int64_t end = std::min(blocks, (s + 1) * segment_blocks);
                     for (int64_t run = s * segment_blocks; run < end; run += run_blocks) {
                       const int64_t count = std::min(run_blocks, end - run);
                       worker.load(fit.first + run * hop, (count - 1) * hop + size);
                       for (int64_t t = run; t < run + count; ++t)
                         worker.block(size_t((t - run) * hop), double(rate) / size, map.band_edges_hz,
                                      std::span(over).subspan(size_t(t) * bands, bands));
                     }
                   });
  const int64_t each = (blocks + most_columns - 1) / most_columns, columns = (blocks + each - 1) / each;
  map.first_s = double(fit.first) / rate;
  map.column_s = double(each * hop) / rate;
  map.over_db.assign(size_t(columns) * bands, -200);
  size_t covered = 0;
  for (int64_t t = 0; t < blocks; ++t)
    for (size_t b = 0; b < bands; ++b) {
      const float db = over[size_t(t) * bands + b];
      auto& cell = map.over_db[size_t(t / each) * bands + b];
      cell = std::max(cell, db);
      covered += db < 0;
      if (double(db) > map.worst_db) {
        map.worst_db = double(db), map.worst_at_s = double(fit.first + t * hop + size / 2) / rate;
        map.worst_low_hz = map.band_edges_hz[b], map.worst_high_hz = map.band_edges_hz[b + 1];
      }
    }
  map.covered_share = double(covered) / double(over.size());
  for (size_t b = 0; b < bands; ++b) {
    std::vector<float> column;
    for (int64_t t = 0; t < blocks; ++t) column.push_back(over[size_t(t) * bands + b]);
    const auto place = column.begin() + long(double(column.size() - 1) * 0.95);
    std::nth_element(column.begin(), place, column.end());
    map.band_db.push_back(double(*place));
  }
  return map;
}

}  // namespace heathmist
