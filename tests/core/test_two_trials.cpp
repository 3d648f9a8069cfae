// Two returns of a master beside each other: what is said of them is what was done to them.
#include <QtTest>
#include <cmath>

#include "core/compare/explain.hpp"
#include "core/compare/two_trials.hpp"
#include "core/dsp/biquad.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"
#include "tests/support/stages.hpp"
#include "tests/support/treatments.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

constexpr int rate = 48000;

/// Power as given in every cell, of so many columns and bands.
DepthCells cells(int columns, const std::vector<double>& edges, double first_s, double column_s,
                 const std::function<float(int column, int band)>& residual) {
  DepthCells c{first_s, column_s, edges, {}, {}};
  for (int n = 0; n < columns; ++n)
    for (int k = 0; k < c.bands(); ++k) c.master.push_back(1), c.residual.push_back(residual(n, k));
  return c;
}

const std::vector<double> edges{100, 200, 400, 800};

Planar ducked(const Planar& sound, double from_s, double db) {
  Planar out = sound;
  for (int c = 0; c < sound.channels(); ++c)
    for (auto n = size_t(from_s * rate); n < size_t(sound.frames()); ++n) out.channel(c)[n] *= std::pow(10, db / 20);
  return out;
}

}  // namespace

class TestTwoTrials : public StageTest {
  Q_OBJECT

  NullReport told_of(const Planar& sound, const Planar& ret) {
    return test::told_of(folder_, sound, ret, rate, WordFormat::pcm24);
  }

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  void a_cell_is_the_first_less_the_second() {
    const auto a = cells(4, edges, 0, 1, [](int n, int k) { return n == 2 && k == 1 ? 1e-2f : 1e-4f; });
    const auto b = cells(4, edges, 0, 1, [](int n, int) { return n == 3 ? 1e-6f : 1e-4f; });
    const auto d = depth_difference(a, b);
    QCOMPARE(d.db.size(), size_t(12));
    for (int n = 0; n < 4; ++n)
      for (int k = 0; k < 3; ++k) {
        const double truth = n == 3 ? 20 : n == 2 && k == 1 ? 20 : 0;
        QVERIFY(std::abs(double(d.db[size_t(n * 3 + k)]) - truth) < 0.01);
      }
  }

  /// The other way round every cell has the other sign.
  void exchanged_it_has_the_other_sign() {
    dsp::Noise chance(3);
    const auto by_chance = [&](int, int) { return float(std::pow(10, chance.between(-9, -1))); };
    const auto a = cells(50, edges, 0.5, 0.1, by_chance), b = cells(50, edges, 0.5, 0.1, by_chance);
    const auto there = depth_difference(a, b), back = depth_difference(b, a);
    for (size_t n = 0; n < there.db.size(); ++n) QCOMPARE(there.db[n], -back.db[n]);
  }

  void nothing_left_is_nothing_left() {
    const auto none = cells(2, edges, 0, 1, [](int, int) { return 0.f; }),
               little = cells(2, edges, 0, 1, [](int, int) { return 1e-14f; }),
               some = cells(2, edges, 0, 1, [](int, int) { return 1e-6f; });
    for (const float db : depth_difference(none, little).db) QCOMPARE(db, 0.f);
    for (const float db : depth_difference(some, none).db) QVERIFY(std::abs(db - 60) < 0.01f);
  }

  /// Where one begins later, or has other columns and bands, its cell at that time and frequency counts.
  void cells_meet_by_time_and_frequency() {
    const auto ramp = [](double s) { return float(std::pow(10, -s)); };
    const auto a = cells(20, edges, 1, 0.25, [&](int n, int) { return ramp(1 + (n + 0.5) * 0.25); });
    const auto b =
        cells(60, {50, 100, 150, 200, 400, 800, 1600}, 2, 0.05, [&](int n, int) { return ramp(2 + (n + 0.5) * 0.05); });
    const auto d = depth_difference(a, b);
    for (int n = 0; n < 20; ++n)
      for (int k = 0; k < 3; ++k) {
        const double at = 1 + (n + 0.5) * 0.25;
        const float db = d.db[size_t(n * 3 + k)];
        if (at < 2 || at > 5)
          QVERIFY(std::isnan(db));
        else
          QVERIFY2(std::abs(double(db)) < 0.3, qPrintable(QString("%1 s: %2").arg(at).arg(double(db))));
      }
  }

  void the_deeper_one_is_named_and_where() {
    const Planar sound = programme("dense", rate, 8, 4);
    auto shelf = [&](double gain_db) {
      Planar out = sound;
      for (int c = 0; c < 2; ++c) {
        auto high = dsp::Biquad::high_shelf(rate, 6000, 0.7071, gain_db);
        for (double& x : out.channel(c)) x = high.run(x);
      }
      return out;
    };
    const auto little = told_of(sound, shelf(-0.5)), much = told_of(sound, shelf(-6));
    const auto verdict = verdict_of_two(much, little, "heron", "tern");
    QVERIFY2(
        verdict.text.starts_with("\u201ctern\u201d leaves ") && verdict.text.ends_with("less than \u201cheron\u201d."),
        verdict.text.c_str());
    const auto where = farthest_apart(much.sums, little.sums);
    QVERIFY(where && where->db > 10 && where->high_hz > 9000);
    QVERIFY2(verdict.detail.find("more is left of the first") != std::string::npos, verdict.detail.c_str());
    const double apart = *much.residual_relative_db() - *little.residual_relative_db();
    QVERIFY2(verdict.text.find(QString::number(apart, 'f', 1).toStdString() + " dB") != std::string::npos,
             verdict.text.c_str());
  }

  void causes_stand_beside_each_other() {
    const Planar sound = programme("wide", rate, 8, 5);
    const Planar quieter = ducked(sound, 4, -6);
    const auto step = told_of(sound, quieter);
    Planar both = quieter;
    for (int c = 0; c < 2; ++c) {
      auto bell = dsp::Biquad::bell(rate, 1000, 1, 6);
      for (double& x : both.channel(c)) x = bell.run(x);
    }
    const auto two = told_of(sound, both);
    const auto causes = causes_of_two(step, two);
    const auto named = [&](const char* label) {
      return std::find_if(causes.begin(), causes.end(), [&](const CauseOfTwo& c) { return c.label == label; });
    };
    QVERIFY2(named("gain steps") != causes.end() && named("gain steps")->first_db && named("gain steps")->second_db,
             qPrintable(told(step) + told(two)));
    QVERIFY2(named("EQ") != causes.end() && !named("EQ")->first_db && named("EQ")->second_db, qPrintable(told(two)));
    const auto other_way = causes_of_two(two, step);
    QCOMPARE(other_way.size(), causes.size());
  }

  void a_copy_and_what_cannot_be_laid_are_said_so() {
    const Planar sound = programme("piano", rate, 6, 6);
    const auto copy = told_of(sound, sound);
    const auto eq = told_of(sound, filtered(sound, rate, "high shelf", 4000, 0.7071, -3));
    QVERIFY(verdict_of_two(copy, copy, "a", "b").text.starts_with("Neither"));
    QCOMPARE(verdict_of_two(copy, eq, "a", "b").text, std::string("\u201ca\u201d leaves nothing, \u201cb\u201d does."));
    QCOMPARE(verdict_of_two(eq, eq, "a", "b").text,
             std::string("\u201ca\u201d and \u201cb\u201d leave as much as each other."));
    QVERIFY(!farthest_apart(eq.sums, eq.sums));
    const auto other = told_of(sound, programme("speech", rate, 6, 7));
    QVERIFY(!other.fit.trusted);
    QVERIFY(verdict_of_two(eq, other, "a", "b").text.starts_with("\u201cb\u201d cannot be laid"));
  }
};

SHARED_MAIN(TestTwoTrials)
#include "test_two_trials.moc"
