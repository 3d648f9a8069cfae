#include "core/measure/loudness.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <numeric>

namespace heathmist {

KWeighting::KWeighting(double sample_rate_hz) {
  {
    const double k = std::tan(std::numbers::pi * 1681.974450955533 / sample_rate_hz), q = 0.7071752369554196;
    const double high = std::pow(10.0, 3.999843853973347 / 20), band = std::pow(high, 0.4996667741545416);
    const double a0 = 1 + k / q + k * k;
    shelf_ = {(high + band * k / q + k * k) / a0, 2 * (k * k - high) / a0, (high - band * k / q + k * k) / a0,
              2 * (k * k - 1) / a0, (1 - k / q + k * k) / a0};
  }
  const double k = std::tan(std::numbers::pi * 38.13547087602444 / sample_rate_hz), q = 0.5003270373238773;
  const double a0 = 1 + k / q + k * k;
  pass_ = {1, -2, 1, 2 * (k * k - 1) / a0, (1 - k / q + k * k) / a0};
}

double KWeighting::energy(std::span<const double> in) {
  auto [s1, s2, p1, p2] = state_;
  const auto s = shelf_, p = pass_;
  double sum = 0;
  for (const double x : in) {  // transposed direct form II
    const double y = s[0] * x + s1;
    s1 = s[1] * x - s[3] * y + s2;
    s2 = s[2] * x - s[4] * y;
    const double z = y + p1;
    p1 = -2 * y - p[3] * z + p2;
    p2 = y - p[4] * z;
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

std::optional<double> integrated_lufs(const LoudnessPieces& pieces) {
  std::vector<double> blocks;
  const size_t span = std::min<size_t>(4, std::max<size_t>(pieces.size(), 1));
  for (size_t n = 0; n + span <= pieces.size(); ++n)
    blocks.push_back(std::accumulate(pieces.begin() + long(n), pieces.begin() + long(n + span), 0.0) / double(span));
  auto mean_above = [&](double gate) {
    double sum = 0;
    int64_t count = 0;
    for (const double b : blocks)
      if (b > gate) sum += b, ++count;
    return count ? sum / double(count) : 0.0;
  };
  const double absolute_gate = std::pow(10.0, (-70 + 0.691) / 10);
  return lufs(mean_above(std::max(absolute_gate, 0.1 * mean_above(absolute_gate))));
}

LoudnessPieces loudness_pieces(const Clip& clip, const Job& job) {
  const auto& f = clip.format();
  const auto weights = channel_weights(f.channels);
  std::vector<KWeighting> filters(size_t(f.channels), KWeighting(f.sample_rate_hz));
  const int64_t piece = loudness_piece_frames(f.sample_rate_hz);
  const auto reader = clip.reader();
  LoudnessPieces pieces;
  Planar block;
  for (int64_t at = 0; at < f.frames && (at + piece <= f.frames || pieces.empty()); at += piece) {
    job.check();
    reader->read(at, std::min(piece, f.frames - at), block);
    double sum = 0;
    for (int c = 0; c < f.channels; ++c) sum += weights[size_t(c)] * filters[size_t(c)].energy(block.channel(c));
    pieces.push_back(sum / double(block.frames()));
    job.report(double(at) / double(f.frames));
  }
  return pieces;
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
