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
struct FadeLaw {
  const char* name;
  double (*gain)(double u, double depth_db);
};
const std::array laws{
    FadeLaw{"linear", [](double u, double) { return 1 - u; }},
    FadeLaw{"raised_cosine", [](double u, double) { return 0.5 + 0.5 * std::cos(std::numbers::pi * u); }},
    FadeLaw{"equal_power", [](double u, double) { return std::cos(0.5 * std::numbers::pi * u); }},
    FadeLaw{"square_root", [](double u, double) { return std::sqrt(1 - u); }},
    FadeLaw{"logarithmic", [](double u, double depth_db) { return std::pow(10, -depth_db * u / 20); }},
    FadeLaw{"quadratic", [](double u, double) { return (1 - u) * (1 - u); }},
    FadeLaw{"cubic", [](double u, double) { return (1 - u) * (1 - u) * (1 - u); }},
    FadeLaw{"parabola", [](double u, double) { return 1 - u * u; }},
    FadeLaw{"cube_root", [](double u, double) { return std::cbrt(1 - u); }},
    FadeLaw{"one_minus_sine", [](double u, double) { return 1 - std::sin(0.5 * std::numbers::pi * u); }},
};

constexpr double beyond_fade_s = 0.5, much = 0.3;
constexpr double most_otherwise = 0.15;  // of how the gain moves in its range, that a fade may leave
constexpr double most_otherwise_at_edge = 0.03;
constexpr double least_fall = 0.5;  // of the plateau, that it must come down to
constexpr int most_fit_rounds = 150;
constexpr double better = 1 - 1e-4;  // of the squared error: less is no move

struct Shape {
  const FadeLaw* law = nullptr;
  double from = 0, until = 0;  // times: full at `from`, nothing at `until` (before it, for a fade in)
  double depth_db = 60, plateau = 1;
  double gain(double n) const {
    const double u = (n - from) / (until - from);
    return plateau * (u <= 0 ? 1 : u >= 1 ? 0 : law->gain(u, depth_db));
  }
};

/// Pieces [first, last).
struct Range {
  size_t first, last;
};

double cost(const GainCurve& c, const Range& range, const Shape& s) {
  double sum = 0;
  for (size_t n = range.first; n < range.last; ++n) {
    const double g = s.gain(c.middle[n]);
    const auto& p = c.pieces[n];
    sum += p.rr - 2 * g * p.mr + g * g * p.mm;
  }
  return sum;
}

/// Moves the ends (and the depth) until nothing gets better: coordinate descent with halving steps.
void polish(const GainCurve& c, const Range& range, Shape& s, double& best) {
  double step = std::abs(s.until - s.from) / 4;
  const double least = double(c.piece) / 200;
  double depth_step = 16;
  const bool deep = std::string(s.law->name) == "logarithmic";
  const double length = c.middle.back() - c.middle.front();
  for (int round = 0; step > least && round < most_fit_rounds; ++round) {
    bool moved = false;
    const auto tried = [&](Shape t) {
      if (std::abs(t.until - t.from) < double(c.piece) || (t.until > t.from) != (s.until > s.from)) return;
      if (t.depth_db < 12 || t.depth_db > 140) return;
      if (std::abs(t.from - s.from) > length || std::abs(t.until - t.from) > 3 * length) return;
      if (const double now = cost(c, range, t); now < best * better) best = now, s = t, moved = true;
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

/// The gain of the overlap's first or last twentieth of a second in pieces of half a millisecond: what takes the click
/// from a cut is over before a piece of the whole course is.
GainCurve edge_course(const Excerpt& e, const Planar& model, bool out) {
  constexpr double edge_s = 0.05, edge_piece_s = 0.0005;
  const Stretch& last = e.stretches.back();
  const int64_t piece = std::max<int64_t>(8, int64_t(edge_piece_s * e.rate_hz)), count = int64_t(edge_s / edge_piece_s);
  const int64_t from = out ? last.first - e.start + last.frames - count * piece : 0;
  GainCurve curve{piece, std::vector<GainPiece>(size_t(count)), {}, 0};
  e.each_of(from, from + count * piece, [&](int64_t place, int64_t time, int64_t frames) {
    for (int p = 0; p < e.pairs(); ++p)
      for (int64_t n = 0; n < frames; ++n) {
        if (!e.told[size_t(place + n)]) continue;
        curve.pieces[size_t((time + n - from) / piece)].add(model.channel(p)[size_t(place + n)],
                                                            e.ret.channel(p)[size_t(place + n)]);
      }
  });
  for (int64_t k = 0; k < count; ++k) {
    curve.middle.push_back(double(from) + (double(k) + 0.5) * double(piece));
    curve.loudest = std::max(curve.loudest, curve.pieces[size_t(k)].mm);
  }
  return curve;
}

struct Faded {
  Shape shape;
  double before = 0, after = 0;  // squared error in its range
  double by_any_gain = 0;        // ... under the gain of every piece
  double least = 1;              // of those gains, against the plateau
  /// Most of how the gain moves there, and far down.
  bool is_one(double otherwise = most_otherwise) const {
    return after - by_any_gain < otherwise * (before - by_any_gain) && least < least_fall;
  }
  /// Too short for pieces of so many frames.
  bool is_short(int64_t piece) const { return std::abs(shape.until - shape.from) < 3 * double(piece); }
};

/// Judged from the end that fades to half a second of the plateau: beyond that another gain may hold.
std::optional<Faded> best_shape(const GainCurve& c, double plateau, bool out, double rate) {
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
  const auto start_of = [&](int64_t n) { return c.middle[at(n)] - (out ? 0.5 : -0.5) * double(c.piece); };
  const int64_t beyond = std::max<int64_t>(0, steady - int64_t(beyond_fade_s * rate / double(c.piece)));
  const Range range = out ? Range{size_t(beyond), size_t(count)} : Range{0, size_t(count - beyond)};
  std::optional<Shape> best;
  double least = 0;
  for (const FadeLaw& law : laws) {
    Shape s{&law, start_of(steady), start_of(last) + (out ? 1 : -1) * double(c.piece), 60, plateau};
    double now = cost(c, range, s);
    polish(c, range, s, now);
    if (!best || now < least) best = s, least = now;
  }
  Faded f{*best, cost(c, range, {&laws[0], 1e18, 2e18, 60, plateau}), least};
  for (size_t n = range.first; n < range.last; ++n) {
    const auto& p = c.pieces[n];
    f.by_any_gain += p.mm > 0 ? p.rr - p.mr * p.mr / p.mm : p.rr;
    if (c.tells(n)) f.least = std::min(f.least, p.gain() / plateau);
  }
  return f;
}

Cause described(const Excerpt& e, const Shape& s) {
  Cause c{.code = "fade"};
  const bool out = s.until > s.from;
  const double a = e.seconds_of(s.from), b = e.seconds_of(s.until);
  c.from_s = std::min(a, b), c.until_s = std::max(a, b);
  c.values = {{"direction", out ? "out" : "in"},
              {"start_s", *c.from_s},
              {"length_s", *c.until_s - *c.from_s},
              {"law", s.law->name},
              {"plateau_db", 20 * std::log10(s.plateau)}};
  if (std::string(s.law->name) == "logarithmic") c.values["depth_db"] = s.depth_db;
  return c;
}

}  // namespace

std::optional<Found> estimate_fade(const Excerpt& e, const Model& model) {
  const GainCurve curve = gain_course(e, model);
  if (curve.pieces.size() < 8) return {};
  const double usual = usual_gain(curve);
  std::vector<Faded> found;
  for (const double plateau : {usual, usual_gain(curve, usual)})
    for (const bool out : {true, false})
      if (const auto one = best_shape(curve, plateau, out, e.rate_hz); one && one->is_one()) found.push_back(*one);
  for (const bool out : {true, false})
    if (const auto one = best_shape(edge_course(e, model, out), usual, out, e.rate_hz);
        one && one->is_one(most_otherwise_at_edge) && one->is_short(curve.piece))
      found.push_back(*one);
  double most = 0;
  for (const Faded& f : found) most = std::max(most, f.before - f.after);
  // Of those that take out much, the one that leaves least of what it is about.
  std::erase_if(found, [&](const Faded& f) { return f.before - f.after < much * most; });
  const auto best = std::min_element(found.begin(), found.end(), [](const Faded& a, const Faded& b) {
    return a.after * b.before < b.after * a.before;
  });
  if (best == found.end()) return {};
  return Found{described(e, best->shape), [s = best->shape](const Places& where, Planar& m) {
                 apply_gain(where, m, [&](int64_t n) { return s.gain(double(n)); });
               }};
}

}  // namespace heathmist::causes
