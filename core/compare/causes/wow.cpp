// Wow and flutter: a delay that moves, its course and what it takes out.
#include <algorithm>
#include <cmath>
#include <numbers>
#include <numeric>

#include "core/compare/causes/estimates.hpp"
#include "core/compare/moving_delay.hpp"
#include "core/dsp/fft.hpp"
#include "core/dsp/interpolator.hpp"
#include "core/dsp/median.hpp"

namespace heathmist::causes {

namespace {

constexpr double wow_window_s = 0.04;
constexpr double worth_a_look = 0.3;     // of what is left, that moving every window by a little must explain
constexpr double first_step = 0.6;       // of what was there, that the first step may leave
constexpr double wide_open = 0.03;       // of the master's power
constexpr double well_followed = 0.002;  // of what was there, under which no other course is looked for
constexpr int most_halvings = 2;         // of the step of a course,
constexpr double worth_halving = 0.8;    // ... that must leave so much less
constexpr int rounds = 10;
constexpr double worth_a_round = 0.9;  // that must leave so much less
constexpr double least_depth = 0.1;    // samples

/// Least squares of a small delay in each window: left = -late * slope of the model.
struct Local {
  std::vector<double> cross, slope;
  double explained = 0, left = 0;
};
Local local_delays_of(const Excerpt& e, const Planar& model, int64_t hop, int p) {
  const auto count = size_t(std::max<int64_t>(0, e.frames() / hop - 1));
  Local l{std::vector<double>(count), std::vector<double>(count)};
  const auto window = dsp::hann(size_t(2 * hop));
  const auto x = model.channel(p), y = e.ret.channel(p);
  for (size_t w = 0; w < count; ++w)
    for (int64_t n = int64_t(w) * hop; n < (int64_t(w) + 2) * hop; ++n) {
      if (n < 2 || n + 2 >= e.frames() || !e.told[size_t(n)]) continue;
      const auto k = size_t(n);
      const double hann = window[k - w * size_t(hop)];
      const double d = y[k] - x[k], s = (8 * (x[k + 1] - x[k - 1]) - (x[k + 2] - x[k - 2])) / 12;
      l.cross[w] -= hann * d * s, l.slope[w] += hann * s * s, l.left += hann * d * d;
    }
  return l;
}

Local local_delays(const Excerpt& e, const Planar& model, int64_t hop) {
  std::vector<Local> of(size_t(e.pairs()));
  each_pair(e.threads, e.pairs(), [&](int p) { of[size_t(p)] = local_delays_of(e, model, hop, p); });
  Local l = std::move(of[0]);
  for (size_t p = 1; p < of.size(); ++p) {
    l.left += of[p].left;
    for (size_t w = 0; w < l.slope.size(); ++w) l.cross[w] += of[p].cross[w], l.slope[w] += of[p].slope[w];
  }
  for (size_t w = 0; w < l.slope.size(); ++w)
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

/// What moves most: its rate, by the spectrum of the course without its mean; where nothing sounds it says nothing.
double rate_of(const DelayCourse& c, const std::vector<bool>& sounds, double rate) {
  size_t size = 64;
  while (size < 4 * c.late.size()) size *= 2;
  dsp::RealFft<double> fft(size);
  std::fill(fft.time().begin(), fft.time().end(), 0.0);
  double sum = 0, count = 0;
  for (size_t n = 0; n < c.late.size(); ++n)
    if (sounds[n]) sum += c.late[n], count += 1;
  const auto window = dsp::hann(c.late.size());
  for (size_t n = 0; n < c.late.size(); ++n)
    if (sounds[n]) fft.time()[n] = window[n] * (c.late[n] - sum / count);
  fft.forward();
  size_t best = 1;
  for (size_t k = 1; k < fft.bins(); ++k)
    if (std::norm(fft.spectrum()[k]) > std::norm(fft.spectrum()[best])) best = k;
  return double(best) * rate / double(c.hop) / double(size);
}

/// `sounds`: by window; where nothing does, the course is a guess.
Cause described(const Excerpt& e, const DelayCourse& c, const std::vector<bool>& sounds) {
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
                  {"rate_hz", rate_of(c, sounds, e.rate_hz)},
                  {"curve", points}};
  return cause;
}

/// Where next to nothing sounds, any delay would do: there it goes straight from what it was to what it will be.
void cross_silence(DelayCourse& c, const Local& l) {
  constexpr double next_to_nothing = 1e-6;
  const size_t count = c.late.size();
  const double usual = std::reduce(l.slope.begin(), l.slope.end()) / double(count);
  const auto is_silent = [&](size_t w) { return l.slope[w] <= next_to_nothing * usual; };
  for (size_t w = 0; w < count; ++w) {
    if (!is_silent(w)) continue;
    size_t end = w;
    while (end < count && is_silent(end)) ++end;
    if (end - w == count) return;
    const double from = c.late[w > 0 ? w - 1 : end], to = c.late[end < count ? end : w - 1];
    for (size_t n = w; n < end; ++n) c.late[n] = from + (to - from) * double(n - w + 1) / double(end - w + 1);
    w = end;
  }
}

/// How far a course goes to and fro without its widest steps: of one that jumps, or drifts and jumps back, not far.
double range_without_jumps(const DelayCourse& c) {
  constexpr double few = 0.03;
  std::vector<double> steps;
  for (size_t n = 1; n < c.late.size(); ++n) steps.push_back(std::abs(c.late[n] - c.late[n - 1]));
  if (steps.empty()) return 0;
  const auto wide = steps.begin() + long((1 - few) * double(steps.size() - 1));
  std::nth_element(steps.begin(), wide, steps.end());
  std::vector<double> without{0};
  for (size_t n = 1; n < c.late.size(); ++n) {
    const double step = c.late[n] - c.late[n - 1];
    without.push_back(without.back() + (std::abs(step) <= *wide ? step : 0));
  }
  const double slope = (without.back() - without.front()) / double(steps.size());
  for (size_t n = 0; n < without.size(); ++n) without[n] -= slope * double(n);
  const auto [low, high] = std::minmax_element(without.begin(), without.end());
  return *high - *low;
}

/// Every window lies near its neighbour, or near the middle of both, against how far it goes in all: else it is chance.
/// And it goes there in many steps: else it is a jump.
bool moves_evenly(const DelayCourse& c) {
  constexpr double near_one = 0.25, near_the_middle = 0.2, by_many = 0.5;
  const auto [low, high] = std::minmax_element(c.late.begin(), c.late.end());
  std::vector<double> steps, bends;
  for (size_t n = 1; n + 1 < c.late.size(); ++n) {
    steps.push_back(std::abs(c.late[n] - c.late[n - 1]));
    bends.push_back(std::abs(c.late[n] - 0.5 * (c.late[n - 1] + c.late[n + 1])));
  }
  const double range = *high - *low;
  return range > 2 * least_depth && range_without_jumps(c) > by_many * range &&
         (dsp::median(steps) < near_one * range || dsp::median(bends) < near_the_middle * range);
}

/// The windows in which so much sounds that not any delay would do.
std::vector<bool> windows_that_sound(const Local& l) {
  constexpr double enough = 0.1;
  const double usual = std::reduce(l.slope.begin(), l.slope.end()) / double(l.slope.size());
  std::vector<bool> sounds;
  for (const double slope : l.slope) sounds.push_back(slope > enough * usual);
  return sounds;
}

bool moves_where_it_sounds(const DelayCourse& c, const std::vector<bool>& sounds) {
  double low = 1e300, high = -1e300;
  for (size_t w = 0; w < c.late.size(); ++w)
    if (sounds[w]) low = std::min(low, c.late[w]), high = std::max(high, c.late[w]);
  return high - low >= 2 * least_depth;
}

struct Followed {
  DelayCourse course;
  double left = 1e300;
};

/// A course made finer, round by round, by what it leaves; nothing of it where the first step leaves much.
Followed followed(const Excerpt& e, const Planar& model, DelayCourse course, double at_first) {
  Followed f{course, 1e300};
  if (!moves_evenly(course)) return f;
  Planar moved = model;
  for (int round = 0; round < rounds; ++round) {
    each_pair(e.threads, e.pairs(),
              [&](int p) { warp(model.channel(p), course, moved.channel(p), 0, model.frames()); });
    const Local now = local_delays(e, moved, course.hop);
    if (round == 0 && now.left > first_step * at_first) return f;
    if (round > 0 && now.left > worth_a_round * f.left) break;
    f = {course, now.left};
    const auto more = smoothed(now);
    for (size_t n = 0; n < course.late.size(); ++n) course.late[n] += more[n];
  }
  return f;
}

/// Faster than any wave of its rate and depth would be, and little explained by it: a stretch that was cut in pieces,
/// or a loop that was laid piece by piece.
bool goes_in_pieces(const Cause& wow, const Followed& f, double at_first, double rate) {
  constexpr double most_over_a_wave = 4, well = 0.01;
  const double wave =
      2 * std::numbers::pi * wow.values["rate_hz"].get<double>() * wow.values["depth_samples"].get<double>() / rate;
  return f.left > well * at_first && wow.values["depth_percent"].get<double>() / 100 > most_over_a_wave * wave;
}

/// The course at half its step.
DelayCourse halved(const DelayCourse& c, int64_t frames) {
  DelayCourse fine{c.hop / 2};
  for (int64_t k = 1; k < frames / fine.hop; ++k) fine.late.push_back(c.at(double(k * fine.hop)));
  return fine;
}

}  // namespace

std::optional<Found> estimate_wow(const Excerpt& e, const Model& model) {
  const int64_t hop = std::max<int64_t>(16, int64_t(wow_window_s * e.rate_hz) / 2);
  const Local first = local_delays(e, model, hop);
  if (first.slope.size() < 12) return {};
  Followed best;
  if (first.explained > worth_a_look * first.left) best = followed(e, model, {hop, smoothed(first)}, first.left);
  if (best.left > well_followed * first.left && power_left(e, model) > wide_open * e.master_power)
    if (auto far = course_of_delay(model, e.ret, e.told, hop); !far.late.empty()) {
      cross_silence(far, first);
      if (Followed other = followed(e, model, std::move(far), first.left); other.left < best.left)
        best = std::move(other);
    }
  if (best.left > first.left) return {};
  for (int halving = 0; halving < most_halvings; ++halving) {
    Followed finer = followed(e, model, halved(best.course, e.frames()), first.left);
    if (finer.left > worth_halving * best.left) break;
    best = std::move(finer);
  }
  const DelayCourse& course = best.course;
  const auto sounds = windows_that_sound(local_delays(e, model, course.hop));
  if (!moves_where_it_sounds(course, sounds)) return {};
  Cause wow = described(e, course, sounds);
  if (goes_in_pieces(wow, best, first.left, e.rate_hz)) return {};
  const auto [low, high] = std::minmax_element(course.late.begin(), course.late.end());
  const double reach = std::max(std::abs(*low), std::abs(*high)) + dsp::Interpolator::taps;
  return Found{std::move(wow),
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
