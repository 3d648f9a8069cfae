// Steps of the gain: stretches of one gain each, and the sample at which it changes.
#include <algorithm>
#include <cmath>

#include "core/compare/causes/estimates.hpp"
#include "core/compare/causes/gain_curve.hpp"

namespace heathmist::causes {

namespace {

constexpr double least_gain = 1e-4;  // under which nothing comes back
constexpr double least_step_db = 0.05;
constexpr double arithmetic = 1e-10;  // of the return's energy: what sums lose to rounding is no step
constexpr size_t most_steps = 12, least_pieces = 4;

/// Sums over the pieces before n, so that any stretch is one subtraction.
struct Sums {
  std::vector<double> mm{0}, mr{0}, rr{0};
  explicit Sums(const GainCurve& c) {
    for (const auto& p : c.pieces)
      mm.push_back(mm.back() + p.mm), mr.push_back(mr.back() + p.mr), rr.push_back(rr.back() + p.rr);
  }
  double gain(size_t from, size_t to) const {
    const double m = mm[to] - mm[from];
    return m > 0 ? (mr[to] - mr[from]) / m : 1;
  }
  double cost(size_t from, size_t to) const {
    const double m = mm[to] - mm[from], x = mr[to] - mr[from];
    return rr[to] - rr[from] - (m > 0 ? x * x / m : 0);
  }
};

/// The place that takes out most when one gain becomes two (binary segmentation: Vostrikova 1981).
size_t best_split(const Sums& s, size_t from, size_t to, double& cost) {
  size_t best = 0;
  for (size_t n = from + least_pieces; n + least_pieces <= to; ++n)
    if (const double now = s.cost(from, n) + s.cost(n, to); now < cost) cost = now, best = n;
  return best;
}

/// The one border that takes out most, however little.
std::vector<size_t> one_border(const Sums& s, size_t count) {
  double cost = s.cost(0, count);
  return {0, best_split(s, 0, count, cost), count};
}

std::vector<size_t> split(const Sums& s, size_t count) {
  std::vector<size_t> borders{0, count};
  while (borders.size() < most_steps + 2) {
    size_t best = 0;
    double most = 0;
    for (size_t n = 0; n + 1 < borders.size(); ++n) {
      const double before = s.cost(borders[n], borders[n + 1]);
      double after = before;
      if (const size_t at = best_split(s, borders[n], borders[n + 1], after); at && before - after > most)
        most = before - after, best = at;
    }
    // A step that takes less than a fifth of what is left says nothing of its own.
    double left = 0;
    for (size_t n = 0; n + 1 < borders.size(); ++n) left += s.cost(borders[n], borders[n + 1]);
    if (!best || most < 0.2 * left || most < arithmetic * s.rr.back()) break;
    borders.insert(std::upper_bound(borders.begin(), borders.end(), best), best);
  }
  return borders;
}

/// Without the borders between gains that are next to the same: what another cause left there is no step.
void join_what_is_alike(const Sums& s, std::vector<size_t>& borders) {
  while (borders.size() > 2) {
    size_t least = 0;
    double step = least_step_db;
    for (size_t n = 1; n + 1 < borders.size(); ++n) {
      const double before = s.gain(borders[n - 1], borders[n]), after = s.gain(borders[n], borders[n + 1]);
      if (before <= least_gain || after <= least_gain) continue;
      if (const double now = std::abs(20 * std::log10(after / before)); now < step) step = now, least = n;
    }
    if (!least) return;
    borders.erase(borders.begin() + long(least));
  }
}

/// Without a first or a last part that is short and hardly comes back: something is faded there, or cut off.
void leave_ends_to_fades(const GainCurve& curve, const Sums& s, double rate, std::vector<size_t>& borders) {
  constexpr double short_s = 0.5, hardly = 0.5;
  const auto is_end = [&](size_t from, size_t to, double beside) {
    return double(to - from) * double(curve.piece) < short_s * rate && s.gain(from, to) < hardly * beside;
  };
  while (borders.size() > 2 && is_end(borders[0], borders[1], s.gain(borders[1], borders[2])))
    borders.erase(borders.begin() + 1);
  for (size_t n = borders.size(); n > 2; n = borders.size()) {
    if (!is_end(borders[n - 2], borders[n - 1], s.gain(borders[n - 3], borders[n - 2]))) return;
    borders.erase(borders.end() - 2);
  }
}

/// A step between two gains that hold: half a second of either side never comes near the other, and there are several
/// of both.
bool is_plain_step(const GainCurve& curve, const Sums& s, double rate, const std::vector<size_t>& borders) {
  constexpr double part_s = 0.5, least_step = 0.03, keeps_to_it = 0.3;  // of the step
  constexpr size_t several = 5;
  if (borders.size() != 3) return false;
  const auto part = std::max<size_t>(1, size_t(part_s * rate / double(curve.piece)));
  const double before = s.gain(0, borders[1]), after = s.gain(borders[1], borders[2]), step = std::abs(after - before);
  const auto holds = [&](size_t from, size_t to, double gain) {
    size_t parts = 0;
    for (size_t n = from; n + part <= to; n += part) {
      if (s.mm[n + part] - s.mm[n] < 1e-6 * s.mm.back()) continue;  // next to nothing sounds
      if (std::abs(s.gain(n, n + part) - gain) > keeps_to_it * step) return false;
      ++parts;
    }
    return parts >= several;
  };
  return step > least_step * std::max(before, after) && holds(0, borders[1], before) &&
         holds(borders[1], borders[2], after);
}

/// The time near `time` from which gain b explains the return better than a; as it is where the excerpt lacks it.
int64_t border(const Excerpt& e, const Planar& model, int64_t time, int64_t reach, double a, double b) {
  const auto about = e.place_of(double(time));
  if (!about) return time;
  const int64_t from = std::max<int64_t>(0, *about - reach), to = std::min(e.frames(), *about + reach);
  double sum = 0, least = 0;
  int64_t best = from;
  for (int64_t n = from; n < to; ++n) {
    for (int p = 0; p < e.pairs(); ++p) {
      const double x = model.channel(p)[size_t(n)], y = e.ret.channel(p)[size_t(n)];
      sum += (y - a * x) * (y - a * x) - (y - b * x) * (y - b * x);
    }
    if (sum < least) least = sum, best = n + 1;
  }
  return time + best - *about;
}

}  // namespace

std::optional<Found> estimate_gain_step(const Excerpt& e, const Model& model) {
  const GainCurve curve = gain_course(e, model);
  const Sums sums(curve);
  auto borders = split(sums, curve.pieces.size());
  join_what_is_alike(sums, borders);
  leave_ends_to_fades(curve, sums, e.rate_hz, borders);
  const bool shows_in_what_is_left = borders.size() >= 3;
  if (!shows_in_what_is_left) borders = one_border(sums, curve.pieces.size());
  const bool is_plain = is_plain_step(curve, sums, e.rate_hz, borders);
  if (!shows_in_what_is_left && !is_plain) return {};
  struct Part {
    int64_t from;
    double gain;
  };
  std::vector<Part> parts;
  for (size_t n = 0; n + 1 < borders.size(); ++n)
    parts.push_back(
        {int64_t(curve.middle[borders[n]] - 0.5 * double(curve.piece)), sums.gain(borders[n], borders[n + 1])});
  for (size_t n = 1; n < parts.size(); ++n)
    parts[n].from = border(e, model, parts[n].from, 2 * curve.piece, parts[n - 1].gain, parts[n].gain);
  Json steps = Json::array();
  for (size_t n = 1; n < parts.size(); ++n) {
    if (parts[n].gain <= least_gain || parts[n - 1].gain <= least_gain) return {};  // nothing comes back: no step
    const double step = 20 * std::log10(parts[n].gain / parts[n - 1].gain);
    steps.push_back({{"at_s", e.seconds_of(double(parts[n].from))},
                     {"step_db", step},
                     {"from_db", 20 * std::log10(parts[n - 1].gain)},
                     {"to_db", 20 * std::log10(parts[n].gain)}});
  }
  constexpr double lasting_s = 1;
  size_t level = 0;  // the first that lasts
  while (level + 1 < parts.size() && double(parts[level + 1].from - parts[level].from) < lasting_s * e.rate_hz) ++level;
  Cause c{.code = "gain_step"};
  c.from_s = steps.front()["at_s"].get<double>();
  if (steps.size() > 1) c.until_s = steps.back()["at_s"].get<double>();
  c.values = {{"steps", steps},
              {"step_db", steps.front()["step_db"]},
              {"at_s", *c.from_s},
              {"count", steps.size()},
              {"level_db", 20 * std::log10(parts[level].gain)}};
  return Found{.cause = c,
               .take_out =
                   [parts](const Places& where, Planar& m) {
                     size_t part = 0;
                     apply_gain(where, m, [&](int64_t n) {
                       while (part + 1 < parts.size() && n >= parts[part + 1].from) ++part;
                       return parts[part].gain;
                     });
                   },
               .is_plain = is_plain};
}

}  // namespace heathmist::causes
