#include "core/measure/condition.hpp"

#include <algorithm>
#include <cmath>

#include "core/dsp/fft.hpp"
#include "core/dsp/median.hpp"
#include "core/dsp/simd.hpp"
#include "core/measure/clicks.hpp"

namespace heathmist {

namespace {

using dsp::simd::mean_square;

constexpr double silence = 1e-3;  // -60 dBFS
constexpr size_t most_places = 100;
constexpr int segment_s = 4;
constexpr double margin_s = 0.6, longest_dropout_s = 0.5, shortest_dropout_s = 0.001, beside_s = 0.005;
constexpr double sounding = 1e-5;                           // mean square beside a dropout, -50 dBFS
constexpr double edges_a_second = 8, gates_a_second = 0.5;  // more often than this it is how the sound is made
constexpr double together_s = 0.001;                        // in two channels, one moment
constexpr int window_seconds = 3;
constexpr double audible = 1e-6;  // mean square of a second that says anything of left and right

struct Sums {
  double ll = 0, rr = 0, lr = 0;
};

/// What one stretch of the clip says.
struct Stretch {
  int64_t first_sound = -1, last_sound = -1;
  std::vector<int64_t> clicks, dropouts;
  std::vector<Sums> seconds;
};

/// Runs of nothing that begin in [from, until).
void find_dropouts(std::span<const double> x, int64_t from, int64_t until, int rate, std::vector<int64_t>& found) {
  const auto shortest = int64_t(shortest_dropout_s * rate), longest = int64_t(longest_dropout_s * rate),
             beside = int64_t(beside_s * rate);
  for (int64_t n = std::max(from, beside); n < until; ++n) {
    if (x[size_t(n)] != 0 || x[size_t(n - 1)] == 0) continue;
    int64_t end = n;
    while (end < int64_t(x.size()) && x[size_t(end)] == 0) ++end;
    if (end - n >= shortest && end - n <= longest && end + beside <= int64_t(x.size()) &&
        mean_square(x.subspan(size_t(n - beside), size_t(beside))) > sounding &&
        mean_square(x.subspan(size_t(end), size_t(beside))) > sounding)
      found.push_back(n);
    n = end;
  }
}

Stretch study_stretch(const Clip& clip, Reader& reader, Planar& block, int64_t index) {
  const auto& f = clip.format();
  const int rate = f.sample_rate_hz;
  const auto margin = int64_t(margin_s * rate);
  const int64_t from = index * segment_s * rate, until = std::min(from + segment_s * rate, f.frames),
                first = std::max<int64_t>(0, from - margin);
  reader.read(first, std::min(until + margin, f.frames) - first, block);
  Stretch s;
  s.seconds.resize(segment_s);
  for (int c = 0; c < f.channels; ++c) {
    const auto x = block.channel(c);
    for (int64_t n = from; n < until; ++n)
      if (std::abs(x[size_t(n - first)]) > silence) {
        s.first_sound = s.first_sound < 0 ? n : std::min(s.first_sound, n);
        break;
      }
    for (int64_t n = until - 1; n >= from; --n)
      if (std::abs(x[size_t(n - first)]) > silence) {
        s.last_sound = std::max(s.last_sound, n);
        break;
      }
    for (const int64_t n : clicks_in(x, from - first, until - first, rate)) s.clicks.push_back(first + n);
    const size_t before = s.dropouts.size();
    find_dropouts(x, from - first, until - first, rate, s.dropouts);
    for (size_t n = before; n < s.dropouts.size(); ++n) s.dropouts[n] += first;
  }
  if (f.channels == 2)
    for (int64_t n = from; n < until; ++n) {
      const double l = block.channel(0)[size_t(n - first)], r = block.channel(1)[size_t(n - first)];
      Sums& sums = s.seconds[size_t((n - from) / rate)];
      sums.ll += l * l, sums.rr += r * r, sums.lr += l * r;
    }
  return s;
}

/// Moments in order, those of two channels as one.
std::vector<double> moments_of(std::vector<int64_t> frames, int rate) {
  std::sort(frames.begin(), frames.end());
  std::vector<double> moments;
  for (const int64_t n : frames)
    if (moments.empty() || double(n) / rate - moments.back() > together_s) moments.push_back(double(n) / rate);
  return moments;
}

/// What comes again and again belongs to the sound: those are left out that have many others within a second about.
std::vector<double> rare_of(const std::vector<double>& moments, double most_a_second, double about_s) {
  std::vector<double> rare;
  for (size_t n = 0; n < moments.size(); ++n) {
    const auto low = std::lower_bound(moments.begin(), moments.end(), moments[n] - about_s / 2),
               high = std::upper_bound(moments.begin(), moments.end(), moments[n] + about_s / 2);
    if (double(high - low) <= std::max(1.0, most_a_second * about_s)) rare.push_back(moments[n]);
  }
  return rare;
}

std::optional<double> correlation_of(const Sums& s) {
  return s.ll > 0 && s.rr > 0 ? std::optional(s.lr / std::sqrt(s.ll * s.rr)) : std::nullopt;
}

void correlate(const std::vector<Sums>& seconds, int rate, Condition& c) {
  Sums all;
  for (const Sums& s : seconds) all.ll += s.ll, all.rr += s.rr, all.lr += s.lr;
  c.correlation = correlation_of(all);
  for (size_t n = 0; n + window_seconds <= std::max<size_t>(window_seconds, seconds.size()); ++n) {
    Sums window;
    const size_t end = std::min(seconds.size(), n + window_seconds);
    for (size_t k = n; k < end; ++k) window.ll += seconds[k].ll, window.rr += seconds[k].rr, window.lr += seconds[k].lr;
    const double least = audible * rate * double(end - n);
    if (window.ll < least || window.rr < least) continue;
    if (const auto r = correlation_of(window); r && (!c.least_correlation || *r < *c.least_correlation))
      c.least_correlation = r, c.least_correlation_at_s = double(n);
  }
}

// ---- a side that is late -------------------------------------------------------------------------------------------
constexpr size_t lag_window = 1 << 15;
constexpr int64_t lag_windows = 40;
constexpr double most_lag_s = 0.02, alike = 0.8, clearly = 0.05, no_other = 0.92, least_share = 0.7;

/// By how much the second is late in one window, by the highest correlation; nothing where it is no clear one.
std::optional<double> lag_in(std::span<const double> left, std::span<const double> right, int rate,
                             dsp::RealFft<double>& fft) {
  const double energy = std::sqrt(mean_square(left) * mean_square(right));
  if (energy < audible) return {};
  std::vector<std::complex<double>> x(fft.bins());
  const auto load = [&](std::span<const double> from) {
    std::fill(fft.time().begin(), fft.time().end(), 0.0);
    std::copy(from.begin(), from.end(), fft.time().begin());
    fft.forward();
  };
  load(left);
  std::copy(fft.spectrum().begin(), fft.spectrum().end(), x.begin());
  load(right);
  for (size_t k = 0; k < x.size(); ++k) fft.spectrum()[k] *= std::conj(x[k]);
  fft.inverse();
  const double scale = 1 / (double(fft.size()) * energy * double(left.size()));
  const auto reach = int64_t(most_lag_s * rate), size = int64_t(fft.size());
  const auto at = [&](int64_t lag) { return scale * fft.time()[size_t((lag + size) % size)]; };
  int64_t best = 0;
  for (int64_t lag = -reach; lag <= reach; ++lag)
    if (at(lag) > at(best)) best = lag;
  if (at(best) < alike || at(best) - at(0) < clearly) return {};
  int64_t low = best, high = best;  // its own hill
  while (low > -reach && at(low - 1) < at(low)) --low;
  while (high < reach && at(high + 1) < at(high)) ++high;
  for (int64_t lag = -reach; lag <= reach; ++lag)
    if ((lag < low || lag > high) && at(lag) > no_other * at(best)) return {};
  const double a = at(best - 1), b = at(best), c = at(best + 1);
  return double(best) + (a - 2 * b + c < 0 ? 0.5 * (a - c) / (a - 2 * b + c) : 0);
}

std::optional<double> channel_delay(const Clip& clip, const Job& job) {
  const auto& f = clip.format();
  if (f.channels != 2 || f.frames < int64_t(lag_window)) return {};
  const int64_t room = f.frames - int64_t(lag_window),
                count = std::clamp<int64_t>(room / int64_t(lag_window) + 1, 1, lag_windows);
  struct State {
    std::unique_ptr<Reader> reader;
    dsp::RealFft<double> fft;
    Planar block{};
  };
  std::vector<std::optional<double>> lags(size_t(count), std::nullopt);
  std::vector<char> heard(size_t(count), 0);
  for_each_segment(
      count, job,
      [&] {
        return State{clip.reader(), dsp::RealFft<double>(2 * lag_window)};
      },
      [&](State& s, int64_t n) {
        s.reader->read(count > 1 ? room * n / (count - 1) : 0, int64_t(lag_window), s.block);
        heard[size_t(n)] = mean_square(s.block.channel(0)) > audible;
        lags[size_t(n)] = lag_in(s.block.channel(0), s.block.channel(1), f.sample_rate_hz, s.fft);
      });
  std::vector<double> found;
  for (const auto& lag : lags)
    if (lag) found.push_back(*lag);
  if (found.empty()) return {};
  const double middle = dsp::median(found);
  const auto agreeing =
      std::count_if(found.begin(), found.end(), [&](double lag) { return std::abs(lag - middle) < 0.6; });
  const auto all = std::count(heard.begin(), heard.end(), 1);
  if (std::abs(middle) < 0.4 || double(agreeing) < least_share * double(all)) return {};
  return middle;
}

}  // namespace

Condition study_condition(const Clip& clip, const Job& job) {
  const auto& f = clip.format();
  const int rate = f.sample_rate_hz;
  std::vector<Stretch> stretches(size_t((f.frames + segment_s * rate - 1) / (segment_s * rate)));
  for_each_segment(
      int64_t(stretches.size()), job.part(0, 0.9),
      [&] {
        return std::pair{clip.reader(), Planar()};
      },
      [&](auto& state, int64_t n) { stretches[size_t(n)] = study_stretch(clip, *state.first, state.second, n); });
  Condition c;
  int64_t first = f.frames, last = -1;
  std::vector<int64_t> clicks, dropouts;
  std::vector<Sums> seconds;
  for (const Stretch& s : stretches) {
    if (s.first_sound >= 0) first = std::min(first, s.first_sound), last = std::max(last, s.last_sound);
    clicks.insert(clicks.end(), s.clicks.begin(), s.clicks.end());
    dropouts.insert(dropouts.end(), s.dropouts.begin(), s.dropouts.end());
    seconds.insert(seconds.end(), s.seconds.begin(), s.seconds.end());
  }
  c.head_silence_s = double(first) / rate, c.tail_silence_s = double(f.frames - 1 - last) / rate;
  const auto rare_clicks = rare_of(moments_of(clicks, rate), edges_a_second, 0.5),
             rare_dropouts = rare_of(moments_of(dropouts, rate), gates_a_second, 8);
  const auto first_of = [](const std::vector<double>& all) {
    return std::vector<double>(all.begin(), all.begin() + std::ptrdiff_t(std::min(all.size(), most_places)));
  };
  c.clicks = std::ssize(rare_clicks), c.clicks_at_s = first_of(rare_clicks);
  c.dropouts = std::ssize(rare_dropouts), c.dropouts_at_s = first_of(rare_dropouts);
  if (f.channels == 2) correlate(seconds, rate, c);
  c.channel_delay_samples = channel_delay(clip, job.part(0.9, 1));
  return c;
}

}  // namespace heathmist
