// Echoes: single repeats, found as peaks of a long impulse response.
#include <algorithm>
#include <cmath>
#include <complex>
#include <numeric>
#include <set>
#include <span>

#include "core/compare/causes/estimates.hpp"
#include "core/dsp/fft.hpp"
#include "core/dsp/median.hpp"
#include "core/dsp/simd.hpp"

namespace heathmist::causes {

namespace {

constexpr double most_read_s = 24, most_late_s = 3;
constexpr double least_echo_s = 0.0015;  // nearer ones are an EQ's comb
constexpr double stands_out = 12;        // times the median of the response around
constexpr double least_level = 1e-4;
constexpr double least_bin_power = 1e-7;  // of the mean: bins with less say nothing
constexpr size_t most_echoes = 4;
constexpr int64_t around_peak = 24;  // samples of the response that go with a peak
constexpr int more_rounds = 2;
constexpr double hardly_less = 0.93;          // of what a gain leaves: so much after the first look is no echo's
constexpr double as_good_as_nothing = 1e-12;  // what a gain leaves where it was all
constexpr double simpler_share = 1.5;  // one clean repeat may leave so much more than many samples around its place

/// Samples of an impulse response around one place.
struct Taps {
  int64_t at = 0;
  std::vector<double> of{};  // 2 * around + 1
};

void add(std::span<const double> in, const Taps& taps, std::span<double> out) {
  constexpr int64_t chunk = 4096;
  const std::vector<double> turned(taps.of.rbegin(), taps.of.rend());
  std::vector<double> from(size_t(chunk + 2 * around_peak)), wet(static_cast<size_t>(chunk));
  const auto frames = std::ssize(out);
  for (int64_t n = 0; n < frames; n += chunk) {
    const int64_t count = std::min(chunk, frames - n), first = n - taps.at - around_peak,
                  last = first + count + 2 * around_peak;
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

/// What turns the model into what is left, by division of the spectra of all of it. Single precision tells where
/// something is, for half the work.
template <class Real>
class Division {
 public:
  explicit Division(std::span<const double> model)
      : fft_(2 * dsp::good_fft_size(std::max<size_t>(2048, model.size() * 5 / 8))) {
    transform(model);
    model_.assign(fft_.spectrum().begin(), fft_.spectrum().end());
    for (const auto& v : model_) power_ += double(std::norm(v)) / double(model_.size());
  }

  std::vector<double> of(std::span<const double> left) {
    transform(left);
    const auto y = fft_.spectrum();
    const auto least = Real(least_bin_power * power_), scale = Real(1 / double(fft_.size()));
    for (size_t k = 0; k < y.size(); ++k) {
      const auto x = model_[k], z = y[k];  // conj(x) z
      const Real by = scale / (std::norm(x) + least);
      y[k] = {by * (x.real() * z.real() + x.imag() * z.imag()), by * (x.real() * z.imag() - x.imag() * z.real())};
    }
    fft_.inverse();
    return {fft_.time().begin(), fft_.time().end()};
  }

 private:
  void transform(std::span<const double> x) {
    std::transform(x.begin(), x.end(), fft_.time().begin(), [](double v) { return Real(v); });
    std::fill(fft_.time().begin() + std::ssize(x), fft_.time().end(), Real(0));
    fft_.forward();
  }

  dsp::RealFft<Real> fft_;
  std::vector<std::complex<Real>> model_;
  double power_ = 0;
};

/// Places where the response stands out.
std::vector<int64_t> peaks(const std::vector<double>& h, double rate) {
  const auto reach = std::min(int64_t(h.size() / 2), int64_t(most_late_s * rate)), least = int64_t(least_echo_s * rate);
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
    for (int64_t n = std::max<int64_t>(0, at - least - 2 * around_peak);
         n < std::min(int64_t(sizes.size()), at - least + 2 * around_peak); ++n)
      sizes[size_t(n)] = 0;
  }
  return found;
}

/// What a response says around each place goes to the taps there, and out of what is left.
void take_out(std::span<const double> model, const std::vector<double>& h, std::vector<Taps>& taps,
              std::span<double> left) {
  const auto size = std::ssize(h);
  for (Taps& t : taps) {
    Taps minus{t.at, {}};
    for (int64_t k = -around_peak; k <= around_peak; ++k)
      minus.of.push_back(t.at || k == 0 ? -h[size_t((t.at + k + size) % size)] : 0);
    add(model, minus, left);
    for (size_t k = 0; k < t.of.size(); ++k) t.of[k] -= minus.of[k];
  }
  for (Taps& t : taps) scale_to(left, model, t);
}

/// One clean repeat near a place: what is left is so much of the model, and so much of it later, by least squares at
/// every lag. In sustained sounds the division of spectra tells no more than where.
class OneRepeat {
 public:
  OneRepeat(std::span<const double> model, std::span<const double> left) : model_(model), left_(left) {}
  struct Gains {
    double direct = 0, repeat = 0;
    double had = 0, taken = 0;  ///< energy of what is left, behind the lag, and of what these take out of it
    double by_gain = 0;         ///< and a gain alone
  };
  Gains at(int64_t lag) const {
    const auto from = size_t(lag);  // before that it repeats what came before
    double own = 0, later = 0, both = 0, direct = 0, across = 0;
    Gains g;
    for (size_t n = from; n < model_.size(); ++n) {
      const double now = model_[n], x = model_[n - from], d = left_[n];
      own += now * now, later += x * x, both += x * now, direct += now * d, across += x * d, g.had += d * d;
    }
    g.by_gain = own > 0 ? direct * direct / own : 0;
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

/// What is looked at of a pair of channels.
struct Channel {
  std::span<const double> model;
  std::vector<double> had, left{};  // what the model leaves; the same without the taps
  std::vector<Taps> taps{};         // the direct sound's own last
};

std::vector<Channel> channels_of(const Excerpt& e, const Planar& model, const Stretch& s) {
  std::vector<Channel> all;
  for (int p = 0; p < e.pairs(); ++p) {
    const auto left = left_of(e, model, p);
    all.push_back({model.channel(p).subspan(size_t(s.at), size_t(s.frames)),
                   {left.begin() + s.at, left.begin() + s.at + s.frames}});
    all.back().left = all.back().had;
  }
  return all;
}

/// Responses of all, at first in single precision.
std::vector<std::vector<double>> responses(const std::vector<Channel>& channels, int threads) {
  std::vector<std::vector<double>> h(channels.size());
  each_pair(threads, int(channels.size()), [&](int p) {
    const Channel& c = channels[size_t(p)];
    h[size_t(p)] = Division<float>(c.model).of(c.left);
  });
  return h;
}

std::vector<double> mean_of(const std::vector<std::vector<double>>& all) {
  std::vector<double> mean(all.front().size());
  for (const auto& h : all)
    for (size_t n = 0; n < h.size(); ++n) mean[n] += h[n] / double(all.size());
  return mean;
}

/// Energy that the taps leave of all, from a place on.
double left_from(const std::vector<Channel>& channels, int64_t from) {
  double sum = 0;
  for (const Channel& c : channels)
    sum += std::inner_product(c.left.begin() + from, c.left.end(), c.left.begin() + from, 0.0);
  return sum;
}

/// Finds the taps at these places, or one clean repeat where that does as well; false where neither takes out much.
bool find_taps(std::vector<Channel>& channels, std::vector<std::vector<double>> h, const std::vector<int64_t>& places,
               int threads) {
  const std::vector<double> none(2 * around_peak + 1);
  std::vector<OneRepeat> repeats;
  for (Channel& c : channels) {
    repeats.emplace_back(c.model, c.had);
    for (const int64_t at : places) c.taps.push_back({at, none});
    c.taps.push_back({0, none});  // the gain is not known better before
  }
  const int64_t lag = best_lag(repeats, places.front(), threads);
  double had = 0, by_gain = 0, by_one = 0;  // what is left, and what those leave of it
  std::vector<OneRepeat::Gains> gains;
  for (const auto& r : repeats) {
    gains.push_back(r.at(lag));
    had += gains.back().had, by_gain += gains.back().had - gains.back().by_gain;
    by_one += gains.back().had - gains.back().taken;
  }
  if (by_gain < as_good_as_nothing * had) return false;
  const auto take_out_all = [&](auto response_of) {
    each_pair(threads, int(channels.size()), [&](int p) {
      Channel& c = channels[size_t(p)];
      take_out(c.model, response_of(size_t(p)), c.taps, c.left);
    });
  };
  take_out_all([&](size_t p) { return std::move(h[p]); });
  if (std::min(by_one, left_from(channels, lag)) > hardly_less * by_gain) return false;
  std::vector<std::optional<Division<double>>> divisions(channels.size());
  for (int round = 0; round < more_rounds; ++round)
    take_out_all([&](size_t p) {
      if (!divisions[p]) divisions[p].emplace(channels[p].model);
      return divisions[p]->of(channels[p].left);
    });
  if (by_one < simpler_share * left_from(channels, lag))
    for (size_t p = 0; p < channels.size(); ++p) {
      channels[p].taps.assign(2, {0, none});
      channels[p].taps[0].at = lag;
      channels[p].taps[0].of[around_peak] = gains[p].repeat, channels[p].taps[1].of[around_peak] = gains[p].direct;
    }
  return true;
}

/// The direct sound beside the taps, against the model.
double direct_of(const Channel& c) {
  constexpr double least = 0.05;  // less is no direct sound to tell an echo by
  return std::max(least, 1 + c.taps.back().of[around_peak]);
}

/// An echo of all channels, told by the one where it is strongest against its direct sound; where it is much weaker it
/// is none.
Cause echo_cause(const std::vector<Channel>& channels, double rate) {
  constexpr double much_weaker = 0.1;
  Json echoes = Json::array();
  std::set<int> with_echo;
  for (size_t k = 0; k < channels.front().taps.size(); ++k) {
    const int64_t at = channels.front().taps[k].at;
    if (!at) continue;
    std::vector<double> levels;
    for (const Channel& c : channels) levels.push_back(level_of(c.taps[k], c.model) / direct_of(c));
    const double strongest =
        *std::max_element(levels.begin(), levels.end(), [](double a, double b) { return std::abs(a) < std::abs(b); });
    for (size_t p = 0; p < levels.size(); ++p)
      if (std::abs(levels[p]) > much_weaker * std::abs(strongest)) with_echo.insert(int(p));
    echoes.push_back({{"time_ms", 1000.0 * double(at) / rate},
                      {"level_db", 20 * std::log10(std::max(1e-9, std::abs(strongest)))},
                      {"inverted", strongest < 0}});
  }
  double direct = 0;
  for (const Channel& c : channels) direct += direct_of(c) / double(channels.size());
  Cause c{.code = "echo"};
  c.channels.assign(with_echo.begin(), with_echo.end());
  c.values = {{"time_ms", echoes[0]["time_ms"]},
              {"level_db", echoes[0]["level_db"]},
              {"direct_db", 20 * std::log10(direct)},
              {"echoes", echoes},
              {"in_all", with_echo.size() == channels.size()}};
  return c;
}

}  // namespace

std::optional<Found> estimate_echo(const Excerpt& e, const Model& model) {
  const Stretch s = read_from(e, model);
  if (s.frames < e.rate_hz / 2) return {};
  auto channels = channels_of(e, model, s);
  auto h = responses(channels, e.threads);
  const auto places = peaks(mean_of(h), e.rate_hz);
  if (places.empty() || !find_taps(channels, std::move(h), places, e.threads)) return {};
  Cause cause = echo_cause(channels, e.rate_hz);
  std::vector<std::vector<Taps>> taps;  // by pair
  for (Channel& c : channels) taps.push_back(std::move(c.taps));
  int64_t reach = around_peak;
  for (const Taps& t : taps.front()) reach = std::max(reach, t.at + around_peak);
  return Found{std::move(cause),
               [taps, threads = e.threads](const Places&, Planar& m) {
                 each_pair(threads, m.channels(), [&](int p) {
                   const std::vector<double> dry(m.channel(p).begin(), m.channel(p).end());
                   for (const Taps& t : taps[size_t(p)]) add(dry, t, m.channel(p));
                 });
               },
               double(reach) / e.rate_hz};
}

}  // namespace heathmist::causes
