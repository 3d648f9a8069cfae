#include "core/probes/sweep_reading.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>

#include "core/dsp/fft.hpp"
#include "core/dsp/window.hpp"
#include "core/probes/sweep_summary.hpp"

namespace heathmist {

namespace {

using Complex = std::complex<double>;
constexpr double pi = std::numbers::pi;
constexpr double window_s = 0.085, edge_s = 0.025, beta = 26;
constexpr double lobe = 9;  // bins from a line's middle to where the window's leakage lies under -190 dB
constexpr double least_db = -400;
constexpr int told_images = 4, known_images = 40;  // the higher ones are asked for where they cross a lower one

double db_of(double power) { return power > 0 ? std::max(least_db, 10 * std::log10(power)) : least_db; }

/// A component of the return: a multiple of the sweep's phase, and a distance in frequency (Hz of the return's time).
struct Component {
  int multiple = 1;
  double apart_hz = 0;
  bool slope = false;  ///< weighed by time, from -1 to 1 over the block: how a component's level changes meanwhile
};

/// One block of the return around a moment of the sweep, with the sweep's own turning beside it.
class Moment {
 public:
  Moment(const Clip& ret, const ProbeScore& score, const ProbeFit& fit, int channel)
      : score_(score),
        fit_(fit),
        channel_(channel),
        rate_(ret.format().sample_rate_hz),
        size_(dsp::good_fft_size(size_t(window_s * rate_))),
        reader_(ret.reader()),
        fft_(size_),
        window_(dsp::kaiser(size_, beta)),
        turning_(size_) {
    for (const double w : window_) window_sum_ += w, window_power_ += w * w;
  }

  size_t size() const { return size_; }
  double window_power() const { return window_power_; }
  double window_sum() const { return window_sum_; }
  dsp::RealFft<double>& fft() { return fft_; }

  void go_to(double sweep_s) {
    sweep_s_ = sweep_s;
    const double middle_s = fit_.return_s(score_.body_s + sweep_s);
    const auto first = int64_t(std::llround(middle_s * rate_)) - int64_t(size_ / 2);
    reader_->read(first, int64_t(size_), block_);
    const auto x = block_.channel(channel_);
    for (size_t n = 0; n < size_; ++n) {
      const double t = ((double(first) + double(n)) / rate_ - fit_.at_s) / fit_.stretch - score_.body_s;
      turning_[n] = std::polar(1.0, -2 * pi * std::remainder(score_.sweep->cycles(t), 1.0));
      fft_.time()[n] = window_[n] * x[n];
    }
    windowed_.assign(fft_.time().begin(), fft_.time().end());
    start_s_ = double(first) / rate_ - fit_.return_s(score_.body_s);
  }

  /// Frequency of a component in the return, signed and not folded, and how fast it moves.
  double hz(const Component& c) const { return c.multiple * score_.sweep->hz(sweep_s_) / fit_.stretch + c.apart_hz; }
  double pace(const Component& c) const { return c.multiple * score_.sweep->hz_per_s(sweep_s_); }

  /// exp(-j phase) of a component at every sample of the block.
  void turning_of(const Component& c, std::vector<Complex>& out) const {
    out.resize(size_);
    const Complex step = std::polar(1.0, -2 * pi * std::remainder(c.apart_hz / rate_, 1.0));
    Complex carrier = 1;
    for (size_t n = 0; n < size_; ++n) {
      if (n % 256 == 0)
        carrier = std::polar(1.0, -2 * pi * std::remainder(c.apart_hz * (start_s_ + double(n) / rate_), 1.0));
      Complex z = turning_[n];
      for (int m = 1; m < c.multiple; ++m) z = times(z, turning_[n]);
      out[n] = times(z, carrier);
      if (c.slope) out[n] *= 2 * double(n) / double(size_) - 1;
      carrier = times(carrier, step);
    }
  }

  /// Amplitude of what turns so: 2 / sum(w) * sum(w x exp(-j phase)).
  Complex amplitude(const std::vector<Complex>& turning) const {
    double re = 0, im = 0;
    for (size_t n = 0; n < size_; ++n) re += windowed_[n] * turning[n].real(), im += windowed_[n] * turning[n].imag();
    return Complex(re, im) * (2 / window_sum_);
  }

  /// How much of one component is seen in another's place: as they are, or one of them mirrored.
  Complex overlap(const std::vector<Complex>& a, const std::vector<Complex>& b, bool mirrored) const {
    Complex sum = 0;
    for (size_t n = 0; n < size_; ++n) sum += window_[n] * times(a[n], mirrored ? b[n] : std::conj(b[n]));
    return sum / window_sum_;
  }

  /// So near that one leaks into the other, in the direction asked for.
  bool touch(const Component& a, const Component& b, bool mirrored) const {
    const double sign = mirrored ? -1 : 1;
    const double apart = std::abs(std::remainder(hz(a) - sign * hz(b), rate_));
    return apart < lobe * rate_ / double(size_) + std::abs(pace(a) - sign * pace(b)) * double(size_) / rate_ / 2;
  }

  double rate() const { return rate_; }

 private:
  static Complex times(const Complex& a, const Complex& b) {  // without the standard's care for infinities
    return {a.real() * b.real() - a.imag() * b.imag(), a.real() * b.imag() + a.imag() * b.real()};
  }
  const ProbeScore& score_;
  const ProbeFit& fit_;
  int channel_;
  double rate_;
  size_t size_;
  std::unique_ptr<Reader> reader_;
  dsp::RealFft<double> fft_;
  std::vector<double> window_, windowed_;
  std::vector<Complex> turning_;
  Planar block_;
  double window_sum_ = 0, window_power_ = 0, sweep_s_ = 0, start_s_ = 0;
};

/// Solves a x = b by elimination with pivots; both are spoiled. Small and dense.
std::vector<Complex> solved(std::vector<std::vector<Complex>> a, std::vector<Complex> b) {
  const size_t n = b.size();
  for (size_t k = 0; k < n; ++k) {
    size_t best = k;
    for (size_t r = k + 1; r < n; ++r)
      if (std::abs(a[r][k]) > std::abs(a[best][k])) best = r;
    std::swap(a[k], a[best]), std::swap(b[k], b[best]);
    if (std::abs(a[k][k]) < 1e-9) continue;
    for (size_t r = k + 1; r < n; ++r) {
      const Complex part = a[r][k] / a[k][k];
      if (part == 0.0) continue;
      for (size_t c = k; c < n; ++c) a[r][c] -= part * a[k][c];
      b[r] -= part * b[k];
    }
  }
  for (size_t k = n; k-- > 0;) {
    for (size_t c = k + 1; c < n; ++c) b[k] -= a[k][c] * b[c];
    b[k] = std::abs(a[k][k]) < 1e-9 ? 0 : b[k] / a[k][k];
  }
  return b;
}

/// Amplitudes of all components at the moment. The unknowns are each one's amplitude and its mirror's (the conjugate):
/// only where two touch do they ask for each other. Slopes are asked for only then.
std::vector<Complex> amplitudes(const Moment& moment, const std::vector<Component>& parts,
                                std::vector<std::vector<Complex>>& turnings) {
  const size_t count = parts.size();
  turnings.resize(count);
  std::vector<Complex> seen(count);
  for (size_t k = 0; k < count; ++k) {
    moment.turning_of(parts[k], turnings[k]);
    seen[k] = moment.amplitude(turnings[k]);
  }
  bool alone = true;
  std::vector<std::vector<Complex>> how(2 * count, std::vector<Complex>(2 * count, 0));
  std::vector<Complex> told(2 * count);
  for (size_t i = 0; i < count; ++i) {
    told[i] = seen[i], told[count + i] = std::conj(seen[i]);
    for (size_t k = 0; k < count; ++k) {
      const bool straight = moment.touch(parts[i], parts[k], false), mirror = moment.touch(parts[i], parts[k], true);
      alone = alone && (i == k || !straight || parts[i].slope || parts[k].slope) && !mirror;
      const Complex s = straight ? moment.overlap(turnings[i], turnings[k], false) : Complex(0);
      const Complex m = mirror ? moment.overlap(turnings[i], turnings[k], true) : Complex(0);
      how[i][k] = s, how[i][count + k] = m;
      how[count + i][count + k] = std::conj(s), how[count + i][k] = std::conj(m);
    }
  }
  if (alone) return seen;
  auto x = solved(std::move(how), std::move(told));
  x.resize(count);
  return x;
}

/// Power in the block that lies near none of the components, as that of a tone's amplitude squared.
double rest_of(Moment& moment, const std::vector<Component>& parts) {
  auto& fft = moment.fft();
  fft.forward();
  const double bin = moment.rate() / double(moment.size());
  std::vector<bool> taken(fft.bins(), false);
  for (const Component& c : parts) {
    const double reach = lobe * bin + std::abs(moment.pace(c)) * double(moment.size()) / moment.rate() / 2;
    const double middle = folded_hz(moment.hz(c), moment.rate());
    for (auto k = int64_t((middle - reach) / bin); k <= int64_t((middle + reach) / bin) + 1; ++k) {
      auto place = size_t(std::abs(k));
      if (place >= fft.bins()) place = 2 * (fft.bins() - 1) - std::min(place, 2 * (fft.bins() - 1));
      taken[place] = true;
    }
  }
  double sum = 0;
  size_t free = 0;
  for (size_t k = 0; k < fft.bins(); ++k)
    if (!taken[k]) sum += std::norm(fft.spectrum()[k]), ++free;
  if (free == 0) return 0;
  const double all = sum * double(fft.bins()) / double(free);  // the covered bins are taken to hold as much
  return 4 * all / (double(moment.size()) * moment.window_power());
}

}  // namespace

double SweepPoint::wanted_db() const { return db_of(std::norm(wanted)); }

namespace {

std::vector<double> inputs(const SweepLaw& law, int count) {
  const double margin = window_s / 2 + edge_s;
  const double low = std::max(20.0, law.hz(margin)), high = law.hz(law.seconds - margin);
  std::vector<double> hz;
  for (int n = 0; n < count; ++n) {
    const double t = double(n) / (count - 1);
    hz.push_back(law.logarithmic ? low * std::pow(high / low, t) : low + (high - low) * t);
  }
  return hz;
}

constexpr size_t sloping = 3;  // the wanted line and its nearest images are steep enough to disturb what they cross

Component image_of(int k, double from_hz, double to_hz) { return {1, std::remainder(k * from_hz, to_hz)}; }

std::vector<Component> components(const SweepReading& reading, double from_hz) {
  std::vector<Component> parts;
  for (const int k : reading.images) parts.push_back(image_of(k, from_hz, reading.to_hz));
  for (int m = 2; m <= SweepPoint::harmonics + 1; ++m) parts.push_back({m, 0});
  for (size_t k = 0; k < std::min(sloping, reading.images.size()); ++k) {
    parts.push_back(parts[k]);
    parts.back().slope = true;
  }
  return parts;
}

/// Reads one frequency after the other, in any order. Not to be shared by threads.
class SweepReader {
 public:
  SweepReader(const Clip& ret, const ProbeScore& score, const ProbeFit& fit, int channel, std::vector<Component> parts,
              size_t images, std::vector<Component> higher)
      : moment_(ret, score, fit, channel),
        law_(*score.sweep),
        level_(std::pow(10, score.level_dbfs / 20)),
        parts_(std::move(parts)),
        higher_(std::move(higher)),
        images_(images) {}

  SweepPoint at(double hz) {
    SweepPoint point;
    point.in_hz = hz;
    moment_.go_to(law_.at_s(hz));
    auto parts = parts_;
    for (const Component& c : higher_)
      if (std::any_of(parts_.begin(), parts_.begin() + long(images_), [&](const Component& told) {
            return moment_.touch(c, told, false) || moment_.touch(c, told, true);
          }))
        parts.push_back(c);
    const auto found = amplitudes(moment_, parts, turnings_);
    point.wanted = found[0] / level_ * Complex(0, 1);  // a sine went in
    for (size_t k = 0; k < images_; ++k) point.image_db.push_back(db_of(std::norm(found[k] / level_)));
    for (size_t m = 0; m < SweepPoint::harmonics; ++m)
      point.harmonic_db[m] = db_of(std::norm(found[images_ + m] / level_));
    point.rest_db = db_of(rest_of(moment_, parts_) / (level_ * level_));
    return point;
  }

 private:
  Moment moment_;
  const SweepLaw& law_;
  double level_;
  std::vector<Component> parts_, higher_;
  size_t images_;
  std::vector<std::vector<Complex>> turnings_;
};

}  // namespace

SweepReading read_sweep(const Clip& ret, const ProbeScore& score, const ProbeFit& fit,
                        const SweepReadingOptions& options, const Job& job) {
  if (!score.sweep) throw std::invalid_argument("the probe '" + score.kind + "' holds no sweep");
  SweepReading reading;
  reading.from_hz = score.rate_hz;
  reading.to_hz = ret.format().sample_rate_hz;
  // which images fall together is told by the rates as they were meant, where they lie by how fast it ran
  const double from = score.rate_hz / fit.stretch;
  reading.images = distinct_images(score.rate_hz, reading.to_hz, told_images);
  const auto parts = components(reading, from);
  std::vector<Component> higher;
  for (const int k : distinct_images(score.rate_hz, reading.to_hz, known_images))
    if (std::abs(k) > told_images) higher.push_back(image_of(k, from, reading.to_hz));
  const auto hz = inputs(*score.sweep, options.points);
  reading.points.resize(hz.size());
  auto reader = [&] {
    return std::make_unique<SweepReader>(ret, score, fit, options.channel, parts, reading.images.size(), higher);
  };
  for_each_segment(int64_t(hz.size()), job, reader,
                   [&](auto& own, int64_t n) { reading.points[size_t(n)] = own->at(hz[size_t(n)]); });
  const auto own = reader();
  summarize(reading, score, [&](double f) { return own->at(f).wanted_db(); });
  return reading;
}

AliasMap alias_map(const Clip& ret, const ProbeScore& score, const ProbeFit& fit, int columns, int rows, int channel,
                   const Job& job) {
  if (!score.sweep) throw std::invalid_argument("the probe '" + score.kind + "' holds no sweep");
  AliasMap map{columns, rows, score.rate_hz / 2.0, ret.format().sample_rate_hz / 2.0, {}};
  map.db.assign(size_t(columns) * size_t(rows), float(least_db));
  const double margin = window_s / 2 + edge_s, level = std::pow(10, score.level_dbfs / 20);
  for_each_segment(
      columns, job, [&] { return std::make_unique<Moment>(ret, score, fit, channel); },
      [&](std::unique_ptr<Moment>& moment, int64_t column) {
        const double wanted_s = score.sweep->at_s((double(column) + 0.5) / columns * map.in_top_hz);
        moment->go_to(std::clamp(wanted_s, margin, score.sweep->seconds - margin));
        auto& fft = moment->fft();
        fft.forward();
        const double full = moment->window_sum() * level / 2;
        for (size_t k = 0; k < fft.bins(); ++k) {
          const auto row = std::min(rows - 1, int(double(k) * rows / double(fft.bins())));
          float& cell = map.db[size_t(column) * size_t(rows) + size_t(row)];
          cell = std::max(cell, float(db_of(std::norm(fft.spectrum()[k]) / (full * full))));
        }
      });
  return map;
}

}  // namespace heathmist
