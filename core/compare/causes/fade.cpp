// Fades in and out: one law from the plateau to silence, with its start and length.
#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>

#include "core/compare/causes/estimates.hpp"
#include "core/compare/causes/gain_curve.hpp"

namespace heathmist::causes {

namespace {

/// Gain of a fade at u = 0 (full) .. 1 (nothing); `depth_db` for the one that is straight in dB.
struct Law {
  const char* name;
  double (*gain)(double u, double depth_db);
};
const std::array laws{
    Law{"linear", [](double u, double) { return 1 - u; }},
    Law{"raised_cosine", [](double u, double) { return 0.5 + 0.5 * std::cos(std::numbers::pi * u); }},
    Law{"equal_power", [](double u, double) { return std::cos(0.5 * std::numbers::pi * u); }},
    Law{"square_root", [](double u, double) { return std::sqrt(1 - u); }},
    Law{"logarithmic", [](double u, double depth_db) { return std::pow(10, -depth_db * u / 20); }},
    Law{"quadratic", [](double u, double) { return (1 - u) * (1 - u); }},
    Law{"cubic", [](double u, double) { return (1 - u) * (1 - u) * (1 - u); }},
    Law{"parabola", [](double u, double) { return 1 - u * u; }},
    Law{"cube_root", [](double u, double) { return std::cbrt(1 - u); }},
    Law{"one_minus_sine", [](double u, double) { return 1 - std::sin(0.5 * std::numbers::pi * u); }},
};

constexpr int most_rounds = 150;
constexpr double better = 1 - 1e-4;  // of the squared error: less is no move

struct Shape {
  const Law* law = nullptr;
  double from = 0, until = 0;  // places: full at `from`, nothing at `until` (before it, for a fade in)
  double depth_db = 60, plateau = 1;
  double gain(double n) const {
    const double u = (n - from) / (until - from);
    return plateau * (u <= 0 ? 1 : u >= 1 ? 0 : law->gain(u, depth_db));
  }
};

double cost(const GainCurve& c, const Shape& s) {
  double sum = 0;
  for (size_t n = 0; n < c.pieces.size(); ++n) {
    const double g = s.gain(c.middle(n));
    const auto& p = c.pieces[n];
    sum += p.rr - 2 * g * p.mr + g * g * p.mm;
  }
  return sum;
}

/// Moves the ends (and the depth) until nothing gets better: coordinate descent with halving steps.
void settle(const GainCurve& c, Shape& s, double& best) {
  double step = std::abs(s.until - s.from) / 4;
  const double least = double(c.piece) / 200;
  double depth_step = 16;
  const bool deep = std::string(s.law->name) == "logarithmic";
  const double length = double(c.pieces.size()) * double(c.piece);
  for (int round = 0; step > least && round < most_rounds; ++round) {
    bool moved = false;
    const auto tried = [&](Shape t) {
      if (std::abs(t.until - t.from) < double(c.piece) || (t.until > t.from) != (s.until > s.from)) return;
      if (t.depth_db < 12 || t.depth_db > 140) return;
      if (std::abs(t.from - s.from) > length || std::abs(t.until - t.from) > 3 * length) return;
      if (const double now = cost(c, t); now < best * better) best = now, s = t, moved = true;
    };
    for (const double d : {step, -step}) {
      Shape t = s;
      t.from += d;
      tried(t);
      t = s;
      t.until += d;
      tried(t);
      t = s;
      t.from += d, t.until += d;
      tried(t);
    }
    if (deep)
      for (const double d : {depth_step, -depth_step}) {
        Shape t = s;
        t.depth_db += d;
        tried(t);
        t.until += d / s.depth_db * (s.until - s.from);  // the same slope
        tried(t);
      }
    if (!moved) step /= 2, depth_step /= 2;
  }
}

std::optional<Shape> best_shape(const GainCurve& c, double plateau, bool out) {
  // The end that fades: where the gain first leaves the plateau, seen from the other end, and where it ends.
  const auto count = int64_t(c.pieces.size());
  const auto at = [&](int64_t n) { return size_t(out ? n : count - 1 - n); };
  int64_t last = 0;
  for (int64_t n = count - 1; n >= 0; --n)
    if (c.tells(at(n))) {
      last = n;
      break;
    }
  int64_t steady = 0;  // the last piece that comes back at the plateau
  for (int64_t n = 0; n <= last; ++n)
    if (c.tells(at(n)) && std::abs(20 * std::log10(std::max(1e-9, c.pieces[at(n)].gain() / plateau))) < 0.1) steady = n;
  if (last - steady < 2) return {};
  const auto place = [&](double n) { return out ? n * double(c.piece) : (double(count) - n) * double(c.piece); };
  std::optional<Shape> best;
  double least = 0;
  for (const Law& law : laws) {
    Shape s{&law, place(double(steady)), place(double(last) + 1), 60, plateau};
    double now = cost(c, s);
    settle(c, s, now);
    if (!best || now < least) best = s, least = now;
  }
  return best;
}

/// The master's time at a place of the excerpt, beyond its ends too.
double seconds(const Excerpt& e, double place) {
  const double inside = std::clamp(place, 0.0, double(e.frames() - 1));
  return e.seconds_at(int64_t(inside)) + (place - std::floor(inside)) / e.rate_hz;
}

Cause described(const Excerpt& e, const Shape& s) {
  Cause c{.code = "fade"};
  const bool out = s.until > s.from;
  const double a = seconds(e, s.from), b = seconds(e, s.until);
  c.from_s = std::min(a, b), c.until_s = std::max(a, b);
  c.values = {{"direction", out ? "out" : "in"},
              {"start_s", *c.from_s},
              {"length_s", *c.until_s - *c.from_s},
              {"law", s.law->name}};
  if (std::string(s.law->name) == "logarithmic") c.values["depth_db"] = s.depth_db;
  return c;
}

}  // namespace

std::optional<Found> estimate_fade(const Excerpt& e, const Planar& model) {
  const GainCurve curve = gain_curve(e, model, piece_frames(e.rate_hz));
  const double plateau = usual_gain(curve);
  std::optional<Shape> best;
  double least = cost(curve, {&laws[0], 1e18, 2e18, 60, 1});
  for (const bool out : {true, false})
    if (const auto shape = best_shape(curve, plateau, out))
      if (const double now = cost(curve, *shape); now < least) best = shape, least = now;
  if (!best) return {};
  return Found{described(e, *best),
               [s = *best](Planar& m) { apply_gain(m, [&](int64_t n) { return s.gain(double(n)); }); }};
}

}  // namespace heathmist::causes
