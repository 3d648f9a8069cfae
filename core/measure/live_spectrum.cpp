#include "core/measure/live_spectrum.hpp"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace heathmist {

LiveSpectrum::LiveSpectrum(int sample_rate_hz)
    : rate_hz_(sample_rate_hz), fft_(dsp::good_fft_size(size_t(0.17 * sample_rate_hz) / 2 * 2)) {
  window_ = dsp::blackman_harris(fft_.size());
  double power = 0;
  for (const double w : window_) power += w * w;
  scale_ = 2 / (power * double(fft_.size()));
  forget_ = std::exp(-0.5 * double(fft_.size()) / rate_hz_ / momentary_s);
  left_.assign(fft_.size(), 0), right_ = left_;
  now_.assign(fft_.bins(), 0), sum_ = top_ = now_;
  const double low = lowest_hz, high = rate_hz_ / 2, bin_hz = rate_hz_ / double(fft_.size());
  const double half = std::pow(2, 1.0 / 24);
  for (int n = 0; n < points; ++n) {
    const double hz = low * std::pow(high / low, double(n) / (points - 1));
    hz_.push_back(float(hz));
    const auto from = size_t(std::clamp(std::ceil(hz / half / bin_hz), 0.0, double(fft_.bins() - 1))),
               to = size_t(std::clamp(std::ceil(hz * half / bin_hz), 0.0, double(fft_.bins())));
    const auto nearest = size_t(std::clamp(std::round(hz / bin_hz), 0.0, double(fft_.bins() - 1)));
    bins_.emplace_back(to > from ? std::pair{from, to} : std::pair{nearest, nearest + 1});
  }
}

void LiveSpectrum::add(std::span<const double> stereo) {
  if (reset_.exchange(false)) forget();
  for (size_t n = 0; n + 1 < stereo.size(); n += 2) {
    left_[filled_] = stereo[n], right_[filled_] = stereo[n + 1];
    if (++filled_ < fft_.size()) continue;
    end_block();
    const size_t half = fft_.size() / 2;
    for (auto* x : {&left_, &right_}) std::copy(x->begin() + std::ptrdiff_t(half), x->end(), x->begin());
    filled_ = fft_.size() - half;
  }
}

void LiveSpectrum::end_block() {
  std::vector<double> power(fft_.bins(), 0.0);
  for (const auto* x : {&left_, &right_}) {
    for (size_t n = 0; n < fft_.size(); ++n) fft_.time()[n] = (*x)[n] * window_[n];
    fft_.forward();
    for (size_t k = 0; k < power.size(); ++k) power[k] += 0.5 * scale_ * std::norm(fft_.spectrum()[k]);
  }
  const std::scoped_lock held(lock_);
  const double keep = blocks_ == 0 ? 0 : forget_;
  for (size_t k = 0; k < power.size(); ++k) {
    now_[k] = keep * now_[k] + (1 - keep) * power[k];
    sum_[k] += power[k];
    top_[k] = std::max(top_[k], power[k]);
  }
  ++blocks_, ++summed_;
}

void LiveSpectrum::forget() {
  filled_ = 0;
  const std::scoped_lock held(lock_);
  std::fill(sum_.begin(), sum_.end(), 0.0);
  std::fill(top_.begin(), top_.end(), 0.0);
  summed_ = 0;
}

std::vector<float> LiveSpectrum::line_of(const std::vector<double>& power, double scale) const {
  std::vector<float> line;
  line.reserve(bins_.size());
  for (const auto& [from, to] : bins_) {
    const double mean = std::accumulate(power.begin() + std::ptrdiff_t(from), power.begin() + std::ptrdiff_t(to), 0.0) /
                        double(to - from);
    line.push_back(float(10 * std::log10(std::max(1e-20, mean * scale))));
  }
  return line;
}

LiveSpectrum::Lines LiveSpectrum::lines() const {
  const std::scoped_lock held(lock_);
  if (blocks_ == 0) return {};
  Lines lines{line_of(now_, 1), {}, {}, blocks_};
  if (summed_ > 0) lines.average = line_of(sum_, 1 / double(summed_)), lines.held = line_of(top_, 1);
  return lines;
}

}  // namespace heathmist
