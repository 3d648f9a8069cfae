#include "core/measure/mirror.hpp"

#include <algorithm>
#include <cmath>
#include <complex>
#include <numbers>
#include <numeric>

#include "core/dsp/fft.hpp"
#include "core/dsp/noise.hpp"

namespace heathmist {

namespace {

/// The blocks, of a size in which every bin has one for its mirror.
struct Mirror {
  static constexpr int64_t least_size = 8192, most = 128, least = 4;
  static constexpr double span_s = 16;
  int64_t rate, twice, size, count;
  std::vector<int64_t> places;  ///< by chance, so that they share no period with the music
  Mirror(const ClipFormat& f, double about_hz) : rate(f.sample_rate_hz), twice(std::llround(2 * about_hz)) {
    const int64_t period = 2 * rate / std::gcd(rate, twice);
    size = period * ((least_size + period - 1) / period);
    const int64_t span = std::min(f.frames, int64_t(span_s * double(rate))), room = span - 2 * size;
    count = std::min(most, room / size + 1);
    dsp::Noise chance(1);
    for (int64_t n = 0; n < count; ++n)
      places.push_back((f.frames - span) / 2 + room * n / std::max<int64_t>(1, count - 1) +
                       int64_t(chance.uniform() * double(size)));
  }
  int64_t sum_of_bins() const { return twice * size / rate; }
};

/// Of every block the phase of each pair's product, as a number of magnitude one.
using Turns = std::vector<std::vector<std::complex<double>>>;

Turns turns_of(const Clip& clip, const Mirror& m, double reach_hz, const Job& job) {
  constexpr size_t most_pairs = 200;
  const auto reach = size_t(reach_hz * double(m.size) / double(m.rate)), first = reach / 20 + 1;
  const size_t step = 1 + (reach - std::min(reach, first)) / most_pairs, sum = size_t(m.sum_of_bins());
  const auto window = dsp::hann(size_t(m.size));
  Turns turns{size_t(m.count)};
  struct State {
    std::unique_ptr<Reader> reader;
    dsp::RealFft<double> fft;
    Planar block{};
  };
  for_each_segment(
      m.count, job,
      [&] {
        return State{clip.reader(), dsp::RealFft<double>(size_t(m.size))};
      },
      [&](State& state, int64_t n) {
        const int64_t at = m.places[size_t(n)];
        const double turned = 2 * std::numbers::pi * double(m.twice * (at % m.rate) % m.rate) / double(m.rate);
        state.reader->read(at, m.size, state.block);
        for (int c = 0; c < state.block.channels(); ++c) {
          std::transform(window.begin(), window.end(), state.block.channel(c).begin(), state.fft.time().begin(),
                         std::multiplies<>());
          state.fft.forward();
          const auto spectrum = state.fft.spectrum();
          for (size_t away = first; away < reach; away += step) {
            const auto both = spectrum[sum / 2 - away] * spectrum[sum - sum / 2 + away] * std::polar(1.0, -turned);
            turns[size_t(n)].push_back(std::abs(both) > 0 ? both / std::abs(both) : 0);
          }
        }
      });
  return turns;
}

/// Mean over the pairs of their coherence, where it turns by so much more a second.
double coherence(const Turns& turns, const Mirror& m, double off_hz) {
  std::vector<std::complex<double>> back;
  for (int64_t n = 0; n < m.count; ++n)
    back.push_back(
        std::polar(1.0, -2 * std::numbers::pi * off_hz * double(m.places[size_t(n)] - m.places[0]) / double(m.rate)));
  double sum = 0;
  const double count = double(m.count);
  for (size_t k = 0; k < turns.front().size(); ++k) {
    std::complex<double> mean = 0;
    for (size_t n = 0; n < turns.size(); ++n) mean += turns[n][k] * back[n] / count;
    sum += (count * std::norm(mean) - 1) / (count - 1);
  }
  return sum / double(std::max<size_t>(1, turns.front().size()));
}

}  // namespace

double coherence_with_mirror(const Clip& clip, double about_hz, double reach_hz, const Job& job) {
  constexpr double nearest_hz = 0.4, farthest_hz = 12, step_hz = 0.05, worth_asking = 0.05, as_much = 0.5;
  const Mirror mirror(clip.format(), about_hz);
  if (mirror.count < Mirror::least) return 0;
  const Turns turns = turns_of(clip, mirror, reach_hz, job);
  const double here = coherence(turns, mirror, 0);
  if (here < worth_asking) return std::max(0.0, here);
  for (double off = nearest_hz; off < farthest_hz; off += step_hz) {
    job.check();
    if (std::max(coherence(turns, mirror, off), coherence(turns, mirror, -off)) > as_much * here) return 0;
  }
  return std::min(1.0, here);
}

}  // namespace heathmist
