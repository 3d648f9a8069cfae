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
#include "core/dsp/simd.hpp"

namespace heathmist::causes {

namespace {

constexpr double wow_window_s = 0.04;
constexpr double worth_a_look = 0.3;    // of what is left, that moving every window by a little must explain
constexpr double first_step = 0.6;      // of what was there, that the first step may leave
constexpr double wide_open = 0.03;      // of the master's power
constexpr double well_followed = 0.05;  // of what was there, under which no other course is looked for
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
    const int64_t first = whole - before;
    if (first >= 0 && first + taps <= std::ssize(in)) {
      out[size_t(n)] = dsp::simd::blend_dot(&in[size_t(first)], a, b, part, taps);
      continue;
    }
    double sum = 0;  // silence around it
    for (int64_t k = std::max<int64_t>(0, -first); k < std::min<int64_t>(taps, std::ssize(in) - first); ++k)
      sum += (a[k] + part * (b[k] - a[k])) * in[size_t(first + k)];
    out[size_t(n)] = sum;
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

/// Correlation of model and return at every lag of [-reach, reach] in one window, half whitened: the bass must not blur
/// the peak.
class Lags {
 public:
  Lags(const Excerpt& e, const Planar& model, int64_t hop)
      : e_(e), model_(model), fft_(size_for(hop)), window_(dsp::hann(fft_.size() / 2)) {}
  int64_t reach() const { return int64_t(fft_.size() / 8); }

  std::vector<double> around(int64_t at) {
    std::vector<std::complex<double>> cross(fft_.bins());
    for (int p = 0; p < e_.pairs(); ++p) {
      const auto x = spectrum(model_.channel(p), at), y = spectrum(e_.ret.channel(p), at);
      for (size_t k = 1; k < cross.size(); ++k) cross[k] += std::conj(x[k]) * y[k];
    }
    for (size_t k = 0; k < cross.size(); ++k)
      fft_.spectrum()[k] = std::abs(cross[k]) > 0 ? cross[k] / std::sqrt(std::abs(cross[k])) : 0;
    fft_.inverse();
    const auto size = int64_t(fft_.size());
    std::vector<double> v;
    for (int64_t lag = -reach(); lag <= reach(); ++lag) v.push_back(fft_.time()[size_t((lag + size) % size)]);
    return v;
  }

 private:
  static size_t size_for(int64_t hop) {
    size_t size = 256;
    while (int64_t(size) < 4 * hop) size *= 2;
    return size;
  }
  std::vector<std::complex<double>> spectrum(std::span<const double> x, int64_t at) {
    std::fill(fft_.time().begin(), fft_.time().end(), 0.0);
    for (size_t n = 0; n < window_.size(); ++n) {
      const int64_t k = at - int64_t(window_.size() / 2) + int64_t(n);
      if (k >= 0 && k < e_.frames() && e_.told[size_t(k)]) fft_.time()[n] = window_[n] * x[size_t(k)];
    }
    fft_.forward();
    return {fft_.spectrum().begin(), fft_.spectrum().end()};
  }
  const Excerpt& e_;
  const Planar& model_;
  dsp::RealFft<double> fft_;
  std::vector<double> window_;
};

/// The way over the lags, window by window, that gathers most correlation in all (Viterbi 1967): from one to the next
/// it goes no farther than a speed can move; where little sounds, it stays.
class BestWay {
 public:
  explicit BestWay(int64_t most_step) : most_step_(most_step) {}
  void add(const std::vector<double>& gain) {
    constexpr double per_sample = 0.003;  // of the usual peak: a step costs that
    const auto lags = std::ssize(gain);
    const double cost =
        per_sample * std::max(1e-30, usual_ += 0.05 * (*std::max_element(gain.begin(), gain.end()) - usual_));
    std::vector<double> sum(gain.size());
    std::vector<int16_t> from(gain.size());
    for (int64_t k = 0; k < lags; ++k) {
      double most = sums_.empty() ? 0 : -1e300;
      if (!sums_.empty())
        for (int64_t j = std::max<int64_t>(0, k - most_step_); j <= std::min(lags - 1, k + most_step_); ++j)
          if (const double v = sums_[size_t(j)] - cost * double(std::abs(j - k)); v > most)
            most = v, from[size_t(k)] = int16_t(j - k);
      sum[size_t(k)] = most + gain[size_t(k)];
    }
    sums_ = std::move(sum), steps_.push_back(std::move(from));
  }
  std::vector<double> way() const {
    if (sums_.empty()) return {};
    auto at = std::max_element(sums_.begin(), sums_.end()) - sums_.begin();
    const auto middle = std::ssize(sums_) / 2;
    std::vector<double> lags;
    for (size_t n = steps_.size(); n-- > 0;) lags.push_back(double(at - middle)), at += steps_[n][size_t(at)];
    std::reverse(lags.begin(), lags.end());
    return lags;
  }

 private:
  int64_t most_step_;
  double usual_ = 0;
  std::vector<double> sums_;
  std::vector<std::vector<int16_t>> steps_;
};

/// Whether the place of most correlation moves at all, by some windows of many.
bool may_move(Lags& lags, int64_t frames, int64_t hop) {
  constexpr int64_t every = 6;
  constexpr size_t least = 20;
  constexpr double moved = 0.05;  // of all correlation, that lies farther than next to where most of it does
  std::vector<double> at_lag(size_t(2 * lags.reach() + 1));
  size_t count = 0;
  for (int64_t at = hop; at + hop < frames; at += every * hop, ++count) {
    const auto gain = lags.around(at);
    const auto best = std::max_element(gain.begin(), gain.end());
    at_lag[size_t(best - gain.begin())] += std::max(0.0, *best);
  }
  const double all = std::reduce(at_lag.begin(), at_lag.end());
  const auto place = std::max_element(at_lag.begin(), at_lag.end()) - at_lag.begin();
  double there = 0;
  for (auto k = std::max<int64_t>(0, place - 1); k <= std::min(std::ssize(at_lag) - 1, place + 1); ++k)
    there += at_lag[size_t(k)];
  return count < least || all - there > moved * all;
}

/// The delay of every window, for courses that leave the samples' neighbourhood; nothing where it stays.
std::vector<double> coarse(const Excerpt& e, const Planar& model, int64_t hop) {
  constexpr double most_speed = 0.015;
  Lags lags(e, model, hop);
  if (!may_move(lags, e.frames(), hop)) return {};
  BestWay best(std::max<int64_t>(4, std::llround(most_speed * double(hop))));
  for (int64_t at = hop; at + hop < e.frames(); at += hop) best.add(lags.around(at));
  return best.way();
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

/// `sounds`: by window; where nothing does, the course is a guess.
Cause described(const Excerpt& e, const Course& c, const std::vector<bool>& sounds) {
  std::vector<double> speeds{0}, late;
  for (size_t n = 0; n < c.late.size(); ++n) {
    if (!sounds[n]) continue;
    late.push_back(c.late[n]);
    if (n > 0 && sounds[n - 1]) speeds.push_back(std::abs(c.late[n] - c.late[n - 1]) / double(c.hop));
  }
  std::sort(speeds.begin(), speeds.end()), std::sort(late.begin(), late.end());
  constexpr double few = 0.005;  // windows at either end, that may have been read wrongly
  const double low = late[size_t(few * double(late.size()))], high = late[size_t((1 - few) * double(late.size()))];
  Json points = Json::array();
  const size_t stride = std::max<size_t>(1, c.late.size() / 1000);
  for (size_t n = 0; n < c.late.size(); n += stride)
    points.push_back({e.seconds_at(std::min(e.frames() - 1, int64_t(n + 1) * c.hop)), c.late[n]});
  Cause cause{.code = "wow"};
  for (int p = 0; p < e.pairs(); ++p) cause.channels.push_back(p);
  cause.values = {{"depth_samples", (high - low) / 2},
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

/// The windows in which so much sounds that not any delay would do.
std::vector<bool> windows_that_sound(const Local& l) {
  constexpr double enough = 0.1;
  const double usual = std::reduce(l.slope.begin(), l.slope.end()) / double(l.slope.size());
  std::vector<bool> sounds;
  for (const double slope : l.slope) sounds.push_back(slope > enough * usual);
  return sounds;
}

bool moves_where_it_sounds(const Course& c, const std::vector<bool>& sounds) {
  double low = 1e300, high = -1e300;
  for (size_t w = 0; w < c.late.size(); ++w)
    if (sounds[w]) low = std::min(low, c.late[w]), high = std::max(high, c.late[w]);
  return high - low >= 2 * least_depth;
}

struct Followed {
  Course course;
  double left = 1e300;
};

/// A course made finer, round by round, by what it leaves; nothing of it where the first step leaves much.
Followed followed(const Excerpt& e, const Planar& model, Course course, double at_first) {
  Followed f{course, 1e300};
  if (!moves_evenly(course)) return f;
  Planar moved = model;
  for (int round = 0; round < rounds; ++round) {
    for (int p = 0; p < e.pairs(); ++p) warp(model.channel(p), course, moved.channel(p), 0, model.frames());
    const Local now = local_delays(e, moved, course.hop);
    if (round == 0 && now.left > first_step * at_first) return f;
    if (round > 0 && now.left > 0.9 * f.left) break;
    f = {course, now.left};
    const auto more = smoothed(now);
    for (size_t n = 0; n < course.late.size(); ++n) course.late[n] += more[n];
  }
  return f;
}

}  // namespace

std::optional<Found> estimate_wow(const Excerpt& e, const Planar& model) {
  const int64_t hop = std::max<int64_t>(16, int64_t(wow_window_s * e.rate_hz) / 2);
  const Local first = local_delays(e, model, hop);
  if (first.slope.size() < 12) return {};
  Followed best;
  if (first.explained > worth_a_look * first.left) best = followed(e, model, {hop, smoothed(first)}, first.left);
  if (best.left > well_followed * first.left && power_left(e, model) > wide_open * e.master_power) {
    Course far{hop, coarse(e, model, hop)};  // so far off that no slope shows it
    if (!far.late.empty()) {
      far.late.resize(first.slope.size(), 0);
      if (Followed other = followed(e, model, std::move(far), first.left); other.left < best.left)
        best = std::move(other);
    }
  }
  if (best.left > first.left) return {};
  const Course& course = best.course;
  const auto sounds = windows_that_sound(first);
  if (!moves_where_it_sounds(course, sounds)) return {};
  const auto [low, high] = std::minmax_element(course.late.begin(), course.late.end());
  const double reach = std::max(std::abs(*low), std::abs(*high)) + dsp::Interpolator::taps;
  return Found{described(e, course, sounds),
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
