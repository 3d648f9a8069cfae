// Wow and flutter: a delay that moves, its course and what it takes out.
#include <algorithm>
#include <cmath>
#include <complex>
#include <numbers>
#include <numeric>

#include "core/compare/causes/estimates.hpp"
#include "core/dsp/fft.hpp"
#include "core/dsp/interpolator.hpp"
#include "core/dsp/median.hpp"

namespace heathmist::causes {

namespace {

constexpr double window_s = 0.04;
constexpr double worth_a_look = 0.3;  // of what is left, that moving every window by a little must explain
constexpr double first_step = 0.6;    // of what was there, that the first step may leave
constexpr double wide_open = 0.03;    // of the master's power
constexpr int rounds = 5;
constexpr double least_depth = 0.1;  // samples
constexpr size_t fractions = 1024;

/// Delay in samples at every half window, read between them by cubics (Catmull and Rom).
struct Course {
  int64_t hop = 1;
  std::vector<double> late{};
  double at(double frame) const {
    const double place = std::clamp(frame / double(hop) - 1, 0.0, double(late.size() - 1));
    const auto k = int64_t(place);
    const double u = place - double(k);
    const auto v = [&](int64_t n) { return late[size_t(std::clamp<int64_t>(n, 0, std::ssize(late) - 1))]; };
    const double a = v(k - 1), b = v(k), c = v(k + 1), d = v(k + 2);
    return b + 0.5 * u * (c - a + u * (2 * a - 5 * b + 4 * c - d + u * (3 * (b - c) + d - a)));
  }
};

const std::vector<double>& kernels() {
  static const auto all = [] {
    std::vector<double> table;
    for (size_t n = 0; n <= fractions; ++n) {
      auto one = dsp::Interpolator::kernel(std::min(double(n) / fractions, 1 - 1e-12));
      table.insert(table.end(), one.begin(), one.end());
    }
    return table;
  }();
  return all;
}

/// out[n] = in(n - late(n + shift)) for n of [from, until)
void warp(std::span<const double> in, const Course& course, std::span<double> out, int64_t from, int64_t until,
          int64_t shift = 0) {
  constexpr int taps = dsp::Interpolator::taps, before = dsp::Interpolator::before;
  const auto& table = kernels();
  for (int64_t n = from; n < until; ++n) {
    const double place = double(n) - course.at(double(n + shift));
    const auto whole = int64_t(std::floor(place));
    const double fine = (place - double(whole)) * fractions;
    const auto row = std::min(size_t(fine), fractions - 1);
    const double part = fine - double(row);
    const double *a = &table[row * size_t(taps)], *b = a + taps;
    double sum_a = 0, sum_b = 0;
    const int64_t first = whole - before;
    for (int64_t k = std::max<int64_t>(0, -first); k < std::min<int64_t>(taps, int64_t(in.size()) - first); ++k)
      sum_a += a[k] * in[size_t(first + k)], sum_b += b[k] * in[size_t(first + k)];
    out[size_t(n)] = sum_a + part * (sum_b - sum_a);
  }
}

/// Least squares of a small delay in each window: left = -late * slope of the model.
struct Local {
  std::vector<double> cross, slope;
  double explained = 0, left = 0;
};
Local local_delays(const Excerpt& e, const Planar& model, int64_t hop) {
  const auto count = size_t(std::max<int64_t>(0, e.frames() / hop - 1));
  Local l{std::vector<double>(count), std::vector<double>(count)};
  const auto window = dsp::hann(size_t(2 * hop));
  for (int p = 0; p < e.pairs(); ++p) {
    const auto x = model.channel(p), y = e.ret.channel(p);
    for (size_t w = 0; w < count; ++w)
      for (int64_t n = int64_t(w) * hop; n < (int64_t(w) + 2) * hop; ++n) {
        if (n < 2 || n + 2 >= e.frames() || !e.told[size_t(n)]) continue;
        const auto k = size_t(n);
        const double hann = window[k - w * size_t(hop)];
        const double d = y[k] - x[k], s = (8 * (x[k + 1] - x[k - 1]) - (x[k + 2] - x[k - 2])) / 12;
        l.cross[w] -= hann * d * s, l.slope[w] += hann * s * s, l.left += hann * d * d;
      }
  }
  for (size_t w = 0; w < count; ++w)
    if (l.slope[w] > 0) l.explained += l.cross[w] * l.cross[w] / l.slope[w];
  return l;
}

/// Where the programme says little, its neighbours say more.
std::vector<double> smoothed(const Local& l) {
  const double usual = std::reduce(l.slope.begin(), l.slope.end()) / double(l.slope.size());
  std::vector<double> out(l.slope.size());
  for (size_t w = 0; w < out.size(); ++w) {
    double cross = 0, slope = 0;
    for (size_t reach = 0; reach < 24 && (reach == 0 || slope < 0.02 * usual); ++reach)
      for (const size_t at : {w - reach, w + reach})
        if (at < out.size() && (reach || at == w)) cross += l.cross[at], slope += l.slope[at];
    out[w] = slope > 0 ? std::clamp(cross / slope, -2.0, 2.0) : 0;
  }
  return out;
}

/// The delay of every window by cross-correlation, for courses that leave the samples' neighbourhood.
std::vector<double> coarse(const Excerpt& e, const Planar& model, int64_t hop) {
  size_t size = 256;
  while (int64_t(size) < 4 * hop) size *= 2;
  const auto reach = int64_t(size / 8);
  dsp::RealFft<double> fft(size);
  const auto window = dsp::hann(size / 2);
  std::vector<double> late;
  double last = 0;
  for (int64_t at = hop; at + hop < e.frames(); at += hop) {
    std::vector<std::complex<double>> cross(fft.bins());
    for (int p = 0; p < e.pairs(); ++p) {
      const auto spectrum = [&](std::span<const double> x) {
        std::fill(fft.time().begin(), fft.time().end(), 0.0);
        for (size_t n = 0; n < size / 2; ++n) {
          const int64_t k = at - int64_t(size / 4) + int64_t(n);
          if (k >= 0 && k < e.frames() && e.told[size_t(k)]) fft.time()[n] = window[n] * x[size_t(k)];
        }
        fft.forward();
        return std::vector<std::complex<double>>(fft.spectrum().begin(), fft.spectrum().end());
      };
      const auto x = spectrum(model.channel(p)), y = spectrum(e.ret.channel(p));
      for (size_t k = 1; k < cross.size(); ++k) cross[k] += std::conj(x[k]) * y[k];
    }
    for (size_t k = 0; k < cross.size(); ++k)  // half whitened: the bass must not blur the peak
      fft.spectrum()[k] = std::abs(cross[k]) > 0 ? cross[k] / std::sqrt(std::abs(cross[k])) : 0;
    fft.inverse();
    double most = 0, best = last;
    for (int64_t lag = -reach; lag <= reach; ++lag) {
      const double v = fft.time()[size_t((lag + int64_t(size)) % int64_t(size))] *
                       (1 - 0.3 * std::min(1.0, std::abs(double(lag) - last) / 16));
      if (v > most) most = v, best = double(lag);
    }
    late.push_back(last = best);
  }
  return late;
}

/// What moves most: its rate, by the spectrum of the course without its mean and slope.
double rate_of(const Course& c, double rate) {
  size_t size = 64;
  while (size < 4 * c.late.size()) size *= 2;
  dsp::RealFft<double> fft(size);
  std::fill(fft.time().begin(), fft.time().end(), 0.0);
  const double mean = std::reduce(c.late.begin(), c.late.end()) / double(c.late.size());
  const auto window = dsp::hann(c.late.size());
  for (size_t n = 0; n < c.late.size(); ++n) fft.time()[n] = window[n] * (c.late[n] - mean);
  fft.forward();
  size_t best = 1;
  for (size_t k = 1; k < fft.bins(); ++k)
    if (std::norm(fft.spectrum()[k]) > std::norm(fft.spectrum()[best])) best = k;
  return double(best) * rate / double(c.hop) / double(size);
}

Cause described(const Excerpt& e, const Course& c) {
  const auto [low, high] = std::minmax_element(c.late.begin(), c.late.end());
  std::vector<double> speeds;
  for (size_t n = 1; n < c.late.size(); ++n) speeds.push_back(std::abs(c.late[n] - c.late[n - 1]) / double(c.hop));
  std::sort(speeds.begin(), speeds.end());
  Json points = Json::array();
  const size_t stride = std::max<size_t>(1, c.late.size() / 1000);
  for (size_t n = 0; n < c.late.size(); n += stride)
    points.push_back({e.seconds_at(std::min(e.frames() - 1, int64_t(n + 1) * c.hop)), c.late[n]});
  Cause cause{.code = "wow"};
  for (int p = 0; p < e.pairs(); ++p) cause.channels.push_back(p);
  cause.values = {{"depth_samples", (*high - *low) / 2},
                  {"depth_percent", 100 * speeds[speeds.size() * 98 / 100]},
                  {"rate_hz", rate_of(c, e.rate_hz)},
                  {"curve", points}};
  return cause;
}

/// From window to window it goes by much less than it goes in all: else it is chance.
bool moves_evenly(const Course& c) {
  const auto [low, high] = std::minmax_element(c.late.begin(), c.late.end());
  std::vector<double> steps;
  for (size_t n = 1; n < c.late.size(); ++n) steps.push_back(std::abs(c.late[n] - c.late[n - 1]));
  return *high - *low > 2 * least_depth && dsp::median(steps) < 0.25 * (*high - *low);
}

/// Not only where so little sounds that any delay would do.
bool moves_where_it_sounds(const Course& c, const Local& l) {
  constexpr double sounds = 0.1;
  const double usual = std::reduce(l.slope.begin(), l.slope.end()) / double(l.slope.size());
  double low = 1e300, high = -1e300;
  for (size_t w = 0; w < c.late.size(); ++w)
    if (l.slope[w] > sounds * usual) low = std::min(low, c.late[w]), high = std::max(high, c.late[w]);
  return high - low >= 2 * least_depth;
}

}  // namespace

std::optional<Found> estimate_wow(const Excerpt& e, const Planar& model) {
  Course course{std::max<int64_t>(16, int64_t(window_s * e.rate_hz) / 2), {}};
  const Local first = local_delays(e, model, course.hop);
  if (first.slope.size() < 12) return {};
  if (first.explained > worth_a_look * first.left)
    course.late = smoothed(first);
  else if (power_left(e, model) > wide_open * e.master_power)  // so far off that no slope shows it
    course.late = coarse(e, model, course.hop);
  else
    return {};
  course.late.resize(first.slope.size(), 0);
  if (!moves_evenly(course)) return {};
  Planar moved = model;
  double least = first.left;
  for (int round = 0; round < rounds; ++round) {
    for (int p = 0; p < e.pairs(); ++p) warp(model.channel(p), course, moved.channel(p), 0, model.frames());
    const Local now = local_delays(e, moved, course.hop);
    if (round == 0 && now.left > first_step * first.left) return {};
    if (round > 0 && now.left > 0.9 * least) break;
    least = now.left;
    const auto more = smoothed(now);
    for (size_t n = 0; n < course.late.size(); ++n) course.late[n] += more[n];
  }
  if (!moves_where_it_sounds(course, first)) return {};
  const auto [low, high] = std::minmax_element(course.late.begin(), course.late.end());
  const double reach = std::max(std::abs(*low), std::abs(*high)) + dsp::Interpolator::taps;
  return Found{described(e, course),
               [course, own = static_cast<const Places&>(e)](const Places& where, Planar& m) {
                 std::vector<double> in;
                 for (int p = 0; p < m.channels(); ++p) {
                   in.assign(m.channel(p).begin(), m.channel(p).end());
                   where.each_shared(own, [&](int64_t at, int64_t in_own, int64_t frames) {
                     warp(in, course, m.channel(p), at, at + frames, in_own - at);
                   });
                 }
               },
               reach / e.rate_hz};
}

}  // namespace heathmist::causes
