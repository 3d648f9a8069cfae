#include "core/compare/causes/eq_shape.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>

namespace heathmist::causes {

namespace {

using Complex = std::complex<double>;
using Kind = EqSection::Kind;

constexpr double floor_db = -45;  // deeper is as good as gone
constexpr double good_enough_db = 0.02;
constexpr double most_off_db = 0.1;
constexpr double least_gain_db = 0.1;    // of a section
constexpr double worth_a_section = 0.6;  // of the error that may stay when one more is added

Complex biquad(double b0, double b1, double b2, double a0, double a1, double a2, double w) {
  const Complex z = std::polar(1.0, -w);
  return (b0 + z * (b1 + z * b2)) / (a0 + z * (a1 + z * a2));
}

Complex pass(bool high, double w0, double q, double w) {
  const double c = std::cos(w0), alpha = std::sin(w0) / (2 * q);
  const double k = high ? (1 + c) / 2 : (1 - c) / 2, middle = high ? -(1 + c) : 1 - c;
  return biquad(k, middle, k, 1 + alpha, -2 * c, 1 - alpha, w);
}

Complex first_order(bool high, double w0, double w) {
  const double k = std::tan(w0 / 2);
  const Complex z = std::polar(1.0, -w);
  return high ? (1.0 - z) / (1 + k + (k - 1) * z) : k * (1.0 + z) / (1 + k + (k - 1) * z);
}

double magnitude_db(Complex h) { return 20 * std::log10(std::max(1e-9, std::abs(h))); }

struct Fitter {
  const std::vector<ShapePoint>& points;
  double rate, flat;

  double error(const std::vector<EqSection>& sections) const {
    double sum = 0, square = 0, weight = 0;
    for (const ShapePoint& p : points) {
      double db = 0;
      for (const EqSection& s : sections) db += magnitude_db(s.response(p.hz, rate));
      const double d = std::max(floor_db, db) - std::max(floor_db, p.db - flat);
      sum += p.weight * d, square += p.weight * d * d, weight += p.weight;
    }
    if (!(weight > 0)) return 0;
    const double off = std::clamp(sum / weight, -most_off_db, most_off_db);  // the flat part is not known better
    return std::sqrt(std::max(0.0, square / weight - 2 * off * sum / weight + off * off));
  }

  static bool allowed(const EqSection& s, double rate) {
    return s.hz > 8 && s.hz < 0.495 * rate && s.q > 0.15 && s.q < 40 && std::abs(s.gain_db) < 40;
  }

  /// Coordinate descent with halving steps over every number of every section.
  double refine(std::vector<EqSection>& sections) const {
    double best = error(sections);
    for (double step = 1; step > 2e-4; step *= 0.5)
      for (int again = 0; again < 6; ++again) {
        const double before = best;
        for (size_t n = 0; n < sections.size(); ++n)
          for (int what = 0; what < 3; ++what)
            for (const double d : {step, -step}) {
              const bool is_pass = sections[n].kind == Kind::high_pass || sections[n].kind == Kind::low_pass;
              if (what == 1 && is_pass) continue;
              if (what == 2 && is_pass && sections[n].order != 2) continue;
              auto tried = sections;
              EqSection& s = tried[n];
              if (what == 0) s.hz *= std::exp2(d);
              if (what == 1) s.gain_db += 4 * d;
              if (what == 2) s.q *= std::exp2(d);
              if (!allowed(s, rate)) continue;
              if (const double now = error(tried); now < best) best = now, sections = std::move(tried);
            }
        if (best > before * 0.999) break;
      }
    return best;
  }

  /// Starts for one more section where the rest leaves most.
  std::vector<EqSection> starts(const std::vector<EqSection>& sections) const {
    double most = 0, hz = 1000, low = 0, high = 0;
    for (const ShapePoint& p : points) {
      double db = p.db - flat;
      for (const EqSection& s : sections) db -= magnitude_db(s.response(p.hz, rate));
      db = std::max(floor_db, db);
      if (std::abs(db) * std::sqrt(p.weight) > std::abs(most)) most = db * std::sqrt(p.weight), hz = p.hz;
      if (p.hz < 60) low = db;
      if (p.hz < 0.3 * rate) high = db;
    }
    std::vector<EqSection> all;
    for (const double q : {0.5, 1.0, 3.0, 8.0}) all.push_back({Kind::bell, hz, most, q, 2});
    for (const double f : {80.0, 250.0, 1000.0, 4000.0, 10000.0}) {
      all.push_back({Kind::low_shelf, f, low, 0.707, 2});
      all.push_back({Kind::high_shelf, f, high, 0.707, 2});
    }
    for (const int order : {1, 2, 4})
      for (const double f : {25.0, 60.0, 150.0, 500.0}) all.push_back({Kind::high_pass, f, 0, 0.707, order});
    for (const int order : {1, 2, 4})
      for (const double f : {1000.0, 4000.0, 9000.0, 16000.0}) all.push_back({Kind::low_pass, f, 0, 0.707, order});
    std::erase_if(all, [&](const EqSection& s) { return !allowed(s, rate); });
    return all;
  }
};

/// A bell at the very edge of what is heard is more likely the way down of a pass: it must be that much better.
double doubt(const std::vector<EqSection>& sections, double rate) {
  constexpr double lowest_hz = 30, highest = 0.42, much_better = 4;
  return std::any_of(sections.begin(), sections.end(),
                     [&](const EqSection& s) {
                       return s.kind == Kind::bell && s.gain_db < 0 && (s.hz < lowest_hz || s.hz > highest * rate);
                     })
             ? much_better
             : 1;
}

/// The level of most of the spectrum: the fullest window of 0.2 dB, by octaves.
double densest(const std::vector<ShapePoint>& points) {
  double best = 0, at = 0;
  for (const ShapePoint& p : points) {
    double inside = 0, sum = 0;
    for (const ShapePoint& o : points)
      if (std::abs(o.db - p.db) < 0.1) inside += o.weight, sum += o.weight * o.db;
    inside *= 1 - 0.02 * std::min(10.0, std::abs(p.db));  // of two plateaus, the one nearer to 0
    if (inside > best) best = inside, at = sum / (inside / (1 - 0.02 * std::min(10.0, std::abs(p.db))));
  }
  return at;
}

void judge_phase(EqShape& shape, const std::vector<ShapePoint>& points, double rate) {
  double own = 0, unexplained = 0, predicted = 0, weight = 0;
  for (const ShapePoint& p : points) {
    if (p.db - shape.flat_db < -30) continue;
    Complex h = 1;
    for (const EqSection& s : shape.sections) h *= s.response(p.hz, rate);
    own += p.weight * std::pow(std::arg(p.h), 2), predicted += p.weight * std::pow(std::arg(h), 2);
    unexplained += p.weight * std::pow(std::arg(p.h * std::conj(h)), 2), weight += p.weight;
  }
  if (!(weight > 0)) return;
  shape.phase_deg = std::sqrt(std::min(own, unexplained) / weight) * 180 / std::numbers::pi;
  shape.linear_phase = !shape.sections.empty() && own < 0.25 * predicted && own < unexplained;
}

}  // namespace

const char* name_of(Kind kind) {
  static constexpr const char* names[] = {"bell", "low_shelf", "high_shelf", "high_pass", "low_pass"};
  return names[int(kind)];
}

Complex EqSection::response(double at_hz, double rate_hz) const {
  const double w = 2 * std::numbers::pi * at_hz / rate_hz, w0 = 2 * std::numbers::pi * hz / rate_hz;
  const double c = std::cos(w0), alpha = std::sin(w0) / (2 * q), a = std::pow(10, gain_db / 40);
  const double root = 2 * std::sqrt(a) * alpha;
  switch (kind) {
    case Kind::bell:
      return biquad(1 + alpha * a, -2 * c, 1 - alpha * a, 1 + alpha / a, -2 * c, 1 - alpha / a, w);
    case Kind::low_shelf:
      return biquad(a * ((a + 1) - (a - 1) * c + root), 2 * a * ((a - 1) - (a + 1) * c),
                    a * ((a + 1) - (a - 1) * c - root), (a + 1) + (a - 1) * c + root, -2 * ((a - 1) + (a + 1) * c),
                    (a + 1) + (a - 1) * c - root, w);
    case Kind::high_shelf:
      return biquad(a * ((a + 1) + (a - 1) * c + root), -2 * a * ((a - 1) + (a + 1) * c),
                    a * ((a + 1) + (a - 1) * c - root), (a + 1) - (a - 1) * c + root, 2 * ((a - 1) - (a + 1) * c),
                    (a + 1) - (a - 1) * c - root, w);
    default:
      break;
  }
  const bool high = kind == Kind::high_pass;
  if (order == 1) return first_order(high, w0, w);
  if (order == 4) return pass(high, w0, 0.541196, w) * pass(high, w0, 1.306563, w);
  return pass(high, w0, q, w);
}

EqShape shape_of(const std::vector<ShapePoint>& points, double rate_hz, size_t most) {
  EqShape shape;
  if (points.size() < 8) return shape;
  shape.flat_db = densest(points);
  for (const ShapePoint& p : points)
    if (p.weight > 0.05) shape.range_db = std::max(shape.range_db, std::abs(std::max(-60.0, p.db - shape.flat_db)));
  const Fitter fitter{points, rate_hz, shape.flat_db};
  shape.error_db = fitter.error({});
  while (shape.sections.size() < most && shape.error_db > good_enough_db) {
    std::vector<std::pair<double, std::vector<EqSection>>> tried;
    for (const EqSection& start : fitter.starts(shape.sections)) {
      auto sections = shape.sections;
      sections.push_back(start);
      tried.emplace_back(fitter.error(sections), std::move(sections));
    }
    std::sort(tried.begin(), tried.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
    // the best few starts of every kind are refined
    std::array<std::array<int, 5>, 5> taken{};  // by kind and order
    double best = shape.error_db, counts = best;
    std::vector<EqSection> kept;
    for (auto& [error, sections] : tried) {
      if (taken[size_t(sections.back().kind)][size_t(sections.back().order)]++ >= 2) continue;
      const double now = fitter.refine(sections);
      if (now * doubt(sections, rate_hz) < counts) best = now, counts = now * doubt(sections, rate_hz), kept = sections;
    }
    if (kept.empty() || best > worth_a_section * shape.error_db) break;
    const EqSection& last = kept.back();
    const bool is_pass = last.kind == Kind::high_pass || last.kind == Kind::low_pass;
    if (!is_pass && std::abs(last.gain_db) < least_gain_db) break;
    shape.sections = std::move(kept), shape.error_db = best;
  }
  std::sort(shape.sections.begin(), shape.sections.end(),
            [](const EqSection& a, const EqSection& b) { return a.hz < b.hz; });
  judge_phase(shape, points, rate_hz);
  return shape;
}

}  // namespace heathmist::causes
