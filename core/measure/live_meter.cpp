#include "core/measure/live_meter.hpp"

#include <algorithm>
#include <cmath>

#include "core/dsp/decibels.hpp"

namespace heathmist {

namespace {

constexpr double lowest_lufs = -70, bin_lu = 0.1;

}  // namespace

LiveMeter::LiveMeter(int sample_rate_hz)
    : weighting_{KWeighting(sample_rate_hz), KWeighting(sample_rate_hz)},
      piece_frames_(loudness_piece_frames(sample_rate_hz)) {}

void LiveMeter::forget() {
  ring_.fill(0);
  product_ring_.fill({});
  momentaries_ = short_terms_ = {};
  for (auto& channel : recent_) channel.fill(0);
  energy_ = 0, in_piece_ = 0, count_ = 0, filled_ = 0, peak_ = 0;
  std::fill(std::begin(products_), std::end(products_), 0.0);
  momentary_ = short_term_ = integrated_ = shown_peak_ = 0;
  momentary_max_ = short_term_max_ = 0;
  range_ = -1;
  correlation_ = 2;
}

void LiveMeter::add(std::span<const double> stereo) {
  if (reset_.exchange(false)) forget();
  for (size_t n = 0; n + 1 < stereo.size(); n += 2) {
    const double left = stereo[n], right = stereo[n + 1];
    energy_ += weighting_[0].energy({&left, 1}) + weighting_[1].energy({&right, 1});
    products_[0] += left * left, products_[1] += right * right, products_[2] += left * right;
    recent_[0][around + filled_] = left;
    recent_[1][around + filled_] = right;
    if (++filled_ == chunk) {
      for (int c = 0; c < 2; ++c) find_peak(c);
      filled_ = 0;
    }
    if (++in_piece_ == piece_frames_) end_piece();
  }
}

/// The chunk that has enough behind it by now; then all moves on by one chunk.
void LiveMeter::find_peak(int channel) {
  auto& x = recent_[size_t(channel)];
  const double* at = x.data() + dsp::InterSample::before + 1;
  double top = 0;
  for (size_t n = 0; n <= chunk; ++n) top = std::max(top, std::abs(at[n]));
  if (top > peak_) peak_ = top;
  if (top > 0.6 * peak_) peak_ = std::max(peak_, between_.top(at).level);
  shown_peak_ = peak_;
  std::copy(x.begin() + chunk, x.end(), x.begin());
}

void LiveMeter::end_piece() {
  ring_[size_t(count_ % pieces)] = energy_ / double(piece_frames_);
  product_ring_[size_t(count_ % 4)] = {products_[0], products_[1], products_[2]};
  ++count_;
  energy_ = 0, in_piece_ = 0;
  std::fill(std::begin(products_), std::end(products_), 0.0);
  auto mean = [&](int span) {
    double sum = 0;
    for (int k = 1; k <= span; ++k) sum += ring_[size_t((count_ - k + pieces) % pieces)];
    return sum / span;
  };
  momentary_ = mean(4);
  short_term_ = mean(pieces);
  double ll = 0, rr = 0, lr = 0;
  for (const auto& p : product_ring_) ll += p[0], rr += p[1], lr += p[2];
  correlation_ = ll > 1e-12 && rr > 1e-12 ? lr / std::sqrt(ll * rr) : 2;
  if (count_ < 4) return;
  momentary_max_ = std::max<double>(momentary_max_, momentary_);
  momentaries_.add(momentary_);
  integrated_ = momentaries_.mean_above(0.1 * momentaries_.mean_above(0));
  if (count_ < pieces) return;
  short_term_max_ = std::max<double>(short_term_max_, short_term_);
  short_terms_.add(short_term_);
  range_ = short_terms_.range_lu().value_or(-1);
}

void LiveMeter::Bins::add(double mean_square) {
  const auto loud = lufs(mean_square);
  if (!loud || *loud < lowest_lufs) return;
  const auto bin = std::min<size_t>(bins - 1, size_t((*loud - lowest_lufs) / bin_lu));
  energy[bin] += mean_square;
  ++count[bin];
}

double LiveMeter::Bins::mean_above(double gate) const {
  double sum = 0;
  int64_t blocks = 0;
  for (size_t b = 0; b < bins; ++b)
    if (count[b] > 0 && energy[b] / double(count[b]) > gate) sum += energy[b], blocks += count[b];
  return blocks ? sum / double(blocks) : 0.0;
}

/// Between the 10th and the 95th percentile of what lies above the gate of -20 LU (EBU Tech 3342), as means of bins.
std::optional<double> LiveMeter::Bins::range_lu() const {
  const double gate = 0.01 * mean_above(0);
  int64_t blocks = 0;
  for (size_t b = 0; b < bins; ++b)
    if (count[b] > 0 && energy[b] / double(count[b]) > gate) blocks += count[b];
  if (blocks == 0) return {};
  const auto at = [&](double share) {
    auto left = int64_t(std::llround(share * double(blocks - 1)));
    for (size_t b = 0; b < bins; ++b)
      if (count[b] > 0 && energy[b] / double(count[b]) > gate && (left -= count[b]) < 0)
        return 10 * std::log10(energy[b] / double(count[b]));
    return 0.0;
  };
  return at(0.95) - at(0.10);
}

LiveMeter::Reading LiveMeter::reading() const {
  const double correlation = correlation_, range = range_;
  return {lufs(momentary_),
          lufs(short_term_),
          lufs(integrated_),
          dsp::db_or_nothing(shown_peak_),
          correlation <= 1 ? std::optional(correlation) : std::nullopt,
          range >= 0 ? std::optional(range) : std::nullopt,
          lufs(momentary_max_),
          lufs(short_term_max_)};
}

}  // namespace heathmist
