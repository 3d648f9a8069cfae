// An EQ as it was set is found in its response: number, kind and values of its sections, whatever else was done.
#include <QtTest>
#include <cmath>

#include "core/compare/causes/eq_shape.hpp"
#include "core/dsp/noise.hpp"

using namespace heathmist;
using namespace heathmist::causes;
using Kind = EqSection::Kind;

namespace {

constexpr double rate = 48000;

/// The response in twelfth octaves, as measured: with an error of `error_db` and a gain over all of it.
std::vector<ShapePoint> measured(const std::vector<EqSection>& sections, double flat_db, double error_db,
                                 uint64_t seed) {
  dsp::Noise chance(seed);
  std::vector<ShapePoint> points;
  for (double hz = 20; hz < 23500; hz *= std::exp2(1.0 / 12)) {
    std::complex<double> h = std::pow(10, (flat_db + error_db * chance.between(-1, 1)) / 20);
    for (const EqSection& s : sections) h *= s.response(hz, rate);
    points.push_back({hz, 20 * std::log10(std::abs(h)), 1, h});
  }
  return points;
}

QString text_of(const std::vector<EqSection>& sections) {
  QString text;
  for (const EqSection& s : sections)
    text += QString("%1 %2 Hz %3 dB Q %4; ")
                .arg(name_of(s.kind))
                .arg(s.hz, 0, 'f', 1)
                .arg(s.gain_db, 0, 'f', 2)
                .arg(s.q, 0, 'f', 2);
  return text;
}

/// The same sections, as near as an engineer would say so.
bool same(const std::vector<EqSection>& a, const std::vector<EqSection>& b) {
  if (a.size() != b.size()) return false;
  for (size_t n = 0; n < a.size(); ++n)
    if (a[n].kind != b[n].kind || std::abs(std::log2(a[n].hz / b[n].hz)) > 0.07 ||
        std::abs(a[n].gain_db - b[n].gain_db) > 0.2)
      return false;
  return true;
}

/// Settings as people make them: each a good way from the next, a shelf at either end at most.
std::vector<EqSection> some_setting(uint64_t seed, size_t count) {
  dsp::Noise chance(seed);
  std::vector<EqSection> all;
  for (size_t n = 0; n < count; ++n) {
    EqSection s;
    s.hz = 60 * std::pow(10000.0 / 60, (double(n) + chance.between(0.25, 0.75)) / double(count));
    s.gain_db = std::copysign(chance.between(1, 5), chance.between(-1, 1));
    s.q = chance.between(0.7, 3);
    if (n == 0 && count > 1 && chance.uniform() < 0.3) s.kind = Kind::low_shelf, s.q = 0.707;
    if (n + 1 == count && count > 1 && chance.uniform() < 0.4) s.kind = Kind::high_shelf, s.q = 0.707;
    all.push_back(s);
  }
  return all;
}

}  // namespace

class TestEqShape : public QObject {
  Q_OBJECT

 private slots:
  void settings_are_found_again_data() {
    QTest::addColumn<int>("sections");
    for (const int n : {1, 2, 3, 4}) QTest::newRow(qPrintable(QString("%1 sections").arg(n))) << n;
  }
  void settings_are_found_again() {
    QFETCH(int, sections);
    int wrong = 0;
    const int cases = 12;
    for (int n = 0; n < cases; ++n) {
      const auto set = some_setting(uint64_t(100 * sections + n), size_t(sections));
      const double flat = n % 3 ? 0.1 * n : 0;
      const auto shape = shape_of(measured(set, flat, 0.003, uint64_t(n)), rate);
      if (!same(set, shape.sections) || std::abs(shape.flat_db - flat) > 0.1) {
        ++wrong;
        qInfo().noquote() << "set" << text_of(set) << "found" << text_of(shape.sections) << shape.flat_db - flat
                          << shape.error_db;
      }
    }
    QVERIFY2(wrong == 0, qPrintable(QString::number(wrong)));
  }

  /// As set by someone: bass up a little, presence down, air up. Nothing of it lies flat.
  void three_wide_sections_with_no_flat_part() {
    const std::vector<EqSection> set{
        {Kind::bell, 90, 2, 0.8, 2}, {Kind::bell, 3200, -3, 2, 2}, {Kind::high_shelf, 9000, 1.5, 0.707, 2}};
    const auto shape = shape_of(measured(set, 0, 0.01, 1), rate);
    QVERIFY2(same(set, shape.sections), qPrintable(text_of(shape.sections)));
    QVERIFY(std::abs(shape.flat_db) < 0.1);
  }

  void passes_are_passes_data() {
    QTest::addColumn<int>("kind");
    QTest::addColumn<double>("hz");
    QTest::addColumn<int>("order");
    for (const int order : {1, 2, 4}) {
      for (const double hz : {24.0, 30.0, 80.0, 400.0})
        QTest::addRow("high pass %d at %.0f", order, hz) << int(Kind::high_pass) << hz << order;
      for (const double hz : {1200.0, 8000.0, 15000.0})
        QTest::addRow("low pass %d at %.0f", order, hz) << int(Kind::low_pass) << hz << order;
    }
  }
  void passes_are_passes() {
    QFETCH(int, kind);
    QFETCH(double, hz);
    QFETCH(int, order);
    const std::vector<EqSection> set{{Kind(kind), hz, 0, 0.7071, order}};
    for (const double error_db : {0.001, 0.03}) {
      const auto shape = shape_of(measured(set, 0, error_db, 5), rate);
      QVERIFY2(shape.sections.size() == 1 && same(set, shape.sections) && shape.sections[0].order == order,
               qPrintable(text_of(shape.sections)));
    }
  }

  void a_ragged_response_is_no_row_of_sections() {
    const auto shape = shape_of(measured({}, 0, 1.5, 3), rate);
    QVERIFY2(shape.sections.size() <= 1, qPrintable(text_of(shape.sections)));
  }

  /// What turns the phase of all that is known, and lies under it.
  void a_high_pass_under_all_that_is_known_shows_in_the_phase() {
    for (const double hz : {15.0, 30.0, 45.0}) {
      auto points = measured({{Kind::high_pass, hz, 0, 0.707, 2}, {Kind::bell, 2000, 3, 1, 2}}, 0, 0.02, 7);
      for (ShapePoint& p : points)
        if (p.hz < 6 * hz) p.weight = 0.001, p.variance_db2 = 100, p.db = 5, p.h = std::polar(1.8, p.hz);
      const auto shape = shape_of(points, rate);
      QVERIFY2(
          same(shape.sections, {{Kind::high_pass, hz, 0, 0.707, 2}, {Kind::bell, 2000, 3, 1, 2}}) && shape.by_phase,
          qPrintable(QString("of %1 Hz%2: ").arg(hz).arg(shape.by_phase ? " by phase" : "") + text_of(shape.sections)));
    }
  }

  /// What lies under it is known to a decibel only, as of few windows in the bass; the rest of the EQ is told too.
  void beside_a_high_pass_by_phase_the_rest_is_told() {
    const std::vector<EqSection> set{{Kind::high_pass, 15, 0, 0.707, 2}, {Kind::high_shelf, 9000, 0.7, 0.707, 2}};
    auto points = measured(set, 0, 0.002, 9);
    for (ShapePoint& p : points) p.variance_db2 = 1e-5 + std::pow(30 / p.hz, 2);
    const auto shape = shape_of(points, rate);
    QVERIFY2(shape.by_phase && same(shape.sections, set), qPrintable(text_of(shape.sections)));
    QVERIFY(std::abs(shape.flat_db) < 0.02);
  }

  /// Nor is every phase that of a high pass.
  void an_all_pass_is_no_high_pass() {
    for (const double hz : {150.0, 800.0, 4000.0}) {
      auto points = measured({}, 0, 0.003, 8);
      for (ShapePoint& p : points) {
        const std::complex<double> s(0, p.hz / hz);
        p.h *= (s * s - s / 0.7 + 1.0) / (s * s + s / 0.7 + 1.0);
      }
      const auto shape = shape_of(points, rate);
      QVERIFY2(shape.sections.empty() && !shape.by_phase, qPrintable(text_of(shape.sections)));
    }
    auto low = measured({}, 0, 0.003, 8);
    for (ShapePoint& p : low) {
      const std::complex<double> s(0, p.hz / 20);
      p.h *= (s * s - s / 0.7 + 1.0) / (s * s + s / 0.7 + 1.0), p.variance_db2 = 1e-5 + std::pow(30 / p.hz, 2);
    }
    const auto shape = shape_of(low, rate);
    QVERIFY2(shape.sections.empty() && !shape.by_phase, qPrintable(text_of(shape.sections)));
  }
};

QTEST_APPLESS_MAIN(TestEqShape)
#include "test_eq_shape.moc"
