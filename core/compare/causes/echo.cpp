// Echoes: single repeats, found as peaks of a long impulse response.
#include <algorithm>
#include <cmath>
#include <complex>
#include <numeric>
#include <span>

#include "core/compare/causes/estimates.hpp"
#include "core/dsp/fft.hpp"
#include "core/dsp/median.hpp"
#include "core/dsp/simd.hpp"

namespace heathmist::causes {

namespace {

constexpr double most_read_s = 24, most_late_s = 3;
constexpr double least_s = 0.0015;  // nearer ones are an EQ's comb
constexpr double stands_out = 12;   // times the median of the response around
constexpr double least_level = 1e-4;
constexpr double least_power = 1e-7;  // of the mean: bins with less say nothing
constexpr size_t most_echoes = 4;
constexpr int64_t around = 24;  // samples of the response that go with a peak
constexpr int rounds = 3;
constexpr double simpler_share = 1.5;  // one clean repeat may leave so much more than many samples around its place

/// Samples of an impulse response around one place.
struct Taps {
  int64_t at = 0;
  std::vector<double> of{};  // 2 * around + 1
};

void add(std::span<const double> in, const Taps& taps, std::span<double> out) {
  constexpr int64_t chunk = 4096;
  const std::vector<double> turned(taps.of.rbegin(), taps.of.rend());
  std::vector<double> from(size_t(chunk + 2 * around)), wet(static_cast<size_t>(chunk));
  const auto frames = std::ssize(out);
  for (int64_t n = 0; n < frames; n += chunk) {
    const int64_t count = std::min(chunk, frames - n), first = n - taps.at - around, last = first + count + 2 * around;
    const double* read = in.data() + first;
    if (first < 0 || last > std::ssize(in)) {  // silence around it
      for (int64_t k = first; k < last; ++k) from[size_t(k - first)] = k >= 0 && k < std::ssize(in) ? in[size_t(k)] : 0;
      read = from.data();
    }
    dsp::simd::convolve(read, turned.data(), int(turned.size()), wet.data(), count);
    for (int64_t k = 0; k < count; ++k) out[size_t(n + k)] += wet[size_t(k)];
  }
}

/// How strong they make it, by its RMS against that of what they repeat; negative where the greatest of them is.
double level_of(const Taps& taps, std::span<const double> in) {
  std::vector<double> wet(in.size(), 0);
  add(in, taps, wet);
  double out = 0, dry = 0;
  for (const double x : wet) out += x * x;
  for (size_t n = 0; n + size_t(taps.at) < in.size(); ++n) dry += in[n] * in[n];
  const auto [low, high] = std::minmax_element(taps.of.begin(), taps.of.end());
  return dry > 0 ? (-*low > *high ? -1 : 1) * std::sqrt(out / dry) : 0;
}

/// What the end of the file cuts off is missing in the division of spectra: the size of the taps by least squares.
void scale_to(std::span<double> left, std::span<const double> in, Taps& taps) {
  std::vector<double> wet(in.size(), 0);
  add(in, taps, wet);
  double across = 0, own = 0;
  for (size_t n = 0; n < wet.size(); ++n) across += left[n] * wet[n], own += wet[n] * wet[n];
  if (!(own > 0)) return;
  const double more = across / own;
  for (double& v : taps.of) v *= 1 + more;
  for (size_t n = 0; n < wet.size(); ++n) left[n] -= more * wet[n];
}

/// What turns the model into what is left, by division of the spectra of all of it.
class Division {
 public:
  explicit Division(std::span<const double> model)
      : fft_(2 * dsp::good_fft_size(std::max<size_t>(2048, model.size() * 5 / 8))), model_(transformed(model)) {
    for (const auto& v : model_) power_ += std::norm(v) / double(model_.size());
  }

  std::vector<double> of(std::span<const double> left) {
    const auto y = transformed(left);
    for (size_t k = 0; k < y.size(); ++k)
      fft_.spectrum()[k] =
          std::conj(model_[k]) * y[k] / (std::norm(model_[k]) + least_power * power_) / double(fft_.size());
    fft_.inverse();
    return {fft_.time().begin(), fft_.time().end()};
  }

 private:
  std::vector<std::complex<double>> transformed(std::span<const double> x) {
    std::fill(fft_.time().begin(), fft_.time().end(), 0.0);
    std::copy(x.begin(), x.end(), fft_.time().begin());
    fft_.forward();
    return {fft_.spectrum().begin(), fft_.spectrum().end()};
  }

  dsp::RealFft<double> fft_;
  std::vector<std::complex<double>> model_;
  double power_ = 0;
};

/// Places where the response stands out.
std::vector<int64_t> peaks(const std::vector<double>& h, double rate) {
  const auto reach = std::min(int64_t(h.size() / 2), int64_t(most_late_s * rate)), least = int64_t(least_s * rate);
  std::vector<double> sizes;
  for (int64_t n = least; n < reach; ++n) sizes.push_back(std::abs(h[size_t(n)]));
  if (sizes.size() < 100) return {};
  const double floor = std::max(least_level, stands_out * dsp::median(sizes));
  std::vector<int64_t> found;
  double first = 0;
  for (size_t round = 0; round < most_echoes; ++round) {
    const auto best = std::max_element(sizes.begin(), sizes.end());
    if (*best < floor || *best < 0.02 * first) break;
    first = std::max(first, *best);
    const int64_t at = best - sizes.begin() + least;
    found.push_back(at);
    for (int64_t n = std::max<int64_t>(0, at - least - 2 * around);
         n < std::min(int64_t(sizes.size()), at - least + 2 * around); ++n)
      sizes[size_t(n)] = 0;
  }
  return found;
}

/// One clean repeat near a place: what is left is so much of the model, and so much of it later, by least squares at
/// every lag. In sustained sounds the division of spectra tells no more than where.
class OneRepeat {
 public:
  OneRepeat(std::span<const double> model, std::span<const double> left) : model_(model), left_(left) {}
  struct Gains {
    double direct = 0, repeat = 0;
    double had = 0, taken = 0;  ///< energy of what is left, behind the lag, and of what these take out of it
  };
  Gains at(int64_t lag) const {
    const auto from = size_t(lag);  // before that it repeats what came before
    double own = 0, later = 0, both = 0, direct = 0, across = 0;
    Gains g;
    for (size_t n = from; n < model_.size(); ++n) {
      const double now = model_[n], x = model_[n - from], d = left_[n];
      own += now * now, later += x * x, both += x * now, direct += now * d, across += x * d, g.had += d * d;
    }
    const double det = own * later - both * both;
    if (!(det > 1e-9 * own * later)) return g;
    g.direct = (direct * later - across * both) / det, g.repeat = (across * own - direct * both) / det;
    g.taken = g.direct * direct + g.repeat * across;
    return g;
  }

 private:
  std::span<const double> model_, left_;
};

/// The lag within four samples of `place` at which one repeat takes out most of all pairs.
int64_t best_lag(const std::vector<OneRepeat>& repeats, int64_t place, int threads) {
  constexpr int64_t near = 4;
  std::vector<double> taken(2 * near + 1);
  each_pair(threads, int(taken.size()), [&](int k) {
    for (const auto& r : repeats) taken[size_t(k)] += r.at(place - near + k).taken;
  });
  return place - near + (std::max_element(taken.begin(), taken.end()) - taken.begin());
}

/// The stretch that is read: the loudest where there are several, and no more than is quick.
Stretch read_from(const Excerpt& e, const Planar& model) {
  Stretch best;
  double most = -1;
  for (const Stretch& s : e.stretches) {
    double power = 0;
    for (int64_t n = s.at; n < s.at + s.frames; ++n) power += std::pow(model.channel(0)[size_t(n)], 2);
    if (power > most) most = power, best = s;
  }
  best.frames = std::min(best.frames, int64_t(most_read_s * e.rate_hz));
  while (best.frames > 0 && !e.told[size_t(best.at + best.frames - 1)]) --best.frames;
  return best;
}

}  // namespace

std::optional<Found> estimate_echo(const Excerpt& e, const Planar& model) {
  const Stretch s = read_from(e, model);
  if (s.frames < e.rate_hz / 2) return {};
  const auto pairs = size_t(e.pairs());
  std::vector<std::vector<Taps>> taps(pairs);  // by pair; the direct sound's own last
  std::vector<std::vector<double>> left(pairs), response(pairs);
  std::vector<std::unique_ptr<Division>> division(pairs);
  const auto part = [&](int p) { return model.channel(p).subspan(size_t(s.at), size_t(s.frames)); };
  each_pair(e.threads, e.pairs(), [&](int pair) {
    const auto p = size_t(pair);
    const auto all = left_of(e, model, pair);
    left[p].assign(all.begin() + s.at, all.begin() + s.at + s.frames);
    division[p] = std::make_unique<Division>(part(pair));
    response[p] = division[p]->of(left[p]);
  });
  std::vector<double> mean(response.front().size());
  for (const auto& h : response)
    for (size_t n = 0; n < h.size(); ++n) mean[n] += h[n] / e.pairs();
  const auto found = peaks(mean, e.rate_hz);
  if (found.empty()) return {};
  each_pair(e.threads, e.pairs(), [&](int pair) {
    const auto p = size_t(pair);
    auto& own = taps[p];
    for (const int64_t at : found) own.push_back({at, std::vector<double>(2 * around + 1)});
    own.push_back({0, std::vector<double>(2 * around + 1)});  // the gain is not known better before
    for (int round = 0; round < rounds; ++round) {
      const auto h = round == 0 ? std::move(response[p]) : division[p]->of(left[p]);
      for (Taps& t : own) {
        Taps minus{t.at, {}};
        for (int64_t k = -around; k <= around; ++k)
          minus.of.push_back(t.at || k == 0 ? -h[size_t(t.at + k + int64_t(h.size())) % h.size()] : 0);
        add(part(pair), minus, left[p]);
        for (size_t k = 0; k < t.of.size(); ++k) t.of[k] -= minus.of[k];
      }
      for (Taps& t : own) scale_to(left[p], part(pair), t);
    }
  });
  std::vector<OneRepeat> repeats;
  std::vector<std::vector<double>> whole(pairs);
  for (size_t p = 0; p < pairs; ++p) {
    const auto all = left_of(e, model, int(p));
    whole[p].assign(all.begin() + s.at, all.begin() + s.at + s.frames);
    repeats.emplace_back(part(int(p)), whole[p]);
  }
  const int64_t lag = best_lag(repeats, found.front(), e.threads);
  double by_taps = 0, by_one = 0;
  for (size_t p = 0; p < pairs; ++p) {
    const auto gains = repeats[p].at(lag);
    by_one += gains.had - gains.taken;
    by_taps += std::inner_product(left[p].begin() + lag, left[p].end(), left[p].begin() + lag, 0.0);
  }
  if (by_one < simpler_share * by_taps)
    for (size_t p = 0; p < pairs; ++p) {
      const auto gains = repeats[p].at(lag);
      taps[p].assign(2, {0, std::vector<double>(2 * around + 1)});
      taps[p][0].at = lag, taps[p][0].of[around] = gains.repeat, taps[p][1].of[around] = gains.direct;
    }
  Json echoes = Json::array();
  for (const Taps& t : taps.front()) {
    if (!t.at) continue;
    const double level = level_of(t, part(0));
    echoes.push_back({{"time_ms", 1000.0 * double(t.at) / e.rate_hz},
                      {"level_db", 20 * std::log10(std::max(1e-9, std::abs(level)))},
                      {"inverted", level < 0}});
  }
  Cause c{.code = "echo"};
  for (int p = 0; p < e.pairs(); ++p) c.channels.push_back(p);
  c.values = {{"time_ms", echoes[0]["time_ms"]}, {"level_db", echoes[0]["level_db"]}, {"echoes", echoes}};
  int64_t reach = around;
  for (const Taps& t : taps.front()) reach = std::max(reach, t.at + around);
  return Found{c,
               [taps, threads = e.threads](const Places&, Planar& m) {
                 each_pair(threads, m.channels(), [&](int p) {
                   const std::vector<double> dry(m.channel(p).begin(), m.channel(p).end());
                   for (const Taps& t : taps[size_t(p)]) add(dry, t, m.channel(p));
                 });
               },
               double(reach) / e.rate_hz};
}

}  // namespace heathmist::causes
