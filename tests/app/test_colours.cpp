// The palette: what is written can be read, what is drawn stands out, and what means different things is told apart by
// the colour-blind, too. By day and by night.
#include <QtTest>
#include <array>
#include <cmath>
#include <numbers>

#include "app/theme/theme.hpp"

using namespace heathmist;
using namespace heathmist::app;

namespace {

using Triple = std::array<double, 3>;
using Matrix = std::array<Triple, 3>;

Triple linear(const QColor& colour) {
  const auto each = [](double c) { return c <= 0.04045 ? c / 12.92 : std::pow((c + 0.055) / 1.055, 2.4); };
  return {each(colour.redF()), each(colour.greenF()), each(colour.blueF())};
}
Triple times(const Matrix& m, const Triple& v) {
  Triple out{};
  for (size_t r = 0; r < 3; ++r)
    for (size_t c = 0; c < 3; ++c) out[r] += m[r][c] * v[c];
  return out;
}

/// Relative luminance and contrast ratio of WCAG 2.2.
double luminance(const QColor& colour) {
  const auto rgb = linear(colour);
  return 0.2126 * rgb[0] + 0.7152 * rgb[1] + 0.0722 * rgb[2];
}
double contrast(const QColor& a, const QColor& b) {
  const double x = luminance(a), y = luminance(b);
  return (std::max(x, y) + 0.05) / (std::min(x, y) + 0.05);
}

/// Eyes without the long or the middle cones, on linear RGB: Machado, Oliveira and Fernandes, "A physiologically-based
/// model for simulation of color vision deficiency", IEEE TVCG 15 (6), 2009, severity 1.
struct Eyes {
  const char* name;
  Matrix matrix;
};
const std::array<Eyes, 3> eyes{
    {{"usual", {{{1, 0, 0}, {0, 1, 0}, {0, 0, 1}}}},
     {"protan", {{{0.152286, 1.052583, -0.204868}, {0.114503, 0.786281, 0.099216}, {-0.003882, -0.048116, 1.051998}}}},
     {"deutan", {{{0.367322, 0.860646, -0.227968}, {0.280085, 0.672501, 0.047413}, {-0.011820, 0.042940, 0.968881}}}}}};

/// CIE L*a*b*, D65.
Triple lab(const QColor& colour, const Eyes& seen_by) {
  auto rgb = times(seen_by.matrix, linear(colour));
  for (double& v : rgb) v = std::clamp(v, 0.0, 1.0);
  const auto xyz = times({{{0.4124, 0.3576, 0.1805}, {0.2126, 0.7152, 0.0722}, {0.0193, 0.1192, 0.9505}}}, rgb);
  const auto f = [](double t) { return t > 0.008856 ? std::cbrt(t) : 7.787 * t + 16 / 116.0; };
  const double x = f(xyz[0] / 0.95047), y = f(xyz[1]), z = f(xyz[2] / 1.08883);
  return {116 * y - 16, 500 * (x - y), 200 * (y - z)};
}

/// CIEDE2000: Sharma, Wu and Dalal, "The CIEDE2000 color-difference formula", Color Research and Application 30, 2005.
double difference(const Triple& p, const Triple& q) {
  const auto rad = [](double degrees) { return degrees * std::numbers::pi / 180; };
  const auto seventh = [](double c) { return std::sqrt(std::pow(c, 7) / (std::pow(c, 7) + std::pow(25.0, 7))); };
  const double stretch = 1.5 - 0.5 * seventh((std::hypot(p[1], p[2]) + std::hypot(q[1], q[2])) / 2);
  const auto chroma = [&](const Triple& v) { return std::hypot(stretch * v[1], v[2]); };
  const auto hue = [&](const Triple& v) {
    const double h = std::atan2(v[2], stretch * v[1]) / rad(1);
    return h < 0 ? h + 360 : h;
  };
  const double cp = chroma(p), cq = chroma(q), hp = hue(p), hq = hue(q), c = (cp + cq) / 2, l = (p[0] + q[0]) / 2;
  const double turn = std::remainder(hq - hp, 360), h = std::abs(hp - hq) <= 180 ? (hp + hq) / 2 : (hp + hq + 360) / 2;
  const double t = 1 - 0.17 * std::cos(rad(h - 30)) + 0.24 * std::cos(rad(2 * h)) + 0.32 * std::cos(rad(3 * h + 6)) -
                   0.2 * std::cos(rad(4 * h - 63));
  const double dl = (q[0] - p[0]) / (1 + 0.015 * std::pow(l - 50, 2) / std::sqrt(20 + std::pow(l - 50, 2))),
               dc = (cq - cp) / (1 + 0.045 * c),
               dh = 2 * std::sqrt(cp * cq) * std::sin(rad(turn / 2)) / (1 + 0.015 * c * t),
               twist = -2 * seventh(c) * std::sin(rad(60 * std::exp(-std::pow((h - 275) / 25, 2))));
  return std::sqrt(dl * dl + dc * dc + dh * dh + twist * dc * dh);
}

}  // namespace

class TestColours : public QObject {
  Q_OBJECT

 private slots:
  void cleanup() { Theme::instance().apply(false); }

  /// Pairs 1, 7, 17 and 25 of the authors' own data.
  void differences_are_those_of_the_paper() {
    const std::array<std::pair<Triple, Triple>, 4> pairs{
        {{{50, 2.6772, -79.7751}, {50, 0, -82.7485}},
         {{50, 0, 0}, {50, -1, 2}},
         {{50, 2.5, 0}, {73, 25, -18}},
         {{60.2574, -34.0099, 36.2677}, {60.4626, -34.1751, 39.4387}}}};
    const std::array truth{2.0425, 2.3669, 27.1492, 1.2644};
    for (size_t n = 0; n < pairs.size(); ++n) {
      const double told = difference(pairs[n].first, pairs[n].second);
      QVERIFY2(std::abs(told - truth[n]) < 1e-4, qPrintable(QString("%1 for %2").arg(told).arg(truth[n])));
    }
  }

  void text_stands_out_from_its_ground() { stand_out({Role::ink, Role::soft, Role::master, Role::ret}, 4.5); }

  void the_heat_palette_rises_evenly() {
    double last = -1;
    for (double t = 0; t <= 1; t += 0.02) {
      const double now = luminance(Theme::instance().heat(t));
      QVERIFY(now >= last);
      last = now;
    }
  }

  /// Less and more: two hues that anybody tells apart, and from what is alike.
  void the_two_sides_of_a_difference_are_told_apart() {
    for (const bool night : {false, true}) {
      Theme::instance().apply(night);
      const auto stops = Theme::instance().difference_stops();
      QCOMPARE(stops.size(), size_t(3));
      const QColor less = stops[0].second, alike = stops[1].second, more = stops[2].second;
      QCOMPARE(alike, colour(Role::sheet));
      for (const QColor& side : {less, more})
        QVERIFY2(contrast(side, alike) >= 3, qPrintable(QString("%1: %2").arg(side.name()).arg(contrast(side, alike))));
      for (const auto& by : eyes) {
        const double apart = difference(lab(less, by), lab(more, by));
        qInfo("less, more, %s, %s: %.1f", by.name, night ? "night" : "day", apart);
        QVERIFY(apart >= 20);
      }
    }
  }

  /// WCAG 2.2, 1.4.11: what is drawn and says something.
  void what_is_drawn_stands_out() {
    stand_out({Role::master, Role::ret, Role::residual, Role::moss, Role::straw, Role::gorse, Role::rust, Role::edge},
              3);
  }

  /// One in twelve men sees few differences between red and green.
  void the_colour_blind_tell_them_apart() {
    struct Pair {
      const char* names;
      Role a, b;
      double least;  // CIEDE2000; about 1 is just seen side by side
    };
    for (const bool night : {false, true}) {
      Theme::instance().apply(night);
      for (const auto& [names, a, b, least] : {Pair{"master, return", Role::master, Role::ret, 11},
                                               {"master, residual", Role::master, Role::residual, 11},
                                               {"return, residual", Role::ret, Role::residual, 11},
                                               {"well, caution", Role::moss, Role::gorse, 8},
                                               {"well, fault", Role::moss, Role::rust, 11},
                                               {"caution, fault", Role::gorse, Role::rust, 11}})
        for (const auto& by : eyes) {
          const double apart = difference(lab(colour(a), by), lab(colour(b), by));
          qInfo("%s, %s, %s: %.1f", names, by.name, night ? "night" : "day", apart);
          QVERIFY2(apart >= least, names);
        }
    }
  }

 private:
  static void stand_out(const std::vector<Role>& roles, double least) {
    for (const bool night : {false, true}) {
      Theme::instance().apply(night);
      for (const Role ground : {Role::ground, Role::sheet})
        for (const Role role : roles) {
          const double there = contrast(colour(role), colour(ground));
          QVERIFY2(there >= least,
                   qPrintable(QString("%1 on %2, night %3: %4").arg(int(role)).arg(int(ground)).arg(night).arg(there)));
        }
    }
  }
};

QTEST_MAIN(TestColours)
#include "test_colours.moc"
