#include "core/compare/causes/echo_places.hpp"

#include <cmath>
#include <complex>

#include "core/compare/causes/excerpt.hpp"
#include "core/dsp/fft.hpp"
#include "core/dsp/median.hpp"

namespace heathmist::causes {

namespace {

constexpr double most_late_s = 3, most_of_read = 0.6;
constexpr double least_echo_s = 0.0015;  // nearer ones are an EQ's comb
constexpr double stands_out = 12;        // times the median of the response around
constexpr double least_level = 1e-4;
constexpr double least_bin_power = 1e-7;  // of the mean: bins with less say nothing
constexpr double least_repeat = 0.95;     // of what a gain leaves: where a repeat leaves so much it is none
constexpr size_t most_by_repeat = 2, most_peaks = 4;

/// What turns the model into what is left, by division of the spectra of all of it. Single precision tells where
/// something is, for half the work.
std::vector<float> response_of(std::span<const double> model, std::span<const double> left) {
  dsp::RealFft<float> fft(2 * dsp::good_fft_size(std::max<size_t>(2048, model.size() * 5 / 8)));
  const auto transform = [&](std::span<const double> x) {
    const auto end = std::transform(x.begin(), x.end(), fft.time().begin(), [](double v) { return float(v); });
    std::fill(end, fft.time().end(), 0.f);
    fft.forward();
  };
  transform(model);
  const std::vector<std::complex<float>> by(fft.spectrum().begin(), fft.spectrum().end());
  double power = 0;
  for (const auto& x : by) power += double(std::norm(x)) / double(by.size());
  transform(left);
  const auto least = float(least_bin_power * power), scale = float(1 / double(fft.size()));
  for (size_t k = 0; k < by.size(); ++k) {
    const auto x = by[k], y = fft.spectrum()[k];  // conj(x) y
    const float over = scale / (std::norm(x) + least);
    fft.spectrum()[k] = {over * (x.real() * y.real() + x.imag() * y.imag()),
                         over * (x.real() * y.imag() - x.imag() * y.real())};
  }
  fft.inverse();
  return {fft.time().begin(), fft.time().end()};
}

/// Places among the first `reach` where the response stands out.
std::vector<int64_t> peaks(const std::vector<double>& h, double rate) {
  const auto least = int64_t(least_echo_s * rate), around = TapFit::around;
  if (std::ssize(h) < least + 100) return {};
  std::vector<double> sizes(h.begin() + least, h.end());
  for (double& v : sizes) v = std::abs(v);
  const double floor = std::max(least_level, stands_out * dsp::median(sizes));
  std::vector<int64_t> found;
  double first = 0;
  for (size_t round = 0; round < most_peaks; ++round) {
    const auto best = std::max_element(sizes.begin(), sizes.end());
    if (*best < floor || *best < 0.02 * first) break;
    first = std::max(first, *best);
    const int64_t at = best - sizes.begin();
    found.push_back(at + least);
    std::fill(sizes.begin() + std::max<int64_t>(0, at - 2 * around),
              sizes.begin() + std::min(std::ssize(sizes), at + 2 * around), 0.0);
  }
  return found;
}

/// Energies behind a lag: of what a gain leaves, and of what a gain and one repeat leave.
struct OneRepeat {
  double by_gain = 0, left = 0;
};

/// Of every lag from 0, by least squares over what is told.
std::vector<OneRepeat> repeats(std::span<const double> model, std::span<const double> left,
                               std::span<const uint8_t> told, int64_t reach) {
  const size_t frames = model.size();
  dsp::RealFft<double> fft(2 * dsp::good_fft_size((frames + size_t(reach) + 1) / 2));
  const auto spectrum_of = [&](auto value) {
    for (size_t n = 0; n < fft.size(); ++n) fft.time()[n] = n < frames ? value(n) : 0;
    fft.forward();
    return std::vector<std::complex<double>>(fft.spectrum().begin(), fft.spectrum().end());
  };
  const auto by_lag = [&](const auto& x, const auto& later) {  // the sum of x(n) later(n - lag)
    for (size_t k = 0; k < x.size(); ++k) fft.spectrum()[k] = x[k] * std::conj(later[k]) / double(fft.size());
    fft.inverse();
    return std::vector<double>(fft.time().begin(), fft.time().begin() + reach);
  };
  const auto where = [&](size_t n) { return double(told[n]); };
  const auto now = [&](size_t n) { return where(n) * model[n]; };
  const bool all_told = std::all_of(told.begin(), told.end(), [](uint8_t t) { return t != 0; });
  const auto of_model = spectrum_of([&](size_t n) { return model[n]; });
  const auto both = by_lag(all_told ? of_model : spectrum_of(now), of_model);
  const auto across = by_lag(spectrum_of([&](size_t n) { return left[n]; }), of_model);
  std::vector<double> later(static_cast<size_t>(reach));  // of what is repeated
  if (all_told) {
    for (const double x : model) later[0] += x * x;
    for (size_t lag = 1; lag < later.size(); ++lag) later[lag] = later[lag - 1] - std::pow(model[frames - lag], 2);
  } else {
    later = by_lag(spectrum_of(where), spectrum_of([&](size_t n) { return model[n] * model[n]; }));
  }
  double own = 0, had = 0, direct = 0;  // behind the lag
  for (size_t n = 0; n < frames; ++n) own += now(n) * now(n), had += left[n] * left[n], direct += now(n) * left[n];
  std::vector<OneRepeat> all(static_cast<size_t>(reach));
  for (size_t lag = 0; lag < all.size(); ++lag) {
    const double by_gain = had - (own > 0 ? direct * direct / own : 0), det = own * later[lag] - both[lag] * both[lag];
    all[lag] = {by_gain, by_gain};
    if (det > 1e-9 * own * later[lag]) {
      const double gain = direct * later[lag] - across[lag] * both[lag],
                   repeat = across[lag] * own - direct * both[lag];
      all[lag].left = had - (gain * direct + repeat * across[lag]) / det;
    }
    own -= now(lag) * now(lag), had -= left[lag] * left[lag], direct -= now(lag) * left[lag];
  }
  return all;
}

/// The lags at which least is left of what a gain leaves.
std::vector<int64_t> least_left(std::vector<double> shares, double rate) {
  const auto least = std::min(std::ssize(shares), int64_t(least_echo_s * rate));
  std::vector<int64_t> found;
  while (found.size() < most_by_repeat) {
    const auto best = std::min_element(shares.begin() + least, shares.end());
    if (best == shares.end() || *best > least_repeat) break;
    const int64_t at = best - shares.begin();
    found.push_back(at);
    std::fill(shares.begin() + std::max<int64_t>(0, at - 2 * TapFit::around),
              shares.begin() + std::min(std::ssize(shares), at + 2 * TapFit::around + 1), 1.0);
  }
  return found;
}

}  // namespace

std::vector<int64_t> echo_places(const std::vector<std::span<const double>>& models,
                                 const std::vector<std::vector<double>>& left, std::span<const uint8_t> told,
                                 double rate_hz, int threads) {
  const auto frames = std::ssize(models.front());
  const auto reach = std::min(int64_t(most_of_read * double(frames)), int64_t(most_late_s * rate_hz));
  std::vector<std::vector<float>> responses(models.size());
  std::vector<std::vector<OneRepeat>> one(models.size());
  each_pair(threads, int(models.size()), [&](int p) {
    const auto c = size_t(p);
    responses[c] = response_of(models[c], left[c]), one[c] = repeats(models[c], left[c], told, reach);
  });
  std::vector<double> shares(static_cast<size_t>(reach)), mean(static_cast<size_t>(reach));
  for (size_t lag = 0; lag < shares.size(); ++lag) {
    OneRepeat sum;
    for (const auto& r : one) sum.by_gain += r[lag].by_gain, sum.left += r[lag].left;
    shares[lag] = sum.by_gain > 0 ? sum.left / sum.by_gain : 1;
    for (const auto& h : responses) mean[lag] += h[lag] / double(responses.size());
  }
  auto found = least_left(std::move(shares), rate_hz);
  for (const int64_t peak : peaks(mean, rate_hz))
    if (is_apart(peak, found)) found.push_back(peak);
  return found;
}

}  // namespace heathmist::causes
