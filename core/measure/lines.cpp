#include "core/measure/lines.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <cmath>
#include <numbers>

#include "core/dsp/window.hpp"

namespace heathmist {

namespace {

constexpr size_t line_reach = 12;  // bins on either side that a line fills
constexpr double lobe = 8;         // beyond that it holds nothing of its own power
constexpr double stands_out = 40;  // a line's highest bin against the mean around it: 16 dB
constexpr double no_line = 1e-26;  // -260 dB a bin: arithmetic
constexpr double near_bins = 1.5;  // so far a line may lie from where theory has it

double db_of(double power) { return 10 * std::log10(std::max(power, 1e-40)); }

/// Medians of neighbourhoods, made means of noise: what a bin holds where there is no line.
std::vector<double> ground_of(const std::vector<double>& power) {
  constexpr size_t step = 64, half = 160;
  const size_t bins = power.size();
  std::vector<double> at, ground(bins), part;
  for (size_t k = 0; k < bins + step; k += step) {
    const size_t from = k > half ? k - half : 0, to = std::min(bins, k + half);
    if (from >= to) break;
    part.assign(power.begin() + long(from), power.begin() + long(to));
    std::nth_element(part.begin(), part.begin() + long(part.size() / 2), part.end());
    at.push_back(part[part.size() / 2]);
  }
  for (size_t k = 0; k < bins; ++k) {
    const size_t a = std::min(k / step, at.size() - 1), b = std::min(a + 1, at.size() - 1);
    const double t = double(k % step) / double(step);
    ground[k] = std::max(no_line, at[a] * (1 - t) + at[b] * t);
  }
  return ground;
}

/// A line of the spectrum: the bins it fills, its power, and its place by the centroid of power.
struct Found {
  size_t bin = 0;
  double hz = 0, power = 0;
  double apart_bins = 0;  ///< how far two lines alike would lie apart to be as wide; 0: it is as wide as one
};

/// Mean square width of a line in bins, from the slope of the window it is seen under (Kaiser, 200 dB).
double width_of_a_line() {
  static const double width = [] {
    constexpr size_t size = 4096;
    const auto w = dsp::window_of(dsp::Window::kaiser, size, 200);
    double slope = 0, power = 0;
    for (size_t n = 0; n < size; ++n) {
      const double d = (w[(n + 1) % size] - w[(n + size - 1) % size]) / 2;
      slope += d * d, power += w[n] * w[n];
    }
    return slope / power * std::pow(double(size) / (2 * std::numbers::pi), 2);
  }();
  return width;
}

class Finder {
 public:
  Finder(const Spectrum& s) : power_(s.power), bin_hz_(s.bin_hz), ground_(ground_of(s.power)), taken_(power_.size()) {}

  /// Strongest first: each takes its bins, so that no shoulder is taken for a line.
  std::vector<Found> run(int most) {
    std::vector<size_t> peaks;
    const double leakage = 1e-19 * *std::max_element(power_.begin(), power_.end());  // the window's own side lobes
    for (size_t k = 2; k + 2 < power_.size(); ++k)
      if (power_[k] > std::max(leakage, stands_out * ground_[k]) && power_[k] >= power_[k - 1] &&
          power_[k] > power_[k + 1])
        peaks.push_back(k);
    std::sort(peaks.begin(), peaks.end(), [&](size_t a, size_t b) { return power_[a] > power_[b]; });
    std::vector<Found> all;
    for (const size_t peak : peaks)
      if (!taken_[peak] && int(all.size()) < most) all.push_back(take(peak));
    return all;
  }
  bool is_taken(size_t k) const { return taken_[k]; }
  size_t bins() const { return power_.size(); }

 private:
  Found take(size_t peak) {
    const size_t from = peak > line_reach ? peak - line_reach : 0, to = std::min(power_.size() - 1, peak + line_reach);
    Found found{peak, 0, 0};
    double moment = 0;
    for (size_t k = from; k <= to; ++k) {
      if (taken_[k]) continue;
      taken_[k] = true;
      const double own = std::max(0.0, power_[k] - ground_[k]);
      found.power += own, moment += own * double(k);
    }
    found.hz = moment / found.power * bin_hz_;
    found.apart_bins = apart(peak, from, to, moment / found.power);
    return found;
  }
  /// By how much wider it is than one line, and by a second peak on its side. Only lines that stand 40 dB out can tell.
  double apart(size_t peak, size_t from, size_t to, double middle) const {
    if (power_[peak] < 1e4 * ground_[peak]) return 0;
    double spread = 0, power = 0, second = 0;
    for (size_t k = from; k <= to; ++k) {
      const double own = std::max(0.0, power_[k] - ground_[k]), away = double(k) - middle;
      if (std::abs(away) <= lobe) spread += own * away * away, power += own;
      if (k == from || k == to || k == peak) continue;
      if (own > std::max(stands_out * ground_[k], 1e-19 * power_[peak]) && power_[k] > 1.5 * power_[k - 1] &&
          power_[k] > 1.5 * power_[k + 1])
        second = std::max(second, std::abs(away));
    }
    const double wider = spread / power - width_of_a_line();
    return std::max(second, wider > 0.02 * width_of_a_line() ? 2 * std::sqrt(wider) : 0.0);
  }
  const std::vector<double>& power_;
  double bin_hz_;
  std::vector<double> ground_;
  std::vector<bool> taken_;
};

std::string hertz(double hz) { return hz < 1000 ? fmt::format("{:.4g} Hz", hz) : fmt::format("{:.5g} kHz", hz / 1000); }

std::string ordinal(int n) {
  const char* end = n % 100 / 10 == 1 ? "th" : n % 10 == 1 ? "st" : n % 10 == 2 ? "nd" : n % 10 == 3 ? "rd" : "th";
  return fmt::format("{}{}", n, end);
}

/// Names what is not named yet, by one theory after the other.
class Namer {
 public:
  Namer(std::vector<SpectralLine>& lines, const Spectrum& s, const LineOptions& o)
      : lines_(lines), options_(o), rate_(2 * s.bin_hz * double(s.power.size() - 1)), near_(near_bins * s.bin_hz) {}

  /// Before any line is taken for a tone.
  void name_detours() {
    for (const Detour& d : options_.detours)
      for (const double source : d.sources_hz) name_landings(source, d.from_hz, d.rate_hz);
  }
  void run(const std::vector<double>& fundamentals) {
    if (options_.source_rate_hz > 0)
      for (const double source : options_.sources_hz.empty() ? fundamentals : options_.sources_hz)
        name_landings(source, options_.source_rate_hz, rate_);
    if (fundamentals.size() == 2) products(fundamentals[0], fundamentals[1]);
    if (fundamentals.size() < 3)
      for (const double f : fundamentals) harmonics(f);
    for (const double mains : {50.0, 60.0}) hum(mains);
  }

 private:
  /// The strongest unnamed line at a frequency.
  SpectralLine* at(double hz, double tolerance) {
    for (SpectralLine& l : lines_)
      if (l.kind == SpectralLine::Kind::unknown && l.name.empty() && std::abs(l.hz - hz) < tolerance) return &l;
    return nullptr;
  }
  void name_landings(double source, double from_hz, double rate_hz) {
    for (const Landing& l : landings(source, from_hz, rate_hz, 6)) {
      if (l.image == 0 && !l.folded()) continue;
      SpectralLine* line = at(l.out_hz, near_);
      if (!line) continue;
      line->kind = SpectralLine::Kind::alias, line->before_hz = l.before_hz;
      line->name = l.image == 0 || l.folded() ? fmt::format("{} folded at {}", hertz(l.before_hz), hertz(rate_hz))
                                              : fmt::format("image of {} about {}", hertz(source), hertz(from_hz));
    }
  }
  void harmonics(double f) {
    for (int m = 2; m <= 30; ++m) {
      const double hz = m * f, out = folded_hz(hz, rate_);
      SpectralLine* line = at(out, near_ + 2e-6 * hz);
      if (!line) continue;
      line->kind = SpectralLine::Kind::harmonic, line->order = m, line->before_hz = hz;
      line->name = fmt::format("{} harmonic of {}", ordinal(m), hertz(f));
      if (hz > rate_ / 2) line->name += fmt::format(", {} folded at {}", hertz(hz), hertz(rate_));
    }
  }
  void products(double f, double g) {
    for (int order = 2; order <= 7; ++order)
      for (int m = -order; m <= order; ++m) {
        const int n = order - std::abs(m);
        if (m == 0 || n == 0) continue;
        const double hz = std::abs(m * f + n * g), out = folded_hz(hz, rate_);
        SpectralLine* line = at(out, near_);
        if (!line) continue;
        line->kind = SpectralLine::Kind::intermodulation, line->order = order;
        line->name = fmt::format("product of {} order: {} x {} {} {} x {}", ordinal(order), n, hertz(g),
                                 m < 0 ? "-" : "+", std::abs(m), hertz(f));
      }
  }
  /// Mains and its harmonics: only where the mains itself or its first harmonics are there.
  void hum(double mains) {
    if (!at(mains, near_) && !at(2 * mains, near_)) return;
    for (int m = 1; m <= 12; ++m)
      if (SpectralLine* line = at(m * mains, near_)) {
        line->kind = SpectralLine::Kind::hum, line->order = m;
        line->name = m == 1 ? fmt::format("hum of {:.0f} Hz mains", mains)
                            : fmt::format("hum, {} harmonic of {:.0f} Hz mains", ordinal(m), mains);
      }
  }
  std::vector<SpectralLine>& lines_;
  const LineOptions& options_;
  double rate_, near_;
};

/// The lines that went in: those asked for, or the strongest with what lies within 20 dB of it.
std::vector<double> mark_fundamentals(std::vector<SpectralLine>& lines, const LineOptions& o, double near) {
  std::vector<double> hz;
  const auto& asked = o.fundamentals_hz.empty() ? o.sources_hz : o.fundamentals_hz;
  for (SpectralLine& l : lines) {
    if (l.kind != SpectralLine::Kind::unknown) continue;  // what came of a detour went in elsewhere
    const bool wanted = asked.empty() ? l.dbfs > lines.front().dbfs - 20 && hz.size() < 40
                                      : std::any_of(asked.begin(), asked.end(),
                                                    [&](double f) { return std::abs(f - l.hz) < near + 2e-4 * f; });
    if (!wanted) continue;
    l.kind = SpectralLine::Kind::fundamental;
    l.name = "tone of " + hertz(l.hz);
    hz.push_back(l.hz);
  }
  return hz;
}

/// Power of the strongest line at each of some frequencies, of those named products.
double products_at(const std::vector<SpectralLine>& lines, const std::vector<double>& places_hz, double near) {
  double sum = 0;
  for (const double hz : places_hz)
    for (const SpectralLine& l : lines)
      if (l.kind == SpectralLine::Kind::intermodulation && std::abs(l.hz - std::abs(hz)) < near) {
        sum += std::pow(10, l.dbfs / 10);
        break;
      }
  return sum;
}

void read_intermodulation(LineReading& r, double near) {
  std::vector<const SpectralLine*> tones;
  for (const SpectralLine& l : r.lines)
    if (l.kind == SpectralLine::Kind::fundamental) tones.push_back(&l);
  if (tones.size() != 2) return;
  if (tones[0]->hz > tones[1]->hz) std::swap(tones[0], tones[1]);
  const double low = tones[0]->hz, high = tones[1]->hz, apart_db = tones[0]->dbfs - tones[1]->dbfs;
  double power = 0, against = 0;
  if (high > 5 * low && apart_db > 3) {
    r.imd_method = Intermodulation::smpte;
    std::vector<double> sides;
    for (int n = 1; n <= 6; ++n) sides.insert(sides.end(), {high - n * low, high + n * low});
    power = products_at(r.lines, sides, near);
    against = std::pow(10, tones[1]->dbfs / 10);
  } else if (high < 2 * low && std::abs(apart_db) < 1) {
    r.imd_method = Intermodulation::difference_tone;
    const double sides = std::sqrt(products_at(r.lines, {2 * low - high}, near)) +
                         std::sqrt(products_at(r.lines, {2 * high - low}, near));
    power = products_at(r.lines, {high - low}, near) + sides * sides;
    against = std::pow(std::pow(10, tones[0]->dbfs / 20) + std::pow(10, tones[1]->dbfs / 20), 2);
  } else {
    r.imd_method = Intermodulation::all_products;
    for (const SpectralLine& l : r.lines)
      if (l.kind == SpectralLine::Kind::intermodulation) power += std::pow(10, l.dbfs / 10);
    against = std::pow(10, tones[0]->dbfs / 10) + std::pow(10, tones[1]->dbfs / 10);
  }
  if (power > 0) r.imd_db = db_of(power / against);
}

void read_noise(const Spectrum& s, const Finder& finder, const LineOptions& o, double fundamentals, double other_lines,
                LineReading& r) {
  double free = 0, weighted[3] = {0, 0, 0};
  size_t count = 0, all = 0;
  for (size_t k = 0; k < finder.bins(); ++k) {
    const double hz = double(k) * s.bin_hz;
    if (hz < o.low_hz || hz > o.high_hz) continue;
    ++all;
    if (finder.is_taken(k)) continue;
    ++count, free += s.power[k];
    for (const auto& [n, w] : {std::pair{0, Weighting::a}, {1, Weighting::k}, {2, Weighting::ccir_468}})
      weighted[n] += s.power[k] * std::pow(10, weighting_db(w, hz) / 10);
  }
  if (count == 0 || free <= 0) return;
  const double fill = double(all) / double(count), noise = free * fill;
  r.noise_dbfs = db_of(2 * noise);
  r.noise_per_root_hz_dbfs = db_of(2 * free / double(count) / s.bin_hz);
  r.noise_a_dbfs = db_of(2 * weighted[0] * fill), r.noise_k_dbfs = db_of(2 * weighted[1] * fill);
  r.noise_468_dbfs = db_of(2 * weighted[2] * fill);
  if (fundamentals <= 0) return;
  r.thd_n_db = db_of((noise + other_lines) / fundamentals);
  r.sinad_db = -*r.thd_n_db;
}

}  // namespace

const char* name_of(Intermodulation method) {
  constexpr const char* names[] = {"none", "smpte", "difference_tone", "all_products"};
  return names[int(method)];
}

const char* name_of(SpectralLine::Kind kind) {
  constexpr const char* names[] = {"fundamental", "harmonic", "intermodulation", "hum", "alias", "unknown"};
  return names[int(kind)];
}

std::string note_of(double hz) {
  if (hz < 16) return {};
  constexpr const char* names[] = {"C", "C#", "D", "D#", "E", "F", "F#", "G", "G#", "A", "A#", "B"};
  const double semitones = 69 + 12 * std::log2(hz / 440);
  const auto nearest = std::lround(semitones);
  const auto cents = std::lround(100 * (semitones - double(nearest)));
  return fmt::format("{}{} {}{} ct", names[nearest % 12], nearest / 12 - 1, cents < 0 ? "-" : "+", std::abs(cents));
}

LineReading read_lines(const Spectrum& s, const LineOptions& options) {
  LineReading r;
  if (s.power.size() < 64) return r;
  LineOptions o = options;
  o.high_hz = std::min(o.high_hz, s.bin_hz * double(s.power.size() - 1 - line_reach));
  Finder finder(s);
  double nearest = 1e9;
  for (const Found& f : finder.run(o.most_lines)) {
    r.lines.push_back({SpectralLine::Kind::unknown, f.hz, db_of(2 * f.power), 0, 0, 0, {}, f.apart_bins > 0});
    if (f.apart_bins > 0) nearest = std::min(nearest, f.apart_bins);
  }
  if (nearest < 1e9)
    r.fft_size_to_resolve = std::bit_ceil(size_t(double(2 * (s.power.size() - 1)) * (line_reach + 1) / nearest));
  std::sort(r.lines.begin(), r.lines.end(), [](const auto& a, const auto& b) { return a.dbfs > b.dbfs; });
  Namer namer(r.lines, s, o);
  namer.name_detours();
  const auto fundamentals =
      r.lines.empty() ? std::vector<double>{} : mark_fundamentals(r.lines, o, near_bins * s.bin_hz);
  namer.run(fundamentals);
  double wanted = 0, strongest = 0, harmonics = 0, others = 0, spurious = 0;
  for (const SpectralLine& l : r.lines) {
    const double power = std::pow(10, l.dbfs / 10) / 2;
    if (l.kind == SpectralLine::Kind::fundamental) {
      wanted += power, strongest = std::max(strongest, power);
      continue;
    }
    spurious = std::max(spurious, power);
    if (l.hz < o.low_hz || l.hz > o.high_hz) continue;
    others += power;
    if (l.kind == SpectralLine::Kind::harmonic) harmonics += power;
  }
  for (SpectralLine& l : r.lines) {
    l.dbr = l.dbfs - o.reference_dbfs.value_or(strongest > 0 ? db_of(2 * strongest) : r.lines.front().dbfs);
    if (l.name.empty()) l.name = "not explained";
  }
  read_noise(s, finder, o, wanted, others, r);
  if (wanted <= 0) return r;
  if (harmonics > 0) r.thd_db = db_of(harmonics / wanted);
  read_intermodulation(r, near_bins * s.bin_hz);
  if (spurious > 0) r.sfdr_db = db_of(strongest / spurious);
  if (r.sinad_db) r.equivalent_bits = (*r.sinad_db - db_of(2 * wanted) - 1.76) / 6.02;
  return r;
}

bool is_test_tone(const LineReading& r) {
  const auto tones = std::count_if(r.lines.begin(), r.lines.end(),
                                   [](const SpectralLine& l) { return l.kind == SpectralLine::Kind::fundamental; });
  return tones == 1 || tones == 2;
}

LineOptions as_return_of(const LineReading& source, double source_rate_hz) {
  LineOptions options;
  if (!is_test_tone(source)) return options;
  for (const SpectralLine& l : source.lines)  // strongest first
    if (l.kind == SpectralLine::Kind::fundamental) {
      options.sources_hz.push_back(l.hz);
      if (!options.reference_dbfs) options.reference_dbfs = l.dbfs;
    }
  options.source_rate_hz = source_rate_hz;
  return options;
}

LineReading lines_of(const Clip& clip, SpectraOptions spectra, const LineOptions& options, const Job& job) {
  spectra.window = dsp::Window::kaiser, spectra.side_lobe_db = 200;
  return read_lines(spectra_of(clip, spectra, job).average, options);
}

}  // namespace heathmist
