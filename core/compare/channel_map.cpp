#include "core/compare/channel_map.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <numeric>

namespace heathmist {

namespace {

constexpr size_t most_anchors = 12;

/// What of two channels no filter explains: 1 - coherence, by power.
double incoherence(const CrossSpectra& s) {
  double own = 0, all = 0;
  for (size_t k = 1; k < s.cross.size(); ++k) {
    const double power = std::sqrt(s.master[k] * s.ret[k]);
    own += power * (1 - s.coherence(k)), all += power;
  }
  return all > 0 ? own / all : 1;
}

/// The two were one: whatever they are held against, they are the same.
bool is_one(const CrossSpectra& a, const CrossSpectra& b) {
  constexpr double same = 1e-6;
  double apart = 0, all = 0;
  for (size_t k = 0; k < a.cross.size(); ++k)
    apart += std::norm(a.cross[k] - b.cross[k]) + std::pow(a.ret[k] - b.ret[k], 2),
        all += std::norm(a.cross[k]) + std::pow(a.ret[k], 2);
  return apart <= same * all;
}

}  // namespace

ChannelMap find_pairs(const Clip& master, const Clip& ret, std::vector<Anchor> some, const DelayLine& line,
                      const Job& job) {
  const int m_count = master.format().channels, r_count = ret.format().channels;
  auto pairs = plain_pairs(m_count, r_count);
  std::vector<ChannelPair> all;
  for (int m = 0; m < m_count; ++m)
    for (int r = 0; r < r_count; ++r) {
      ChannelPair pair;
      pair.master = m;
      pair.ret = r;
      all.push_back(pair);
    }
  if (some.size() > most_anchors) some.resize(most_anchors);
  const auto crossed = cross_all(some, master, ret, line.delay, line.drift_ppm, job);
  std::vector<double> unexplained(all.size()), by_no_filter(all.size());
  for_each_segment(
      int64_t(all.size()), Job{job.stop, {}, job.threads}, [] { return 0; },
      [&](int, int64_t n) {
        const auto i = size_t(n);
        const CrossSpectra own = crossed.pair(all[i].master, all[i].ret);
        const auto found = phase_delay(own.cross, snr_weights({own}));
        all[i].inverted = found.inverted;
        std::complex<double> sum = 0;
        for (size_t k = 0; k < own.cross.size(); ++k)
          sum += own.cross[k] *
                 std::polar(1.0, 2 * std::numbers::pi * double(k) * found.samples / double(CrossSpectra::size));
        const double power =
            std::reduce(own.master.begin(), own.master.end()) * std::reduce(own.ret.begin(), own.ret.end());
        unexplained[i] = power > 0 ? 1 - std::min(1.0, sum.real() * sum.real() / power) : 1;
        by_no_filter[i] = incoherence(own);
      });
  const auto place = [&](int m, int r) { return size_t(m * r_count + r); };
  const auto cost = [&](const std::vector<ChannelPair>& some_pairs, const std::vector<double>& each) {
    double sum = 0;
    for (const auto& p : some_pairs) sum += each[place(p.master, p.ret)];
    return sum;
  };
  if (m_count > 1 && r_count > 1) {  // greedy: the best match first
    std::vector<size_t> order(all.size());
    std::iota(order.begin(), order.end(), 0);
    std::sort(order.begin(), order.end(), [&](size_t a, size_t b) { return unexplained[a] < unexplained[b]; });
    std::vector<ChannelPair> matched;
    for (const size_t i : order)
      if (std::none_of(matched.begin(), matched.end(),
                       [&](const auto& p) { return p.master == all[i].master || p.ret == all[i].ret; }))
        matched.push_back(all[i]);
    // Of two channels that are next to one chance says which is which, or what a filter made of their sides.
    constexpr double next_to_nothing = 1e-7, clearly = 4;
    const double by_plain = cost(pairs, by_no_filter), by_matched = cost(matched, by_no_filter);
    if (cost(matched, unexplained) + next_to_nothing < 0.7 * cost(pairs, unexplained) &&
        by_matched < 0.9 * by_plain + 1e-6 && by_matched < clearly * by_plain)
      pairs = matched;
  }
  std::sort(pairs.begin(), pairs.end(), [](const auto& a, const auto& b) { return a.master < b.master; });
  for (auto& p : pairs) p.inverted = all[place(p.master, p.ret)].inverted;
  if (m_count != 2 || r_count != 2 || !is_one(crossed.pair(0, 0), crossed.pair(0, 1))) return {pairs, false};
  // One channel in both is not inverted against the master's other side, however that runs.
  const auto nearest = std::min_element(unexplained.begin(), unexplained.end()) - unexplained.begin();
  for (auto& p : pairs) p.inverted = all[size_t(nearest)].inverted;
  return {pairs, true};
}

}  // namespace heathmist
