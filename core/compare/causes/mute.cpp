// Stretches, or whole channels, in which nothing comes back.
#include <algorithm>
#include <cmath>

#include "core/compare/causes/estimates.hpp"

namespace heathmist::causes {

namespace {

constexpr double silent_share = 1e-5;  // of the model's power: under that nothing comes back
constexpr double least_master = 1e-9;  // mean square under which the master says nothing
constexpr double border_s = 0.11;      // beside a stretch's border nothing may be read
constexpr double mute_s = 0.5;         // shorter ones are dropouts
constexpr double least_mute_s = 0.0004, surely_s = 0.002;
// Of the power under which nothing comes back, so much the master must have there; a short one might be chance.
constexpr double heard_over = 10, clearly_heard_over = 1000;
constexpr double whole_channel = 0.98;  // of what the master has there

struct Gap {
  int pair;
  int64_t from, to;  // places, or times
};

/// On to the end of the silence where a stretch's border, of which nothing may be read, lies within it.
int64_t across_border(const Excerpt& e, int pair, int64_t at, int64_t step, double floor) {
  const auto r = e.ret.channel(pair);
  int64_t more = 0;
  for (int64_t n = at; n >= 0 && n < e.frames() && !e.told[size_t(n)] && std::abs(r[size_t(n)]) <= floor; n += step) {
    const bool border = std::any_of(e.stretches.begin(), e.stretches.end(),
                                    [&](const Stretch& s) { return n == (step > 0 ? s.at : s.at + s.frames - 1); });
    if (border && more > 0) break;
    ++more;
  }
  return more;
}

/// How many samples from `at` on, walking by `step`, belong to a gap as well: where a return was read between samples
/// its edges ring.
int64_t beyond_edge(const Excerpt& e, const Planar& model, int pair, int64_t at, int64_t step) {
  constexpr int64_t farthest = 1024;
  const auto m = model.channel(pair), r = e.ret.channel(pair);
  double sum = 0, least = 0;
  int64_t best = 0;
  for (int64_t k = 0; k < farthest; ++k) {
    const int64_t n = at + k * step;
    if (n < 0 || n >= e.frames() || !e.told[size_t(n)]) break;
    const double silent = r[size_t(n)], heard = silent - m[size_t(n)];
    if (sum += silent * silent - heard * heard; sum < least) least = sum, best = k + 1;
  }
  return best;
}

/// Silent stretches of a pair, to the sample.
std::vector<Gap> gaps_of(const Excerpt& e, const Planar& model, int pair, double floor) {
  std::vector<Gap> gaps;
  const auto m = model.channel(pair), r = e.ret.channel(pair), master = e.master->channel(pair);
  const auto least = int64_t(least_mute_s * e.rate_hz);
  const auto before_it = [&](int64_t n) {
    const int64_t more = across_border(e, pair, n - 1, -1, floor);
    return more ? more : beyond_edge(e, model, pair, n - 1, -1);
  };
  const auto behind_it = [&](int64_t n) {
    const int64_t more = across_border(e, pair, n, 1, floor);
    return more ? more : beyond_edge(e, model, pair, n, 1);
  };
  for (int64_t n = 0; n < e.frames();) {
    if (std::abs(r[size_t(n)]) > floor || !e.told[size_t(n)]) {
      ++n;
      continue;
    }
    int64_t end = n;
    double mm = 0, own = 0;  // of the model, and of the master: a tail that was put in early is nothing that went away
    while (end < e.frames() && e.told[size_t(end)] && std::abs(r[size_t(end)]) <= floor)
      mm += m[size_t(end)] * m[size_t(end)], own += master[size_t(end)] * master[size_t(end)], ++end;
    const double over = double(end - n) < surely_s * e.rate_hz ? clearly_heard_over : heard_over;
    if (end - n >= least && std::min(mm, own) / double(end - n) > std::max(least_master, floor * floor * over))
      gaps.push_back({pair, n - before_it(n), end + behind_it(end)});
    n = end;
  }
  return gaps;
}

/// Nothing comes back of the whole between two times, by its course.
bool is_silent_between(const Excerpt& e, int64_t from, int64_t to) {
  if (e.course.empty()) return false;
  const int64_t last = std::min(std::ssize(e.course), to / e.course_piece);
  for (int64_t n = from / e.course_piece + 1; n < last; ++n)
    if (e.course[size_t(n)].rr > silent_share * e.course[size_t(n)].mm) return false;
  return true;
}

/// The same in times; stretches that lie side by side part no gap, nor do two with silence between them.
std::vector<Gap> in_time(const Excerpt& e, std::vector<Gap> gaps) {
  const auto near = int64_t(2 * border_s * e.rate_hz);
  std::vector<Gap> joined;
  for (Gap g : gaps) {
    g.from = int64_t(e.time_of(g.from)), g.to = int64_t(e.time_of(g.to - 1)) + 1;
    const bool at_border = std::any_of(e.stretches.begin() + 1, e.stretches.end(), [&](const Stretch& s) {
      return !joined.empty() && s.first - e.start >= joined.back().to && s.first - e.start <= g.from;
    });
    if (!joined.empty() && joined.back().pair == g.pair &&
        (g.from - joined.back().to < (at_border ? near : 1) ||
         (at_border && is_silent_between(e, joined.back().to, g.from))))
      joined.back().to = g.to;
    else
      joined.push_back(g);
  }
  return joined;
}

}  // namespace

std::optional<Found> estimate_mute(const Excerpt& e, const Model& model) {
  std::vector<Gap> gaps;
  std::vector<int> channels, silent;
  const double floor = std::sqrt(silent_share * e.master_power);
  for (int p = 0; p < e.pairs(); ++p) {
    const auto found = gaps_of(e, model, p, floor);
    double in_gaps = 0, total = 0;
    for (int64_t n = 0; n < e.frames(); ++n)
      if (e.told[size_t(n)]) total += std::pow(model.channel(p)[size_t(n)], 2);
    for (const Gap& g : found)
      for (int64_t n = g.from; n < g.to; ++n)
        if (e.told[size_t(n)]) in_gaps += std::pow(model.channel(p)[size_t(n)], 2);
    if (found.empty()) continue;
    if (in_gaps > whole_channel * total) silent.push_back(p);
    channels.push_back(p);
    gaps.insert(gaps.end(), found.begin(), found.end());
  }
  if (gaps.empty() || gaps.size() > 400) return {};
  gaps = in_time(e, std::move(gaps));
  Cause c;
  if (!silent.empty()) {
    channels = silent;
    std::erase_if(gaps, [&](const Gap& g) { return std::find(silent.begin(), silent.end(), g.pair) == silent.end(); });
    c.code = "silent_channel";
  } else {
    const Gap longest = *std::max_element(gaps.begin(), gaps.end(),
                                          [](const Gap& a, const Gap& b) { return a.to - a.from < b.to - b.from; });
    c.from_s = e.seconds_of(double(longest.from)), c.until_s = e.seconds_of(double(longest.to));
    c.code = double(longest.to - longest.from) < mute_s * e.rate_hz ? "dropout" : "mute";
    size_t count = 0;
    for (const Gap& g : gaps)  // a gap in all channels is one
      count += std::none_of(gaps.begin(), gaps.end(), [&](const Gap& o) {
        return o.pair < g.pair && std::abs(o.from - g.from) < e.rate_hz / 50;
      });
    c.values = {{"at_s", *c.from_s},
                {"length_s", double(longest.to - longest.from) / e.rate_hz},
                {"count", count},
                {"in_all", channels.size() == size_t(e.pairs())}};
  }
  c.channels = channels;
  if (!silent.empty()) c.values = {{"channels", channels}, {"all", channels.size() == size_t(e.pairs())}};
  return Found{c, [gaps](const Places& where, Planar& m) {
                 for (const Gap& g : gaps)
                   where.each_of(g.from, g.to, [&](int64_t at, int64_t, int64_t frames) {
                     std::fill_n(m.channel(g.pair).begin() + at, frames, 0.0);
                   });
               }};
}

}  // namespace heathmist::causes
