#include "core/measure/bandwidth.hpp"

#include <algorithm>
#include <bit>
#include <cmath>

#include "core/dsp/median.hpp"

namespace heathmist {

namespace {

constexpr double least = 1e-18;       // -180 dB a bin: under it there is nothing but arithmetic
constexpr double arithmetic = 1e-14;  // -140 dB a bin: a decoder's rounding may ripple below that
constexpr double clear_ratio = 10.0;  // "clear of the floor": 10 dB
constexpr double flat_ratio = 1.32;   // a floor's lower and upper half differ by less than 1.2 dB
constexpr double steep_db = 90;       // an octave: what falls faster has a corner
constexpr double cliff_db = 15;       // within a twelfth of an octave, and nothing above it as high again
constexpr double least_cliff_hz = 2000;
constexpr double corner_ratio = 2.512;  // 4 dB
constexpr double end_share = 0.985;     // of half the rate: short of the converters' own last few hundred hertz

/// Mean power over +-60 Hz around every bin, never under `least`.
std::vector<double> local_means(const Spectrum& spectrum) {
  const size_t bins = spectrum.power.size(), width = std::max<size_t>(2, size_t(60 / spectrum.bin_hz));
  std::vector<double> sums(bins + 1, 0), level(bins);
  for (size_t k = 0; k < bins; ++k) sums[k + 1] = sums[k] + std::max(spectrum.power[k], least);
  for (size_t k = 0; k < bins; ++k) {
    const size_t from = k > width ? k - width : 0, to = std::min(bins, k + width + 1);
    level[k] = (sums[to] - sums[from]) / double(to - from);
  }
  return level;
}

class Band {
 public:
  explicit Band(const Spectrum& spectrum)
      : spectrum_(spectrum),
        level_(local_means(spectrum)),
        bins_(level_.size()),
        top_(size_t(double(bins_ - 1) * end_share)) {}

  bool silent() const { return *std::max_element(level_.begin(), level_.end()) <= 4 * least; }
  double hz(size_t bin) const { return double(bin) * spectrum_.bin_hz; }

  /// Where it stands clear of a flat floor at its top; where it has none, of a decoder's rounding.
  std::optional<size_t> over_floor() const {
    size_t edge = highest_above(*std::min_element(level_.begin() + long(bins_ / 20), level_.begin() + long(top_)));
    if (edge + bins_ / 50 >= top_) return over_rounding();
    const std::span<const double> rest(level_.data() + edge + (top_ - edge) / 3, (top_ - edge) * 2 / 3);
    const double low = dsp::median(rest.first(rest.size() / 2)), high = dsp::median(rest.last(rest.size() / 2));
    if (std::max(low, high) > flat_ratio * std::min(low, high)) return over_rounding();
    edge = highest_above(dsp::median(rest));
    return edge > 0 ? std::optional(edge) : std::nullopt;
  }

  /// The highest place above which all lies far under what lies just below; a band of noise, not lines with nothing
  /// between them.
  std::optional<size_t> cliff() const {
    const double step = std::exp2(1.0 / 24);
    double above = *std::max_element(level_.begin() + long(top_ * 0.99), level_.begin() + long(top_));
    size_t reached = size_t(top_ * 0.99);
    for (double at = double(top_) / step / step; hz(size_t(at)) > least_cliff_hz; at /= std::exp2(1.0 / 96)) {
      const auto from = size_t(at * step);
      for (; reached > from; --reached) above = std::max(above, level_[reached]);
      const auto low = size_t(at / std::exp2(0.25)), high = size_t(at / step);
      if (high < low + 8) break;
      if (quantile(spectrum_.power, low, high, 0.25) > std::pow(10, cliff_db / 10) * above) return from;
    }
    return {};
  }

  /// Down from a place for as long as it rises steeply, then the last place not far under the band it has come to.
  size_t corner_below(size_t from) const {
    double high = level_[from];  // the greatest from here up
    size_t at = from;
    while (at > 40) {
      const auto next = size_t(double(at) / std::exp2(1.0 / 12));
      const double before = high;
      for (size_t k = at; k > next; --k) high = std::max(high, level_[k]);
      if (10 * std::log10(high / before) < steep_db / 12) break;
      at = next;
    }
    if (at == from) return from;
    // of a band of lines the upper quartile is what they come to
    const double band = quantile(level_, size_t(double(at) / std::exp2(0.25)), at, 0.75);
    if (band < clear_ratio * level_[from]) return from;
    size_t corner = from;
    while (corner > 1 && level_[corner] < band / corner_ratio) --corner;
    return corner;
  }

 private:
  static double quantile(const std::vector<double>& of, size_t low, size_t high, double share) {
    std::vector<double> part(of.begin() + long(low), of.begin() + long(std::max(high, low + 1)));
    const auto at = part.begin() + long(share * double(part.size()));
    std::nth_element(part.begin(), at, part.end());
    return *at;
  }
  size_t highest_above(double floor) const {
    size_t edge = bins_ - 1;
    while (edge > 0 && (level_[edge] < clear_ratio * floor || spectrum_.power[edge] < clear_ratio * floor)) --edge;
    return edge;
  }
  /// Where the band does not end in a flat floor it has none, unless its top holds no more than a decoder's rounding.
  std::optional<size_t> over_rounding() const {
    const double at_top = *std::max_element(level_.begin() + long(top_ - bins_ / 10), level_.begin() + long(top_));
    if (at_top < arithmetic) return highest_above(arithmetic / clear_ratio);
    return {};
  }

  const Spectrum& spectrum_;
  std::vector<double> level_;
  size_t bins_, top_;
};

}  // namespace

std::optional<double> bandwidth_hz(const Spectrum& spectrum) {
  if (spectrum.power.size() < 64) return spectrum.bin_hz * double(spectrum.power.size() - 1);
  const Band band(spectrum);
  if (band.silent()) return {};
  const double nyquist = band.hz(spectrum.power.size() - 1);
  const auto over_floor = band.over_floor(), edge = over_floor ? over_floor : band.cliff();
  if (!edge) return nyquist;
  const double corner = band.hz(band.corner_below(*edge));
  return corner < 0.95 * nyquist ? corner : over_floor ? band.hz(*over_floor) : nyquist;
}

Spectrum band_spectrum(const Clip& clip, const Job& job, int most_blocks) {
  const auto size = std::bit_ceil(size_t(std::max(8000, clip.format().sample_rate_hz)) / 6);
  return average_spectrum(clip, std::max<size_t>(8192, size), 0, -1, most_blocks, job, 150);
}

std::optional<double> bandwidth_of(const Clip& clip, const Job& job, int most_blocks) {
  return bandwidth_hz(band_spectrum(clip, job, most_blocks));
}

}  // namespace heathmist
