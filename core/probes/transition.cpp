#include "core/probes/transition.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <functional>
#include <numbers>
#include <numeric>

namespace heathmist {

namespace {

/// How far a shape has gone `u` after its begin, in units of its length.
double way_of(Shape shape, double u, const Transition& t) {
  if (u <= 0) return 0;
  switch (shape) {
    case Shape::step:
      return 1;
    case Shape::one_pole:
      return 1 - std::exp(-u);
    case Shape::two_poles:
      return 1 - (1 + u) * std::exp(-u);
    default:
      break;
  }
  if (u >= 1) return 1;
  if (shape == Shape::raised_cosine) return 0.5 - 0.5 * std::cos(std::numbers::pi * u);
  if (shape == Shape::decibels) return (t.from * std::pow(t.to / t.from, u) - t.from) / (t.to - t.from);
  return u;
}

/// As it is seen through the triangle that gains are averaged over.
double seen(const ShapeFit& f, double s, const Transition& t) {
  const double scale = std::max(f.lasts_s, 1e-9);
  if (t.spread_s == 0) return way_of(f.shape, (s - f.begins_s) / scale, t);
  constexpr int arms = 6;
  double sum = 0, weights = 0;
  for (int k = -arms; k <= arms; ++k) {
    const double weight = 1 - std::abs(double(k)) / (arms + 1);
    sum += weight * way_of(f.shape, (s + t.spread_s * k / (arms + 1) - f.begins_s) / scale, t), weights += weight;
  }
  return sum / weights;
}

/// Samples that a fit looks at: dense where the way is gone.
std::vector<size_t> places(const Transition& t, double from_s, double until_s) {
  const auto count = double(t.way.size());
  const double first = std::clamp((from_s - t.first_s) / t.step_s, 0.0, count - 1),
               last = std::clamp((until_s - t.first_s) / t.step_s, first, count - 1);
  std::vector<size_t> at;
  constexpr int most = 300;
  const double stride = std::max(1.0, (last - first) / most);
  for (double n = first; n <= last; n += stride) at.push_back(size_t(n));
  return at;
}

double error_of(const ShapeFit& f, const Transition& t, const std::vector<size_t>& at) {
  double sum = 0;
  for (const size_t n : at) {
    const double e = t.way[n] - seen(f, t.first_s + double(n) * t.step_s, t);
    sum += e * e;
  }
  return std::sqrt(sum / double(std::max<size_t>(1, at.size())));
}

/// Begin and length by ever smaller steps, each way in turn.
ShapeFit refined(ShapeFit f, const Transition& t, const std::vector<size_t>& at, double span_s) {
  f.error = error_of(f, t, at);
  for (double span = span_s; span > 1e-7; span *= 0.6)
    for (const auto& [begin, length] :
         {std::pair{1.0, 0.0}, {-1.0, 0.0}, {0.0, 1.0}, {0.0, -1.0}, {0.5, -1.0}, {-0.5, 1.0}}) {
      ShapeFit other = f;
      other.begins_s += begin * span;
      if (f.shape != Shape::step) other.lasts_s = std::max(1e-7, f.lasts_s + length * span);
      other.error = error_of(other, t, at);
      if (other.error < f.error) f = other;
    }
  return f;
}

struct Marks {
  double early, half, late;
};

ShapeFit first_guess(Shape shape, const Marks& m, const Transition& t) {
  const double rise = std::max(m.late - m.early, t.step_s);
  const auto unit = [&](double length) {  // where a shape of unit length passes shares, by search
    ShapeFit f{shape, 0, length, 0};
    return std::array{time_of(f, t, 0.1), time_of(f, t, 0.5), time_of(f, t, 0.9)};
  };
  if (shape == Shape::step) return {shape, m.half, 0, 0};
  const auto one = unit(1);
  const double length = rise / std::max(1e-9, one[2] - one[0]);
  return {shape, m.half - one[1] * length, length, 0};
}

}  // namespace

const char* name_of(Shape shape) {
  constexpr const char* names[] = {"step", "straight", "one_pole", "raised_cosine", "straight_in_db", "two_poles"};
  return names[int(shape)];
}

double time_of(const ShapeFit& f, const Transition& t, double share) {
  if (f.shape == Shape::step) return f.begins_s;
  double low = 0, high = f.shape == Shape::one_pole || f.shape == Shape::two_poles ? 40 : 1;
  for (int n = 0; n < 60; ++n) (way_of(f.shape, 0.5 * (low + high), t) < share ? low : high) = 0.5 * (low + high);
  return f.begins_s + 0.5 * (low + high) * f.lasts_s;
}

std::optional<double> crossing(const Transition& t, double share) {
  for (size_t n = 0; n < t.way.size(); ++n) {
    if (t.way[n] < share) continue;
    if (n == 0) return t.first_s;
    const double jump = t.way[n] - t.way[n - 1];
    const double part = jump > 0.5 ? 1 : (share - t.way[n - 1]) / jump;
    return t.first_s + (double(n - 1) + part) * t.step_s;
  }
  return {};
}

ShapeFit fit_shape(const Transition& t) {
  const auto early = crossing(t, 0.1), half = crossing(t, 0.5), late = crossing(t, 0.9);
  const Marks m{early.value_or(t.first_s), half.value_or(t.first_s), late.value_or(t.first_s)};
  const double rise = std::max(m.late - m.early, 4 * t.step_s) + 2 * t.spread_s;
  const auto at = places(t, m.early - 0.6 * rise, m.late + 2.2 * rise);
  std::vector<Shape> shapes{Shape::step, Shape::straight, Shape::one_pole, Shape::raised_cosine, Shape::two_poles};
  if (t.from > 1e-4 && t.to > 1e-4 && std::abs(std::log(t.to / t.from)) > 0.3) shapes.push_back(Shape::decibels);
  ShapeFit best;
  best.error = 1e9;
  for (const Shape shape : shapes) {
    const ShapeFit f = refined(first_guess(shape, m, t), t, at, rise / 4);
    if (f.error < 0.7 * best.error - 1e-6) best = f;  // the later ones are less simple
  }
  return best;
}

namespace {

/// How much more there is in the `reach` samples after a place than in those before it, noise taken off.
std::vector<double> changes(std::span<const double> along, size_t reach, double noise) {
  std::vector<double> sums(along.size() + 1, 0), all;
  for (size_t n = 0; n < along.size(); ++n) sums[n + 1] = sums[n] + along[n];
  const double hidden = 4.5 * noise * std::sqrt(2.0 / double(reach));
  for (size_t n = reach; n + reach <= along.size(); ++n) {
    const double change = std::abs(sums[n + reach] - 2 * sums[n] + sums[n - reach]) / double(reach);
    all.push_back(std::max(0.0, change - hidden));
  }
  return all;
}

/// Middles of the stretches over a share of what a jump is.
std::vector<double> jumps_in(const std::vector<double>& change, double over) {
  std::vector<double> at;
  for (size_t n = 0; n < change.size(); ++n) {
    if (change[n] < over) continue;
    const size_t from = n;
    while (n < change.size() && change[n] >= over) ++n;
    at.push_back(0.5 * double(from + n - 1));
  }
  return at;
}

std::optional<Stairs> stairs_at(std::span<const double> along, double step_s, double noise, size_t reach) {
  const auto change = changes(along, reach, noise);
  if (change.size() < 8 * reach) return {};
  std::vector<double> order(change);
  const size_t top =
      order.size() * 3 / 10;  // the greatest three tenths come first; a jump is as great as the next below
  std::nth_element(order.begin(), order.begin() + long(top), order.end(), std::greater<>());
  const double most = std::accumulate(order.begin(), order.begin() + long(top), 0.0),
               all = std::accumulate(order.begin() + long(top), order.end(), most);
  std::nth_element(order.begin(), order.begin() + long(reach), order.begin() + long(top), std::greater<>());
  const double jump = order[reach];
  if (all == 0 || most < 0.9 * all) return {};
  const auto at = jumps_in(change, 0.3 * jump);
  if (at.size() < 3) return {};
  std::vector<double> apart;
  for (size_t n = 1; n < at.size(); ++n) apart.push_back(at[n] - at[n - 1]);
  std::sort(apart.begin(), apart.end());
  const double middle = apart[apart.size() / 2];
  if (apart[apart.size() / 10] < 0.6 * middle || middle < 6 * double(reach)) return {};  // no rhythm, or no rest: noise
  double near = 0;  // a curve that bends has most of its change in one place, too, but not about its jumps
  for (const double jump_at : at)
    for (auto n = size_t(std::max(0.0, jump_at - double(reach)));
         n <= size_t(jump_at + double(reach)) && n < change.size(); ++n)
      near += change[n];
  if (near < 0.85 * all) return {};
  return Stairs{int(at.size()), middle * step_s};
}

}  // namespace

std::optional<Stairs> stairs_of(std::span<const double> along, double step_s, double noise, double spread_s) {
  const size_t least = std::max<size_t>(1, size_t(std::llround(spread_s / step_s)));
  for (size_t reach = least; reach < along.size() / 16; reach *= 4)  // longer means hide less in noise
    if (const auto stairs = stairs_at(along, step_s, noise, reach)) return stairs;
  return {};
}

}  // namespace heathmist
