// Echoes: single repeats, or several.
#include <algorithm>
#include <cmath>
#include <complex>
#include <numeric>
#include <set>
#include <span>

#include "core/compare/causes/echo_places.hpp"
#include "core/compare/causes/estimates.hpp"
#include "core/compare/causes/response_points.hpp"
#include "core/compare/causes/tap_fit.hpp"
#include "core/dsp/fft.hpp"
#include "core/dsp/simd.hpp"

namespace heathmist::causes {

namespace {

constexpr double most_read_s = 24;
constexpr size_t most_tried = 6;
constexpr int64_t around_peak = TapFit::around;
constexpr double early_s = 0.1;               // what low notes make of a filter may look like it
constexpr double hardly_less = 0.93;          // of what was left: a place that leaves so much holds no echo
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

/// The stretch that is read: the loudest where there are several, and no more than is quick.
Stretch read_from(const Excerpt& e, const Planar& model) {
  constexpr int64_t most_frames = 1 << 19, parts = 4;
  Stretch best;
  double most = -1;
  for (const Stretch& s : e.stretches) {
    const int64_t frames = std::min({s.frames, int64_t(most_read_s * e.rate_hz), most_frames});
    for (int64_t from = 0; from + frames <= s.frames; from += std::max<int64_t>(1, frames / parts)) {
      const auto part = model.channel(0).subspan(size_t(s.at + from), size_t(frames));
      const double power = std::inner_product(part.begin(), part.end(), part.begin(), 0.0);
      if (power > most) most = power, best = {s.first + from, s.at + from, frames};
    }
  }
  while (best.frames > 0 && !e.told[size_t(best.at + best.frames - 1)]) --best.frames;
  return best;
}

/// What is looked at of a pair of channels.
struct Channel {
  std::span<const double> model;
  std::vector<double> left;  // what the model leaves
  std::vector<Taps> taps{};  // the direct sound's own last
};

std::vector<Channel> channels_of(const Excerpt& e, const Planar& model, const Stretch& s) {
  std::vector<Channel> all;
  for (int p = 0; p < e.pairs(); ++p) {
    const auto left = left_of(e, model, p);
    all.push_back({model.channel(p).subspan(size_t(s.at), size_t(s.frames)),
                   {left.begin() + s.at, left.begin() + s.at + s.frames}});
  }
  return all;
}

/// What the taps leave of a channel, where it is told.
std::vector<double> rest_of(const Channel& c, std::span<const uint8_t> told) {
  std::vector<double> rest(c.left.size(), 0);
  for (const Taps& taps : c.taps) add(c.model, taps, rest);
  for (size_t n = 0; n < rest.size(); ++n) rest[n] = told[n] ? c.left[n] - rest[n] : 0;
  return rest;
}

/// Which of the places hold an echo: the one that takes out most, then another as long as that takes out more; and
/// whether one clean repeat at each does as well as all samples around it.
class Choice {
 public:
  Choice(const std::vector<Channel>& channels, const std::vector<int64_t>& places, int64_t from, int threads)
      : fits_(channels.size()) {
    each_pair(threads, int(channels.size()), [&](int p) {
      const Channel& c = channels[size_t(p)];
      fits_[size_t(p)].emplace(c.model, c.left, places, from);
    });
    for (size_t n = 0; n < places.size(); ++n) open_.push_back({places[n], fits_.front()->of_place(n)});
    for (const auto& fit : fits_) least_ += as_good_as_nothing * fit->energy();
  }

  /// False where nothing takes out much of what a gain leaves.
  bool make() {
    double now = left_by({0});
    if (now <= least_) return false;
    while (!open_.empty()) {
      const size_t best = best_of(open_, [&](const Place& place) { return left_by(joined(all_, place.around)); });
      const double then = left_by(joined(all_, open_[best].around));
      if (then > hardly_less * now) break;
      now = then;
      chosen_.push_back(open_[best]), all_ = joined(all_, open_[best].around);
      const Unknowns& around = open_[best].around;
      clean_.push_back(around[best_of(around, [&](int one) { return left_by(joined(clean_, {one})); })]);
      open_.erase(open_.begin() + long(best));
    }
    is_clean_ = left_by(clean_) < simpler_share * now;
    return !chosen_.empty();
  }

  std::vector<int64_t> places() const {
    std::vector<int64_t> all;
    for (const Place& place : chosen_) all.push_back(place.at);
    return all;
  }
  bool leaves_nothing() const { return left_by(is_clean_ ? clean_ : all_) <= least_; }

  /// Of one channel; the direct sound's own last.
  std::vector<Taps> taps(size_t channel) const {
    const TapFit& fit = *fits_[channel];
    const auto gains = fit.of(is_clean_ ? clean_ : all_).gains;
    std::vector<Taps> taps;
    size_t next = 1;
    for (const Place& place : chosen_) {
      const int one = clean_[taps.size() + 1];
      taps.push_back({is_clean_ ? fit.delays()[size_t(one)] : place.at, std::vector<double>(2 * around_peak + 1)});
      for (const int unknown : is_clean_ ? std::vector<int>{one} : place.around)
        taps.back().of[size_t(fit.delays()[size_t(unknown)] - taps.back().at + around_peak)] = gains[next++];
    }
    taps.push_back({0, std::vector<double>(2 * around_peak + 1)});
    taps.back().of[around_peak] = gains.front();
    return taps;
  }

 private:
  using Unknowns = std::vector<int>;
  struct Place {
    int64_t at = 0;
    Unknowns around{};
  };
  static Unknowns joined(Unknowns a, const Unknowns& b) {
    a.insert(a.end(), b.begin(), b.end());
    return a;
  }
  template <class All, class Left>
  static size_t best_of(const All& all, Left left) {
    std::vector<double> lefts;
    for (const auto& one : all) lefts.push_back(left(one));
    return size_t(std::min_element(lefts.begin(), lefts.end()) - lefts.begin());
  }
  /// Energy of all channels; what is less than can be told is as good as nothing.
  double left_by(const Unknowns& unknowns) const {
    double left = 0;
    for (const auto& fit : fits_) left += fit->energy() - fit->of(unknowns).taken;
    return std::max(least_, left);
  }

  std::vector<std::optional<TapFit>> fits_;
  std::vector<Place> open_, chosen_;
  Unknowns all_{0}, clean_{0};
  double least_ = 0;
  bool is_clean_ = false;
};

/// What the first that hold leave may show others, which the programme's own returns hid.
bool find_taps(std::vector<Channel>& channels, const Excerpt& e, const Stretch& s) {
  constexpr int most_rounds = 3;
  const auto told = std::span(e.told).subspan(size_t(s.at), size_t(s.frames));
  const int64_t from = std::find(told.begin(), told.end(), 1) - told.begin();
  std::vector<int64_t> known;
  std::vector<std::span<const double>> models;
  for (const Channel& c : channels) models.push_back(c.model);
  for (int round = 0; round < most_rounds; ++round) {
    auto places = known;
    std::vector<std::vector<double>> rests(channels.size());
    each_pair(e.threads, int(channels.size()), [&](int p) { rests[size_t(p)] = rest_of(channels[size_t(p)], told); });
    for (const int64_t place : echo_places(models, rests, told, e.rate_hz, e.threads))
      if (places.size() < most_tried && is_apart(place, known)) places.push_back(place);
    if (places.size() == known.size()) break;
    Choice choice(channels, places, from, e.threads);
    if (!choice.make() || choice.places() == known) break;
    known = choice.places();
    for (size_t p = 0; p < channels.size(); ++p) channels[p].taps = choice.taps(p);
    if (choice.leaves_nothing()) break;
  }
  return !known.empty();
}

/// The direct sound beside the taps, against the model.
double direct_of(const Channel& c) {
  constexpr double least = 0.05;  // less is no direct sound to tell an echo by
  return std::max(least, 1 + c.taps.back().of[around_peak]);
}

/// One place, of all channels.
struct Told {
  int64_t at = 0;
  std::vector<double> levels{};  // of each channel, against its direct sound
  double strongest = 0;
};

/// The strongest first; what a longer filter of one leaves beside its taps, or 40 dB beneath it, is no echo of its own.
std::vector<Told> told_places(const std::vector<Channel>& channels) {
  constexpr int64_t of_the_same = 3 * around_peak;
  constexpr double of_its_filter = 0.01;
  const auto less = [](double a, double b) { return std::abs(a) < std::abs(b); };
  std::vector<Told> all, told;
  for (size_t k = 0; k + 1 < channels.front().taps.size(); ++k) {
    Told t{.at = channels.front().taps[k].at};
    for (const Channel& c : channels) t.levels.push_back(level_of(c.taps[k], c.model) / direct_of(c));
    t.strongest = *std::max_element(t.levels.begin(), t.levels.end(), less);
    all.push_back(std::move(t));
  }
  std::stable_sort(all.begin(), all.end(),
                   [&](const Told& a, const Told& b) { return less(b.strongest, a.strongest); });
  for (Told& t : all)
    if (std::abs(t.strongest) >= of_its_filter * std::abs(all.front().strongest) &&
        std::none_of(told.begin(), told.end(), [&](const Told& o) { return std::abs(o.at - t.at) <= of_the_same; }))
      told.push_back(std::move(t));
  return told;
}

/// An echo of all channels, told by the one where it is strongest against its direct sound; where it is much weaker it
/// is none.
Cause echo_cause(const std::vector<Channel>& channels, double rate) {
  constexpr double much_weaker = 0.1;
  Json echoes = Json::array();
  std::set<int> with_echo;
  for (const Told& t : told_places(channels)) {
    for (size_t p = 0; p < t.levels.size(); ++p)
      if (std::abs(t.levels[p]) > much_weaker * std::abs(t.strongest)) with_echo.insert(int(p));
    echoes.push_back({{"time_ms", 1000.0 * double(t.at) / rate},
                      {"level_db", 20 * std::log10(std::max(1e-9, std::abs(t.strongest)))},
                      {"inverted", t.strongest < 0}});
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

/// An early echo is a comb all over the band, and not only where most of the programme is, as what a filter does to a
/// few low notes may look: of whichever twelfth octaves are known, all alike, the response must hold most of it.
bool is_comb(const Excerpt& e, const Planar& model, const PutIn& put, int64_t reach) {
  constexpr double certain = 8, most_of_it = 0.5;
  size_t size = 8192;
  while (int64_t(size) < 8 * reach) size *= 2;
  if (e.frames() < int64_t(8 * size)) return true;
  const Response seen = estimate_response(e, model, size, 1);
  Planar impulse(e.pairs(), int64_t(size));
  for (int p = 0; p < e.pairs(); ++p) impulse.channel(p)[size / 2] = 1;
  put(e, impulse);
  double there = 0, all = 0;
  dsp::RealFft<double> fft(size);
  for (size_t p = 0; p < size_t(e.pairs()); ++p) {
    for (size_t n = 0; n < size; ++n) fft.time()[n] = impulse.channel(int(p))[(n + size / 2) % size];
    fft.forward();
    const double most = *std::max_element(seen.power[p].begin(), seen.power[p].end());
    for (double hz = 20; hz < 0.49 * e.rate_hz; hz *= std::exp2(1.0 / 12)) {
      const auto [from, to] = bins_around(seen, hz);
      double across = 0, comb = 0, known = 0;
      for (size_t k = from; k <= to; ++k) {
        if (!tells(seen.power[p], most, k) || seen.certainty[p][k] < certain) continue;
        const std::complex<double> tooth = fft.spectrum()[k] - 1.0;
        across += (std::conj(tooth) * (seen.h[p][k] - 1.0)).real(), comb += std::norm(tooth), known += 1;
      }
      if (known > 0) there += across / known, all += comb / known;
    }
  }
  return there > most_of_it * all;
}

}  // namespace

std::optional<Found> estimate_echo(const Excerpt& e, const Model& model) {
  const Stretch s = read_from(e, model);
  if (s.frames < e.rate_hz / 2) return {};
  auto channels = channels_of(e, model, s);
  if (!find_taps(channels, e, s)) return {};
  Cause cause = echo_cause(channels, e.rate_hz);
  std::vector<std::vector<Taps>> taps;  // by pair
  for (Channel& c : channels) taps.push_back(std::move(c.taps));
  int64_t reach = around_peak;
  for (const Taps& t : taps.front()) reach = std::max(reach, t.at + around_peak);
  const PutIn put = [taps, threads = e.threads](const Places&, Planar& m) {
    each_pair(threads, m.channels(), [&](int p) {
      const std::vector<double> dry(m.channel(p).begin(), m.channel(p).end());
      for (const Taps& t : taps[size_t(p)]) add(dry, t, m.channel(p));
    });
  };
  if (double(reach) < early_s * e.rate_hz && !is_comb(e, model, put, reach)) return {};
  return Found{std::move(cause), put, double(reach) / e.rate_hz};
}

}  // namespace heathmist::causes
