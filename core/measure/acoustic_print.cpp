#include "core/measure/acoustic_print.hpp"

#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
#include <cstring>
#include <numbers>
#include <numeric>

#include "core/audio/cache.hpp"
#include "core/audio/fingerprint.hpp"
#include "core/dsp/fft.hpp"

namespace heathmist {

namespace {

constexpr int bands = 33;
constexpr double lowest_hz = 300, highest_hz = 2000, print_window_s = 0.37, least_rate_hz = 4800;
constexpr double least_energy = 1e-8;    // mean square in these bands below which nothing is told
constexpr int64_t stretch = 512;         // words at a time
constexpr int64_t words_together = 128;  // words that lie together
constexpr int version = 1;

/// Every `step`-th sample of what lies below 2.2 kHz.
class Decimator {
 public:
  static constexpr size_t lanes = 16;
  explicit Decimator(int rate_hz) : step_(std::max(1, int(rate_hz / least_rate_hz))) {
    const double cut = 2 * std::numbers::pi * 0.46 * least_rate_hz / rate_hz;
    taps_.resize(step_ > 1 ? size_t(12 * step_ + 1) : 1, 1.f);
    const double middle = double(taps_.size() - 1) / 2;
    double sum = 0;
    for (size_t n = 0; n < taps_.size(); ++n) {
      const double x = double(n) - middle, hann = 0.5 + 0.5 * std::cos(std::numbers::pi * x / (middle + 1));
      taps_[n] = float(hann * (x == 0 ? cut : std::sin(cut * x) / x));
      sum += double(taps_[n]);
    }
    for (float& tap : taps_) tap /= float(sum);
    reach_ = int64_t(taps_.size() / 2);
    taps_.resize((taps_.size() + lanes - 1) / lanes * lanes, 0.f);
  }
  int step() const { return step_; }
  int64_t reach() const { return reach_; }
  /// `x` begins `reach()` samples before the first output's place, and goes on as far and `lanes` more.
  void run(std::span<const float> x, std::span<float> out) const {
    for (size_t n = 0; n < out.size(); ++n) {
      const float* from = &x[n * size_t(step_)];
      std::array<float, lanes> sums{};  // side by side: one sum would wait for itself
      for (size_t k = 0; k < taps_.size(); k += lanes)
        for (size_t lane = 0; lane < lanes; ++lane) sums[lane] += taps_[k + lane] * from[k + lane];
      out[n] = std::accumulate(sums.begin(), sums.end(), 0.f);
    }
  }

 private:
  int step_;
  int64_t reach_ = 0;
  std::vector<float> taps_;  // this need not be exact: only signs are kept
};

std::vector<float> window_of(size_t size) {
  const auto hann = dsp::hann(size);
  return {hann.begin(), hann.end()};
}

using Energies = std::array<double, bands>;

/// Energies of one clip at any of its moments.
class Listener {
 public:
  explicit Listener(const Clip& clip)
      : reader_(clip.reader()),
        channels_(clip.format().channels),
        decimator_(clip.format().sample_rate_hz),
        rate_(double(clip.format().sample_rate_hz) / decimator_.step()),
        window_(window_of(size_t(print_window_s * rate_))),
        fft_(std::bit_ceil(window_.size())) {
    for (int b = 0; b <= bands; ++b)
      edges_[size_t(b)] = size_t(
          std::lround(lowest_hz * std::pow(highest_hz / lowest_hz, double(b) / bands) * double(fft_.size()) / rate_));
    for (const float w : window_) power_ += double(w) * double(w);
  }

  /// Of moments [first, first + count).
  std::vector<Energies> energies(int64_t first, int64_t count) {
    const int64_t from = start(first), until = start(first + count - 1) + int64_t(window_.size());
    const int step = decimator_.step();
    reader_->read(from * step - decimator_.reach(),
                  (until - from) * step + 2 * decimator_.reach() + 1 + int64_t(Decimator::lanes), raw_);
    std::vector<Energies> all(size_t(count), Energies{});
    low_.resize(size_t(until - from));
    for (int c = 0; c < channels_; ++c) {
      line_.assign(raw_.channel(c).begin(), raw_.channel(c).end());
      decimator_.run(line_, low_);
      for (int64_t n = 0; n < count; ++n)
        add(std::span<const float>(low_).subspan(size_t(start(first + n) - from)), all[size_t(n)]);
    }
    for (Energies& moment : all)
      for (double& e : moment) e *= 2 / (power_ * double(fft_.size()));  // mean squares
    return all;
  }

 private:
  int64_t start(int64_t moment) const { return int64_t(std::llround(double(moment) * AcousticPrint::hop_s * rate_)); }

  void add(std::span<const float> x, Energies& to) {
    const auto time = fft_.time();
    for (size_t n = 0; n < window_.size(); ++n) time[n] = window_[n] * x[n];
    std::fill(time.begin() + std::ptrdiff_t(window_.size()), time.end(), 0.f);
    fft_.forward();
    const auto bins = fft_.spectrum();
    for (size_t b = 0; b < bands; ++b) {
      float sum = 0;
      for (size_t k = edges_[b]; k < std::max(edges_[b] + 1, edges_[b + 1]); ++k)
        sum += bins[k].real() * bins[k].real() + bins[k].imag() * bins[k].imag();
      to[b] += double(sum);
    }
  }

  std::unique_ptr<Reader> reader_;
  int channels_;
  Decimator decimator_;
  double rate_, power_ = 0;
  std::vector<float> window_, low_, line_;
  dsp::RealFft<float> fft_;
  std::array<size_t, bands + 1> edges_{};
  Planar raw_;
};

uint32_t word_of(const Energies& before, const Energies& now) {
  double all = 0;
  for (const double e : now) all += e;
  if (all < least_energy) return 0;
  uint32_t word = 0;
  for (size_t b = 0; b + 1 < bands; ++b)
    if (now[b] - now[b + 1] - (before[b] - before[b + 1]) > 0) word |= uint32_t(1) << b;
  return word;
}

}  // namespace

AcousticPrint acoustic_print(const Clip& clip, const Job& job) {
  const auto moments =
      std::max<int64_t>(0, int64_t((clip.format().duration_s() - print_window_s) / AcousticPrint::hop_s));
  AcousticPrint print;
  print.words.resize(size_t(moments), 0);
  for_each_segment((moments + stretch - 1) / stretch, job, [&] { return Listener(clip); },
                   [&](Listener& listener, int64_t s) {
                     const int64_t first = s * stretch, count = std::min(stretch, moments - first);
                     const auto energies = listener.energies(first - 1, count + 1);  // before the clip there is silence
                     for (int64_t n = 0; n < count; ++n)
                       print.words[size_t(first + n)] = word_of(energies[size_t(n)], energies[size_t(n + 1)]);
                   });
  return print;
}

AcousticPrint acoustic_print_of(const std::filesystem::path& file, const Job& job) {
  const auto print = fingerprint(file);
  const std::string name = print.empty() ? print : print + ".acoustic-" + std::to_string(version);
  AcousticPrint p;
  if (const auto kept = read_cache(name); kept && kept->size() % sizeof(uint32_t) == 0) {
    p.words.resize(kept->size() / sizeof(uint32_t));
    std::memcpy(p.words.data(), kept->data(), kept->size());
    return p;
  }
  p = acoustic_print(*Clip::open(file, job.part(0, 0.5)), job.part(0.5, 1));
  write_cache(name, {reinterpret_cast<const char*>(p.words.data()), p.words.size() * sizeof(uint32_t)});
  return p;
}

PrintDistance distance(const AcousticPrint& a, const AcousticPrint& b, int64_t lag) {
  const auto size_a = std::ssize(a.words), size_b = std::ssize(b.words);
  PrintDistance d{0, 0};
  int64_t moved = 0;
  for (int64_t from = std::max<int64_t>(0, -lag); from < std::min(size_a, size_b - lag); from += words_together) {
    int64_t least = -1, words = 0, best = moved;
    for (int64_t nudge = moved - 2; nudge <= moved + 2; ++nudge) {
      int64_t errors = 0, compared = 0;
      for (int64_t n = from; n < std::min(size_a, from + words_together); ++n) {
        const int64_t m = n + lag + nudge;
        if (m < 0 || m >= size_b || a.words[size_t(n)] == 0 || b.words[size_t(m)] == 0) continue;
        errors += std::popcount(a.words[size_t(n)] ^ b.words[size_t(m)]);
        ++compared;
      }
      if (compared >= words_together / 4 && (least < 0 || errors * words < least * compared))
        least = errors, words = compared, best = nudge;
    }
    if (least < 0) continue;
    moved = best;
    d.errors += double(least), d.words += words;
  }
  d.errors = d.words > 0 ? d.errors / (32.0 * double(d.words)) : 0.5;
  return d;
}

}  // namespace heathmist
