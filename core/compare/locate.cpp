#include "core/compare/locate.hpp"

#include <algorithm>
#include <cmath>

namespace heathmist {

namespace {

constexpr int most_coarse_anchors = 48;
constexpr double share_on_a_line = 0.35;  // of the anchors that must lie on one line
constexpr double just_as_good = 0.96;     // of the support of the best alignment

/// An alignment that was tried.
struct Candidate {
  double delay = 0;
  int64_t slack = 0;
  DelayLine line{};
  double correlation = 0, support = 0;
};

/// Frames that master and return share at a delay.
double overlap_of(const Search& s, double delay) {
  return std::min(double(s.master.format().frames), double(s.ret.format().frames) - delay) - std::max(0.0, -delay);
}

/// The best supported; of several that are as good, as in a loop or a steady tone, the longest overlap.
const Candidate* best_of(const std::vector<Candidate>& tried, Search& s) {
  double most = 0;
  for (const Candidate& c : tried) most = std::max(most, c.support);
  const Candidate* best = nullptr;
  for (const Candidate& c : tried)
    if (c.support > 0 && c.support >= just_as_good * most &&
        (!best || overlap_of(s, c.line.delay) > overlap_of(s, best->line.delay) + 2))
      best = &c;
  s.others_fit = best && std::any_of(tried.begin(), tried.end(), [&](const Candidate& c) {
                   return c.support >= just_as_good * most && std::abs(c.line.delay - best->line.delay) > 8;
                 });
  return best;
}

/// Under much drift the delay moves within an anchor, and which part of it was found is chance: short anchors near the
/// line tell it better.
void follow_drift(Search& s, const View& view) {
  constexpr double much_ppm = 40;
  const int64_t frames = s.anchors.front().frames / 8;
  if (!s.options.drift || std::abs(s.line.drift_ppm) < much_ppm || frames < 1024) return;
  const double smear = std::abs(s.line.drift_ppm) * 1e-6 * double(s.anchors.front().frames);
  for (int round = 0; round < 2; ++round) {
    std::vector<Anchor> fine;
    for (const Anchor& a : s.anchors)
      for (const int64_t eighth : {1, 3, 5})
        fine.push_back({a.at + eighth * s.anchors.front().frames / 8, frames, 0, 0});
    find_anchors(fine, s.master, s.ret, view.master, view.ret, s.line.delay,
                 std::max<int64_t>(16, int64_t(2 * smear)) + 32, Job{s.job.stop, {}, s.job.threads}, s.line.drift_ppm);
    const auto line = line_through(fine);
    if (line.share < share_on_a_line) return;
    s.line = line;
  }
  for (Anchor& a : s.anchors) a.delay = s.line.delay + s.line.drift_ppm * 1e-6 * double(a.at);
}

bool is_on(const DelayLine& line, const Anchor& a) {
  return std::abs(a.delay - line.delay - line.drift_ppm * 1e-6 * double(a.at)) < slack_on_line(a, line.drift_ppm);
}

/// Correlation of the two views at the anchors' places, laid by whole samples, 0..1: an echo lines up as clearly as the
/// direct sound, but holds less of it.
double correlation_at(const Search& s, const View& view, const std::vector<Anchor>& anchors, const DelayLine& line) {
  const auto master = s.master.reader(), ret = s.ret.reader();
  Planar m, r;
  double xx = 0, yy = 0, xy = 0;
  for (const Anchor& a : anchors) {
    master->read(a.at, a.frames, m);
    ret->read(a.at + std::llround(line.delay + line.drift_ppm * 1e-6 * double(a.at)), a.frames, r);
    double own = 0;
    for (size_t n = 0; n < size_t(a.frames); ++n) {
      double x = 0, y = 0;
      for (size_t c = 0; c < view.master.size(); ++c) x += view.master[c] * m.channel(int(c))[n];
      for (size_t c = 0; c < view.ret.size(); ++c) y += view.ret[c] * r.channel(int(c))[n];
      xx += x * x, yy += y * y, own += x * y;
    }
    xy += std::abs(own);
  }
  return xx > 0 && yy > 0 ? std::min(1.0, xy / std::sqrt(xx * yy)) : 0;
}

/// Near the place where both files begin together, where the waves agree there as well as where they were found to. In
/// a steady tone that is every period away: the longest overlap is then the one to take.
std::optional<Candidate> as_they_stand(Search& s, const View& view, const Sketch& master, const Candidate& found) {
  constexpr double alike = 0.9;  // what agrees less there may be bass alone
  constexpr double just_as_much = 0.9995, laid_by_samples = 0.99;
  if (std::abs(found.line.delay) < 8 && found.line.drift_ppm == 0) return {};
  for (const int64_t slack : {2, 32, 600}) {
    auto few = place_anchors(master, s.master.format().frames, s.ret.format().frames, 0, 10);
    if (few.empty()) return {};
    find_anchors(few, s.master, s.ret, view.master, view.ret, 0, slack, Job{s.job.stop, {}, s.job.threads});
    auto line = line_through(few);
    if (slack == 2 && correlation_at(s, view, few, {}) >= std::max(alike, just_as_much * found.correlation))
      line = {};
    else if (line.share < share_on_a_line || std::abs(line.delay) > double(slack) - 0.5)
      continue;  // no peak at the end of it
    const double correlation = correlation_at(s, view, few, line);
    if (correlation < std::max(alike, laid_by_samples * found.correlation)) continue;
    s.others_fit = s.others_fit || std::abs(line.delay - found.line.delay) > 8;
    return Candidate{0, slack, line, correlation, found.support};
  }
  return {};
}

/// An alignment, by anchors at its places.
Candidate measured(const Search& s, const View& view, std::vector<Anchor> anchors, double delay, int64_t slack) {
  find_anchors(anchors, s.master, s.ret, view.master, view.ret, delay, slack, Job{s.job.stop, {}, s.job.threads});
  const auto line = line_through(anchors);
  auto on_it = anchors;  // what lies elsewhere, behind a break, says nothing of this place
  std::erase_if(on_it, [&](const Anchor& a) { return !is_on(line, a); });
  const double correlation = correlation_at(s, view, on_it, line);
  const double overlap = overlap_of(s, line.delay) / double(std::min(s.master.format().frames, s.ret.format().frames));
  return {delay, slack, line, correlation, line.support * (0.1 + correlation) * overlap};
}

/// Where material repeats, several alignments agree with much of it, each with other parts: those near the best are
/// told apart by more anchors.
void look_closer(Search& s, const View& view, const Sketch& master, std::vector<Candidate>& tried) {
  constexpr double near_the_best = 0.8;
  constexpr int more_anchors = 40;
  double most = 0;
  for (const Candidate& c : tried) most = std::max(most, c.support);
  const auto is_near = [&](const Candidate& c) { return c.support > 0 && c.support >= near_the_best * most; };
  if (std::count_if(tried.begin(), tried.end(), is_near) < 2) return;
  std::erase_if(tried, [&](const Candidate& c) { return !is_near(c); });
  const int64_t master_frames = s.master.format().frames, return_frames = s.ret.format().frames;
  for (Candidate& c : tried) {
    c = measured(s, view, place_anchors(master, master_frames, return_frames, c.delay, more_anchors), c.delay, c.slack);
  }
}

}  // namespace

std::vector<View> views(int master_channels, int return_channels) {
  std::vector<View> result{{uneven_mixture(master_channels), uneven_mixture(return_channels)}};
  if (master_channels > 1 || return_channels > 1)  // a swap with one side inverted can cancel in a mixture
    for (int m = 0; m < std::min(master_channels, 2); ++m)
      for (int r = 0; r < std::min(return_channels, 2); ++r)
        result.push_back({single_channel(master_channels, m), single_channel(return_channels, r)});
  return result;
}

bool locate(Search& s, const View& view) {
  const int64_t master_frames = s.master.format().frames, return_frames = s.ret.format().frames;
  const auto plan = plan_sketches(s.master.format().sample_rate_hz, master_frames + return_frames);
  const auto master = sketch(s.master, view.master, plan, s.job.part(0.0, 0.3));
  std::vector<double> delays;
  if (s.options.delay_samples)
    delays = {*s.options.delay_samples};
  else
    delays = coarse_delays(master, sketch(s.ret, view.ret, plan, s.job.part(0.3, 0.6)), s.job);

  const bool held = s.options.delay_samples.has_value();
  std::vector<Candidate> tried;
  for (const double delay : delays) {
    auto few = place_anchors(master, master_frames, return_frames, delay, 10);
    if (few.empty()) continue;
    const auto drifted = int64_t(5e-4 * double(std::min(master_frames, return_frames)));
    const int64_t slack = held ? 8 : std::min<int64_t>(few.front().frames / 2, 2 * plan.step + 64 + drifted);
    tried.push_back(measured(s, view, std::move(few), delay, slack));
  }
  look_closer(s, view, master, tried);
  const Candidate* found = best_of(tried, s);
  if (!found) return false;
  const auto standing = held ? std::nullopt : as_they_stand(s, view, master, *found);
  const Candidate* best = standing ? &*standing : found;
  s.anchors = place_anchors(master, master_frames, return_frames, best->delay, most_coarse_anchors);
  find_anchors(s.anchors, s.master, s.ret, view.master, view.ret, best->delay, best->slack, s.job.part(0.6, 0.8));
  s.line = line_through(s.anchors);
  follow_drift(s, view);
  if (!s.options.drift) s.line.drift_ppm = 0;
  if (s.options.delay_samples) s.line.delay = *s.options.delay_samples;
  return s.line.share >= share_on_a_line;
}

void keep_inliers(Search& s) {
  if (s.options.delay_samples) return;
  std::erase_if(s.anchors, [&](const Anchor& a) { return !is_on(s.line, a); });
}

}  // namespace heathmist
