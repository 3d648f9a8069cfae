#include "core/probes/engine_kinds.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>

#include "core/probes/probe_body.hpp"

namespace heathmist {

namespace {
constexpr double turn = 2 * std::numbers::pi;
constexpr std::array<std::array<double, tones_a_channel>, 2> hz_of{
    {{220, 440, 700, 1100, 1660, 2500, 3700, 5500}, {260, 500, 820, 1300, 1940, 2900, 4300, 6340}}};
}  // namespace

const EngineKind* engine_kind(const std::string& key) {
  static const std::array<EngineKind, 5> all{transit_kind(), gain_kind(), pan_kind(), crossfade_kind(), trim_kind()};
  const auto it = std::find_if(all.begin(), all.end(), [&](const EngineKind& k) { return k.kind.key == key; });
  return it == all.end() ? nullptr : &*it;
}

std::complex<double> carrier(double s) {
  return std::polar(engine_amplitude, turn * std::remainder(carrier_hz * s, 1.0));
}

std::complex<double> Rotor::next() {
  if (n_ % 256 == 0) {
    value_ = std::polar(1.0, turn * std::remainder(hz_ * (first_s_ + double(n_) * step_s_), 1.0));
    turn_ = std::polar(1.0, turn * std::remainder(hz_ * step_s_, 1.0));
  }
  const auto now = value_;
  value_ *= turn_;
  ++n_;
  return now;
}

namespace {
/// Where a tone begins at 0 s, in turns: the golden ratio spreads them, so that no two begin together.
double tone_turns(int channel, int place) {
  return std::remainder(0.6180339887498949 * double(1 + channel * tones_a_channel + place) * double(place + 2), 1.0);
}
}  // namespace

std::vector<std::complex<double>> tones(int channel, double first_s, double step_s, int64_t frames) {
  std::vector<std::complex<double>> sum(size_t(frames), 0);
  for (int k = 0; k < tones_a_channel; ++k) {
    Rotor rotor(hz_of[size_t(channel)][size_t(k)], first_s, step_s);
    const auto begin = std::polar(tone_amplitude, turn * tone_turns(channel, k));
    for (auto& v : sum) v += begin * rotor.next();
  }
  return sum;
}

void add_tones(const ProbeScore& score, Stretch where, Planar& sound) {
  const auto first = int64_t(where.from_s * score.rate_hz), last = int64_t(where.until_s * score.rate_hz);
  for (int c = 0; c < sound.channels(); ++c) {
    const auto z = tones(c, double(first) / score.rate_hz, 1.0 / score.rate_hz, last - first);
    for (int64_t n = first; n < last; ++n)
      sound.channel(c)[size_t(n)] +=
          edge_of(double(n) / score.rate_hz, where.from_s, where.until_s) * z[size_t(n - first)].real();
  }
}

double edge_of(double s, double from_s, double until_s) {
  const double edge = std::min({1.0, (s - from_s) / probe_fade_s, (until_s - s) / probe_fade_s});
  return edge <= 0 ? 0 : 0.5 - 0.5 * std::cos(std::numbers::pi * edge);
}

}  // namespace heathmist
