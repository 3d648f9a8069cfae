#include "core/compare/moving_delay.hpp"

#include <algorithm>
#include <cmath>
#include <complex>
#include <deque>
#include <numeric>

#include "core/dsp/fft.hpp"
#include "core/dsp/interpolator.hpp"
#include "core/dsp/simd.hpp"

namespace heathmist {

namespace {

constexpr size_t fractions = 1024;

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

/// Correlation of two signals at every lag of [-reach, reach] in one window, half whitened: the bass must not blur the
/// peak.
class Lags {
 public:
  Lags(const Planar& from, const Planar& to, std::span<const uint8_t> told, int64_t hop)
      : from_(from), to_(to), told_(told), fft_(size_for(hop)), window_(dsp::hann(fft_.size() / 2)) {}
  int64_t reach() const { return int64_t(fft_.size() / 8); }
  /// What all windows so far would hold if every one came back as it was.
  double most() const { return most_; }

  std::vector<double> around(int64_t at) {
    std::vector<std::complex<double>> cross(fft_.bins());
    for (int p = 0; p < from_.channels(); ++p) {
      const auto x = spectrum(from_.channel(p), at), y = spectrum(to_.channel(p), at);
      for (size_t k = 1; k < cross.size(); ++k) cross[k] += std::conj(x[k]) * y[k];
    }
    for (size_t k = 0; k < cross.size(); ++k) {
      const double root = std::sqrt(std::sqrt(std::norm(cross[k])));
      fft_.spectrum()[k] = root > 0 ? cross[k] / root : 0;
      most_ += 2 * root;
    }
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
      if (k >= 0 && k < from_.frames() && (told_.empty() || told_[size_t(k)]))
        fft_.time()[n] = window_[n] * x[size_t(k)];
    }
    fft_.forward();
    return {fft_.spectrum().begin(), fft_.spectrum().end()};
  }
  const Planar &from_, &to_;
  std::span<const uint8_t> told_;
  dsp::RealFft<double> fft_;
  std::vector<double> window_;
  double most_ = 0;
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
    if (!sums_.empty()) {
      Ahead below(sums_, cost), above(sums_, -cost);
      for (int64_t k = 0, next = 0; k < lags; ++k) {
        below.take(k), below.leave(k - most_step_);
        for (; next < lags && next <= k + most_step_; ++next) above.take(next);
        above.leave(k);
        const bool up = above.best() + cost * double(k) > below.best() - cost * double(k);
        sum[size_t(k)] = up ? above.best() + cost * double(k) : below.best() - cost * double(k);
        from[size_t(k)] = int16_t((up ? above.place() : below.place()) - k);
      }
    }
    for (size_t k = 0; k < gain.size(); ++k) sum[k] += gain[k];
    sums_ = std::move(sum), steps_.push_back(std::move(from));
  }
  double gathered() const { return sums_.empty() ? 0 : *std::max_element(sums_.begin(), sums_.end()); }
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
  /// The greatest of the sums, each by what it costs to come from there, in a window that slides up.
  class Ahead {
   public:
    Ahead(const std::vector<double>& sums, double slope) : sums_(sums), slope_(slope) {}
    void take(int64_t k) {
      const double v = sums_[size_t(k)] + slope_ * double(k);
      while (!held_.empty() && held_.back().second < v) held_.pop_back();
      held_.emplace_back(k, v);
    }
    void leave(int64_t first) {
      while (held_.front().first < first) held_.pop_front();
    }
    double best() const { return held_.front().second; }
    int64_t place() const { return held_.front().first; }

   private:
    const std::vector<double>& sums_;
    double slope_;
    std::deque<std::pair<int64_t, double>> held_{};  // from the greatest down
  };

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

constexpr double most_speed = 0.05;
BestWay best_way(Lags& lags, int64_t frames, int64_t hop) {
  BestWay best(std::max<int64_t>(4, std::llround(most_speed * double(hop))));
  for (int64_t at = hop; at + hop < frames; at += hop) best.add(lags.around(at));
  return best;
}

/// The delay of every window, for courses that leave the samples' neighbourhood; nothing where it stays.
std::vector<double> way_of_delay(const Planar& from, const Planar& to, std::span<const uint8_t> told, int64_t hop) {
  Lags lags(from, to, told, hop);
  if (!may_move(lags, from.frames(), hop)) return {};
  return best_way(lags, from.frames(), hop).way();
}

}  // namespace

double DelayCourse::at(double frame) const {
  const double place = std::clamp(frame / double(hop) - 1, 0.0, double(late.size() - 1));
  const auto k = int64_t(place);
  const double u = place - double(k);
  const auto v = [&](int64_t n) { return late[size_t(std::clamp<int64_t>(n, 0, std::ssize(late) - 1))]; };
  const double a = v(k - 1), b = v(k), c = v(k + 1), d = v(k + 2);
  return b + 0.5 * u * (c - a + u * (2 * a - 5 * b + 4 * c - d + u * (3 * (b - c) + d - a)));
}

void warp(std::span<const double> in, const DelayCourse& course, std::span<double> out, int64_t from, int64_t until,
          int64_t shift) {
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

double followed_correlation(const Planar& from, const Planar& to, int64_t hop) {
  Lags lags(from, to, {}, hop);
  const double gathered = best_way(lags, from.frames(), hop).gathered();
  return lags.most() > 0 ? gathered / lags.most() : 0;
}

DelayCourse course_of_delay(const Planar& from, const Planar& to, std::span<const uint8_t> told, int64_t hop) {
  DelayCourse course{hop, way_of_delay(from, to, told, hop)};
  if (course.late.empty()) return course;
  constexpr double far = 8;  // samples: what moves less hardly moves within a window
  const auto [low, high] = std::minmax_element(course.late.begin(), course.late.end());
  const bool moves_far = *high - *low >= far;
  course.late.resize(size_t(from.frames() / hop - 1), course.late.back());
  if (!moves_far) return course;
  Planar moved = from;
  for (int p = 0; p < from.channels(); ++p) warp(from.channel(p), course, moved.channel(p), 0, from.frames());
  const auto more = way_of_delay(moved, to, told, hop);
  for (size_t n = 0; n < std::min(more.size(), course.late.size()); ++n) course.late[n] += more[n];
  return course;
}

}  // namespace heathmist
