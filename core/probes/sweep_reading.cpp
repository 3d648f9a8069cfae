#include "core/probes/sweep_reading.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>

#include "core/dsp/fft.hpp"
#include "core/dsp/window.hpp"
#include "core/probes/probe_body.hpp"
#include "core/probes/sweep_levels.hpp"
#include "core/probes/sweep_summary.hpp"

namespace heathmist {

namespace {

using Complex = std::complex<double>;
using std::numbers::pi;
constexpr double edge_s = 0.025, beta = 26;
constexpr double least_response_db = -400;
constexpr int told_images = 4;

double response_db(double power) {
  return power > 0 ? std::max(least_response_db, 10 * std::log10(power)) : least_response_db;
}

/// One block of the return around a moment of the sweep, with the sweep's own turning beside it.
class Moment {
 public:
  /// `lag_s`: from the return's first frame to the clip's.
  Moment(const Clip& clip, double lag_s, const ProbeScore& score, const ProbeFit& fit, int channel)
      : score_(score),
        fit_(fit),
        channel_(channel),
        lag_s_(lag_s),
        rate_(clip.format().sample_rate_hz),
        size_(dsp::good_fft_size(size_t(sweep_window_s * rate_))),
        reader_(clip.reader()),
        fft_(size_),
        window_(dsp::kaiser(size_, beta)),
        turning_(size_) {
    for (const double w : window_) window_sum_ += w, window_power_ += w * w;
  }

  double window_sum() const { return window_sum_; }
  dsp::RealFft<double>& fft() { return fft_; }

  void go_to(double sweep_s) {
    sweep_s_ = sweep_s;
    const double middle_s = fit_.return_s(score_.body_s + sweep_s) - lag_s_;
    const auto first = int64_t(std::llround(middle_s * rate_)) - int64_t(size_ / 2);
    reader_->read(first, int64_t(size_), block_);
    const auto x = block_.channel(channel_);
    for (size_t n = 0; n < size_; ++n) {
      const double t = ((double(first) + double(n)) / rate_ + lag_s_ - fit_.at_s) / fit_.stretch - score_.body_s;
      turning_[n] = std::polar(1.0, -2 * pi * std::remainder(score_.sweep->cycles(t), 1.0));
      fft_.time()[n] = window_[n] * x[n];
    }
    windowed_.assign(fft_.time().begin(), fft_.time().end());
  }

  /// Powers of the second harmonic and those above it, each read by the sweep's own turning.
  std::array<double, SweepPoint::harmonics> harmonics() const {
    std::array<double, SweepPoint::harmonics> power{};
    std::vector<Complex> turning = turning_;
    for (double& p : power) {
      Complex sum = 0;
      for (size_t n = 0; n < size_; ++n) {
        turning[n] = {turning[n].real() * turning_[n].real() - turning[n].imag() * turning_[n].imag(),
                      turning[n].real() * turning_[n].imag() + turning[n].imag() * turning_[n].real()};
        sum += windowed_[n] * turning[n];
      }
      p = std::norm(sum * (2 / window_sum_));
    }
    return power;
  }

  /// Power in the block that lies near none of the harmonics, as that of a tone's amplitude squared.
  double rest() {
    fft_.forward();
    const double bin = rate_ / double(size_);
    std::vector<bool> taken(fft_.bins(), false);
    for (int m = 2; m <= SweepPoint::harmonics + 1; ++m) {
      const double reach = sweep_lobe_bins * bin + m * score_.sweep->hz_per_s(sweep_s_) * double(size_) / rate_ / 2;
      const double middle = folded_hz(m * score_.sweep->hz(sweep_s_) / fit_.stretch, rate_);
      for (auto k = int64_t((middle - reach) / bin); k <= int64_t((middle + reach) / bin) + 1; ++k) {
        auto place = size_t(std::abs(k));
        if (place >= fft_.bins()) place = 2 * (fft_.bins() - 1) - std::min(place, 2 * (fft_.bins() - 1));
        taken[place] = true;
      }
    }
    double sum = 0;
    size_t free = 0;
    for (size_t k = 0; k < fft_.bins(); ++k)
      if (!taken[k]) sum += std::norm(fft_.spectrum()[k]), ++free;
    if (free == 0) return 0;
    const double all = sum * double(fft_.bins()) / double(free);  // the covered bins are taken to hold as much
    return 4 * all / (double(size_) * window_power_);
  }

 private:
  const ProbeScore& score_;
  const ProbeFit& fit_;
  int channel_;
  double lag_s_, rate_;
  size_t size_;
  std::unique_ptr<Reader> reader_;
  dsp::RealFft<double> fft_;
  std::vector<double> window_, windowed_;
  std::vector<Complex> turning_;
  Planar block_;
  double window_sum_ = 0, window_power_ = 0, sweep_s_ = 0;
};

std::vector<double> inputs(const SweepLaw& law, int count) {
  const double margin = sweep_window_s / 2 + edge_s;
  const double low = std::max(20.0, law.hz(margin)), high = law.hz(law.seconds - margin);
  std::vector<double> hz;
  for (int n = 0; n < count; ++n) {
    const double t = double(n) / (count - 1);
    hz.push_back(law.logarithmic ? low * std::pow(high / low, t) : low + (high - low) * t);
  }
  return hz;
}

/// Where a harmonic could not be read, a straight line in dB between the nearest places where it could.
void mend_harmonics(SweepReading& reading, const SweepLevels& levels) {
  auto& points = reading.points;
  std::vector<std::array<double, SweepPoint::harmonics>> seen;
  for (const auto& p : points) seen.push_back(p.harmonic_db);
  for (size_t m = 0; m < SweepPoint::harmonics; ++m) {
    std::vector<bool> hidden(points.size());
    for (size_t n = 0; n < points.size(); ++n)
      hidden[n] = levels.harmonic_crosses(int(m) + 2, points[n].in_hz, seen[n]);
    for (size_t n = 0; n < points.size(); ++n) {
      if (!hidden[n]) continue;
      size_t low = n, high = n;
      while (low > 0 && hidden[low]) --low;
      while (high + 1 < points.size() && hidden[high]) ++high;
      if (hidden[low] && hidden[high]) continue;
      const double a = points[hidden[low] ? high : low].harmonic_db[m],
                   b = points[hidden[high] ? low : high].harmonic_db[m];
      points[n].harmonic_db[m] = a + (b - a) * (high > low ? double(n - low) / double(high - low) : 0);
    }
  }
}

}  // namespace

double SweepPoint::wanted_db() const { return response_db(std::norm(wanted)); }

SweepReading read_sweep(const Clip& ret, const ProbeScore& score, const ProbeFit& fit,
                        const SweepReadingOptions& options, const Job& job) {
  if (!score.sweep) throw std::invalid_argument("the probe '" + score.kind + "' holds no sweep");
  SweepReading reading;
  reading.from_hz = score.rate_hz;
  reading.to_hz = ret.format().sample_rate_hz;
  reading.images = distinct_images(score.rate_hz, reading.to_hz, told_images);
  const auto responses = sweep_responses(ret, score, fit, options.channel, reading.images, job.part(0, 0.7));
  for (const double hz : inputs(*score.sweep, options.points)) reading.points.push_back({hz, {}, {}, {}, 0});
  const SweepLevels levels(responses, reading, score, fit);
  const double level = std::pow(10, score.level_dbfs / 10);
  for_each_segment(
      int64_t(reading.points.size()), job.part(0.7, 1),
      [&] { return std::make_unique<Moment>(*responses.rest, responses.rest_at_s, score, fit, 0); },
      [&](auto& moment, int64_t n) {
        SweepPoint& point = reading.points[size_t(n)];
        point.wanted = levels.wanted(point.in_hz);
        for (size_t k = 0; k < reading.images.size(); ++k)
          point.image_db.push_back(k == 0 ? point.wanted_db() : response_db(levels.image_power(k, point.in_hz)));
        moment->go_to(score.sweep->at_s(point.in_hz));
        const auto harmonics = moment->harmonics();
        for (size_t m = 0; m < harmonics.size(); ++m) point.harmonic_db[m] = response_db(harmonics[m] / level);
        point.rest_db = response_db(moment->rest() / level);
      });
  mend_harmonics(reading, levels);
  summarize(reading, score, [&](double hz) { return response_db(std::norm(levels.wanted(hz))); });
  return reading;
}

AliasMap alias_map(const Clip& ret, const ProbeScore& score, const ProbeFit& fit, int columns, int rows, int channel,
                   const Job& job) {
  if (!score.sweep) throw std::invalid_argument("the probe '" + score.kind + "' holds no sweep");
  AliasMap map{columns, rows, score.rate_hz / 2.0, ret.format().sample_rate_hz / 2.0, {}};
  map.db.assign(size_t(columns) * size_t(rows), float(least_response_db));
  const double margin = sweep_window_s / 2 + edge_s, level = std::pow(10, score.level_dbfs / 20);
  for_each_segment(
      columns, job, [&] { return std::make_unique<Moment>(ret, 0, score, fit, channel); },
      [&](std::unique_ptr<Moment>& moment, int64_t column) {
        const double wanted_s = score.sweep->at_s((double(column) + 0.5) / columns * map.in_top_hz);
        moment->go_to(std::clamp(wanted_s, margin, score.sweep->seconds - margin));
        auto& fft = moment->fft();
        fft.forward();
        const double full = moment->window_sum() * level / 2;
        for (size_t k = 0; k < fft.bins(); ++k) {
          const auto row = std::min(rows - 1, int(double(k) * rows / double(fft.bins())));
          float& cell = map.db[size_t(column) * size_t(rows) + size_t(row)];
          cell = std::max(cell, float(response_db(std::norm(fft.spectrum()[k]) / (full * full))));
        }
      });
  return map;
}

}  // namespace heathmist
