#include "core/measure/loudness.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <numeric>

namespace heathmist {

namespace {
const double absolute_gate = std::pow(10.0, (-70 + 0.691) / 10);
}

KWeighting::KWeighting(double sample_rate_hz) {
  {
    const double k = std::tan(std::numbers::pi * 1681.974450955533 / sample_rate_hz), q = 0.7071752369554196;
    const double high = std::pow(10.0, 3.999843853973347 / 20), band = std::pow(high, 0.4996667741545416);
    const double a0 = 1 + k / q + k * k;
    shelf_ = {(high + band * k / q + k * k) / a0, 2 * (k * k - high) / a0, (high - band * k / q + k * k) / a0,
              2 * (k * k - 1) / a0, (1 - k / q + k * k) / a0};
  }
  const double q = 0.5003270373238773;
  auto tangent = [](double rate) { return std::tan(std::numbers::pi * 38.13547087602444 / rate); };
  auto norm = [q](double k) { return 1 + k / q + k * k; };
  const double k = tangent(sample_rate_hz), a0 = norm(k), gain = std::sqrt(norm(tangent(48000)) / a0);
  pass_ = {gain, -2 * gain, gain, 2 * (k * k - 1) / a0, (1 - k / q + k * k) / a0};
}

double KWeighting::energy(std::span<const double> in) {
  auto [s1, s2, p1, p2] = state_;
  const auto s = shelf_, p = pass_;
  double sum = 0;
  for (const double x : in) {  // transposed direct form II
    const double y = s[0] * x + s1;
    s1 = s[1] * x - s[3] * y + s2;
    s2 = s[2] * x - s[4] * y;
    const double z = p[0] * y + p1;
    p1 = p[1] * y - p[3] * z + p2;
    p2 = p[2] * y - p[4] * z;
    sum += z * z;
  }
  state_ = {s1, s2, p1, p2};
  for (double& v : state_)
    if (std::abs(v) < 1e-30) v = 0;  // no denormals in silence
  return sum;
}

std::vector<double> channel_weights(int channels) {
  constexpr double surround = 1.41;
  switch (channels) {
    case 4:
      return {1, 1, surround, surround};
    case 5:
      return {1, 1, 1, surround, surround};
    case 6:
      return {1, 1, 1, 0, surround, surround};
    case 7:
      return {1, 1, 1, 0, 1, surround, surround};
    case 8:
      return {1, 1, 1, 0, 1, 1, surround, surround};
    default:
      return std::vector<double>(size_t(channels), 1.0);
  }
}

int64_t loudness_piece_frames(int sample_rate_hz) { return std::max<int64_t>(1, (sample_rate_hz + 5) / 10); }

std::optional<double> lufs(double mean_square) {
  if (!(mean_square > 1e-20)) return {};
  return -0.691 + 10 * std::log10(mean_square);
}

std::vector<double> window_means(const LoudnessPieces& pieces, int span) {
  std::vector<double> means;
  for (size_t n = 0; n + size_t(span) <= pieces.size(); ++n)
    means.push_back(std::accumulate(pieces.begin() + long(n), pieces.begin() + long(n) + span, 0.0) / span);
  return means;
}

Gated gated_loudness(const std::vector<double>& blocks) {
  auto mean_above = [&](double gate) {
    double sum = 0;
    int64_t count = 0;
    for (const double b : blocks)
      if (b > gate) sum += b, ++count;
    return count ? sum / double(count) : 0.0;
  };
  const double relative_gate = 0.1 * mean_above(absolute_gate);
  return {lufs(mean_above(std::max(absolute_gate, relative_gate))), lufs(relative_gate)};
}

std::optional<double> integrated_lufs(const LoudnessPieces& pieces) {
  return gated_loudness(window_means(pieces, std::clamp(int(pieces.size()), 1, 4))).lufs;
}

std::optional<LoudnessRange> range_of(std::vector<double> heard) {
  auto gate = [&](double least) { std::erase_if(heard, [least](double v) { return !(v >= least); }); };
  gate(absolute_gate);
  if (heard.empty()) return {};
  gate(0.01 * std::accumulate(heard.begin(), heard.end(), 0.0) / double(heard.size()));
  std::sort(heard.begin(), heard.end());
  auto percentile = [&](double share) { return *lufs(heard[size_t(std::lround(double(heard.size() - 1) * share))]); };
  return LoudnessRange{percentile(0.10), percentile(0.95)};
}

std::vector<float> sliding_lufs(const LoudnessPieces& pieces, int span) {
  std::vector<float> line(pieces.size());
  double sum = 0;
  for (size_t n = 0; n < pieces.size(); ++n) {
    sum = 0;
    const size_t from = n + 1 >= size_t(span) ? n + 1 - size_t(span) : 0;
    for (size_t k = from; k <= n; ++k) sum += pieces[k];
    line[n] = float(std::max(-120.0, lufs(sum / double(span)).value_or(-120.0)));
  }
  return line;
}

}  // namespace heathmist
