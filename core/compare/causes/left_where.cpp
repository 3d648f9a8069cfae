#include "core/compare/causes/left_where.hpp"

#include <algorithm>
#include <cmath>

#include "core/dsp/fft.hpp"

namespace heathmist::causes {

namespace {

constexpr double lowest_octave_hz = 31.25, bottom_db = -160;
constexpr int most_moments = 60;
constexpr double least_moment_s = 0.1;
constexpr size_t where_fft_size = 8192;
constexpr double says_nothing = 1e-9;  // of the master's power: a band, or a moment, in which there is no programme

double level_db(double left, double master) {
  return master > 0 && left > 0 ? std::max(bottom_db, 10 * std::log10(left / master)) : bottom_db;
}

}  // namespace

WhereItLies::WhereItLies(const Excerpt& excerpt) : e_(excerpt) {
  piece_ = std::max(int64_t(least_moment_s * e_.rate_hz), e_.frames() / most_moments + 1);
  for (double hz = lowest_octave_hz; hz * std::sqrt(2.0) < 0.5 * e_.rate_hz && hz < 20000; hz *= 2)
    octaves_.push_back(hz);
  for (const Stretch& s : e_.stretches)
    for (int64_t at = s.at; at < s.at + s.frames; at += piece_) moments_.push_back(at);
  master_ = powers_of(
      [&](int pair) { return std::vector<double>(e_.master->channel(pair).begin(), e_.master->channel(pair).end()); });
}

template <class Sound>
WhereItLies::Powers WhereItLies::powers_of(Sound sound) const {
  Powers sum{std::vector<double>(octaves_.size(), 0), std::vector<double>(moments_.size(), 0)};
  dsp::RealFft<double> fft(where_fft_size);
  const auto window = dsp::hann(where_fft_size);
  const double bin_hz = double(e_.rate_hz) / double(where_fft_size);
  for (int p = 0; p < e_.pairs(); ++p) {
    const auto x = sound(p);
    for (size_t m = 0; m < moments_.size(); ++m) {
      const int64_t end = std::min(moments_[m] + piece_, e_.frames());
      for (int64_t n = moments_[m]; n < end; ++n)
        if (e_.told[size_t(n)]) sum.over_time[m] += x[size_t(n)] * x[size_t(n)];
    }
    for (size_t at = 0; at + where_fft_size <= x.size(); at += where_fft_size) {
      if (!e_.told[at] || !e_.told[at + where_fft_size - 1]) continue;
      for (size_t n = 0; n < where_fft_size; ++n) fft.time()[n] = window[n] * x[at + n];
      fft.forward();
      for (size_t k = 0; k < octaves_.size(); ++k) {
        const auto from = size_t(std::ceil(octaves_[k] / std::sqrt(2.0) / bin_hz)),
                   to = std::min(fft.bins(), size_t(std::ceil(octaves_[k] * std::sqrt(2.0) / bin_hz)));
        for (size_t n = from; n < to; ++n) sum.by_octave[k] += std::norm(fft.spectrum()[n]);
      }
    }
  }
  return sum;
}

LeftWhere WhereItLies::of(const Planar& model) const {
  const Powers left = powers_of([&](int pair) { return left_of(e_, model, pair); });
  LeftWhere where;
  for (size_t k = 0; k < octaves_.size(); ++k)
    where.by_octave_db.push_back(level_db(left.by_octave[k], master_.by_octave[k]));
  for (size_t m = 0; m < moments_.size(); ++m)
    where.over_time_db.push_back(level_db(left.over_time[m], master_.over_time[m]));
  return where;
}

void WhereItLies::tell(Cause& cause, const LeftWhere& before, const LeftWhere& after) const {
  const auto has_programme = [](const std::vector<double>& powers, size_t n) {
    return powers[n] > says_nothing * *std::max_element(powers.begin(), powers.end());
  };
  for (size_t k = 0; k < octaves_.size(); ++k)
    if (has_programme(master_.by_octave, k))
      cause.by_octave.push_back({octaves_[k], before.by_octave_db[k], after.by_octave_db[k]});
  for (size_t m = 0; m < moments_.size(); ++m)
    if (has_programme(master_.over_time, m))
      cause.over_time.push_back({e_.seconds_at(std::min(e_.frames() - 1, moments_[m] + piece_ / 2)),
                                 before.over_time_db[m], after.over_time_db[m]});
}

}  // namespace heathmist::causes
