#include "core/compare/causes/rest_lines.hpp"

#include <algorithm>
#include <cmath>
#include <span>

#include "core/dsp/fft.hpp"
#include "core/dsp/median.hpp"

namespace heathmist::causes {

namespace {

constexpr size_t line_fft_size = 8192, bins = line_fft_size / 2 + 1;
constexpr int64_t most_columns = 400;
constexpr size_t beside_bins = 24, beside = 2;  // bins
constexpr double rises = 4;                     // times the median of those around
constexpr double own_ratio = 10, before_s = 2;  // over what the programme had there

/// Power by column and bin.
struct Columns {
  std::vector<double> power;
  size_t count() const { return power.size() / bins; }
  std::span<const double> operator[](size_t n) const { return std::span(power).subspan(n * bins, bins); }
};

Columns columns_of(std::span<const double> x, int64_t hop) {
  dsp::RealFft<double> fft(line_fft_size);
  const auto window = dsp::hann(line_fft_size);
  Columns c;
  for (size_t at = 0; at + line_fft_size <= x.size(); at += size_t(hop)) {
    for (size_t n = 0; n < line_fft_size; ++n) fft.time()[n] = window[n] * x[at + n];
    fft.forward();
    for (size_t k = 0; k < bins; ++k) c.power.push_back(std::norm(fft.spectrum()[k]));
  }
  return c;
}

std::vector<double> mean_of(const Columns& c) {
  std::vector<double> mean(bins, 0);
  for (size_t n = 0; n < c.count(); ++n)
    for (size_t k = 0; k < bins; ++k) mean[k] += c[n][k] / double(c.count());
  return mean;
}

/// What of a bin's mean power came when the programme had nothing like it there, nor shortly before.
double own_power(const Columns& rest, const Columns& programme, size_t k, size_t before) {
  double own = 0;
  std::vector<double> had(rest.count());
  for (size_t n = 0; n < had.size(); ++n) {
    const auto near = programme[n].subspan(k - beside, 2 * beside + 1);
    had[n] = *std::max_element(near.begin(), near.end());
    const double most = *std::max_element(had.begin() + long(n - std::min(n, before)), had.begin() + long(n) + 1);
    if (rest[n][k] > own_ratio * most) own += rest[n][k];
  }
  return own / double(had.size());
}

}  // namespace

RestLines lines_in_rest(const Excerpt& e, const Planar& model) {
  const int64_t hop = std::max<int64_t>(int64_t(line_fft_size) / 2, e.frames() / most_columns);
  const auto before = size_t(std::ceil(before_s * e.rate_hz / double(hop)));
  RestLines found;
  double all = 0, lines = 0, own = 0;
  for (int p = 0; p < e.pairs(); ++p) {
    const Columns rest = columns_of(left_of(e, model, p), hop), programme = columns_of(model.channel(p), hop);
    if (rest.count() == 0) continue;
    const auto mean = mean_of(rest);
    int count = 0;
    for (size_t k = beside_bins; k + beside_bins < bins; ++k) {
      const auto at = mean.begin() + long(k);
      const double usual = dsp::median(std::vector<double>(at - long(beside_bins), at + long(beside_bins) + 1));
      all += mean[k];
      if (mean[k] <= rises * usual) continue;
      const double line = mean[k] - usual;
      lines += line, own += own_power(rest, programme, k, before) * line / mean[k];
      count += mean[k] >= mean[k - 1] && mean[k] > mean[k + 1];
    }
    found.count = std::max(found.count, count);
  }
  found.share = all > 0 ? lines / all : 0, found.own = lines > 0 ? own / lines : 0;
  return found;
}

}  // namespace heathmist::causes
