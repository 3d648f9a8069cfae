// Curves without memory beside a filter, before or behind it: both told, with their numbers; and what only seemed to be
// something else.
#include <QtTest>
#include <cmath>
#include <functional>
#include <numbers>

#include "core/compare/explain.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"
#include "tests/support/treatments.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

using Bend = std::function<double(double)>;

Bend saturated(double drive) {
  return [=](double x) { return std::tanh(drive * x) / drive; };
}

/// What a curve makes of a sine of this peak: its third harmonic against its fundamental, dB, by their integrals.
double third_db(const Bend& f, double peak) {
  double first = 0, third = 0;
  constexpr int steps = 4000;
  for (int n = 0; n < steps; ++n) {
    const double turn = 2 * std::numbers::pi * n / steps, y = f(peak * std::sin(turn));
    first += y * std::sin(turn), third += y * std::sin(3 * turn);
  }
  return 20 * std::log10(std::abs(third / first));
}

/// Half as it is, and beside it what a cubic makes of it, without its lowest notes: one pole takes an offset out.
Planar overdriven(const Planar& sound, double gain) {
  Planar out = sound;
  for (int c = 0; c < sound.channels(); ++c) {
    double before = 0, held = 0;
    for (double& x : out.channel(c)) {
      const double d = std::clamp(gain * x, -1.0, 1.0), cubic = d - d * d * d / 3;
      held = cubic - before + 0.995 * held, before = cubic;
      x = 0.5 * x + 0.75 * held;
    }
  }
  return scaled(std::move(out), 0.5);
}

/// Findings on a return this much quieter that reads as reaching to 4.5 kHz only, where its power above that is a share
/// of what is due.
bool tells_a_band_lost(double gain_db, double share) {
  NullReport r;
  r.kind = Kind::changed, r.fit.gain_db = gain_db;
  r.master_bandwidth_hz = 9000, r.return_bandwidth_hz = 4500;
  r.sums.master_spectrum.bin_hz = r.sums.return_spectrum.bin_hz = 10;
  for (int k = 0; k < 2400; ++k) {
    const double power = std::pow(1 + k, -4), due = power * std::pow(10, gain_db / 10);
    r.sums.master_spectrum.power.push_back(power);
    r.sums.return_spectrum.power.push_back(k < 450 ? due : share * due);
  }
  const auto findings = findings_of(r);
  return std::any_of(findings.begin(), findings.end(), [](const Finding& f) { return f.code == "bandwidth"; });
}

double after(const Cause& c) { return c.after_db.value_or(-200); }

}  // namespace

class TestCurveTold : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  void a_curve_and_an_eq_come_apart_data() {
    QTest::addColumn<QString>("name");
    QTest::addColumn<bool>("eq_first");
    QTest::addColumn<double>("drive");
    QTest::addColumn<QString>("shape");
    QTest::addColumn<double>("hz");
    QTest::addColumn<double>("db");
    QTest::newRow("drums, high pass behind") << "drums" << false << 1.0 << "high pass" << 60.0 << 0.0;
    QTest::newRow("drums, high pass before") << "drums" << true << 1.0 << "high pass" << 60.0 << 0.0;
    QTest::newRow("choir, bell before") << "choir" << true << 0.8 << "bell" << 600.0 << 5.0;
    QTest::newRow("choir, bell behind") << "choir" << false << 0.8 << "bell" << 600.0 << 5.0;
    QTest::newRow("piano, low shelf behind") << "piano" << false << 1.2 << "low shelf" << 150.0 << -4.0;
    QTest::newRow("loop, treble before") << "loop" << true << 1.0 << "high shelf" << 6000.0 << 4.0;
    QTest::newRow("near mono, bell behind") << "near_mono" << false << 1.5 << "bell" << 1000.0 << 3.0;
    QTest::newRow("bass, treble behind") << "bass" << false << 0.9 << "high shelf" << 5000.0 << -3.0;
  }
  void a_curve_and_an_eq_come_apart() {
    QFETCH(QString, name);
    QFETCH(bool, eq_first);
    QFETCH(double, drive);
    QFETCH(QString, shape);
    QFETCH(double, hz);
    QFETCH(double, db);
    const Planar sound = programme(name.toStdString(), 48000, 12, 91);
    const auto eq = [&](Planar s) { return filtered(std::move(s), 48000, shape.toStdString(), hz, 0.7, db); };
    const Bend curve = saturated(drive);
    const auto r = told_of(sound, eq_first ? bent(eq(sound), curve) : eq(bent(sound, curve)));
    const Cause *bend = cause(r, "distortion"), *set = cause(r, "eq");
    QVERIFY2(bend && set, qPrintable(told(r)));
    const Json& v = bend->values;
    double third = 0;
    for (const Json& h : v["harmonics"])
      if (h["order"] == 3) third = h["level_db"].get<double>();
    // before an EQ the curve is told as it meets the master; behind one, as it meets what that makes of it
    const double truth = third_db(curve, std::pow(10, v["at_dbfs"].get<double>() / 20));
    QVERIFY2(is_near(third, truth, 1.5), qPrintable(told(r) + QString(" %1 for %2").arg(third).arg(truth)));
    const Json& sections = set->values["sections"];
    QVERIFY2(!sections.empty(), qPrintable(told(r)));
    for (const Json& at : sections) {
      const double octaves = std::log2(at["hz"].get<double>() / hz), gain = at.value("gain_db", 0.0);
      QVERIFY2((std::abs(octaves) < 0.17 && std::abs(gain - db) < 0.35) || std::abs(gain) < 0.35, qPrintable(told(r)));
    }
    QVERIFY2(after(r.causes.back()) < -45, qPrintable(told(r)));
    for (const char* other : {"compressor", "limiter", "expander", "gain_ride", "echo", "channel_gain", "lossy"})
      QVERIFY2(!tells(r, other), qPrintable(told(r)));
  }

  /// What lies beside its dry sound is a shelf, or a high pass, and a curve; on a few low notes it may look like
  /// repeats.
  void an_overdrive_is_no_echo_data() {
    QTest::addColumn<QString>("name");
    QTest::addColumn<int>("seed");
    for (const int seed : {11, 13, 15}) QTest::addRow("bass %d", seed) << "bass" << seed;
    for (const char* name : {"choir", "piano", "drums"}) QTest::newRow(name) << name << 17;
  }
  void an_overdrive_is_no_echo() {
    QFETCH(QString, name);
    QFETCH(int, seed);
    const Planar sound = programme(name.toStdString(), 48000, 12, seed);
    const auto r = told_of(sound, overdriven(scaled(sound, 0.25), 2.8));
    QVERIFY2(tells(r, "eq") || tells(r, "phase"), qPrintable(told(r)));
    for (const char* other :
         {"echo", "reverb", "compressor", "limiter", "expander", "channel_gain", "lossy", "band_limit"})
      QVERIFY2(!tells(r, other), qPrintable(told(r)));
    QVERIFY2(name == "bass" || tells(r, "distortion"), qPrintable(told(r)));
  }

  /// A return that is merely quieter has lost none of a treble that hardly was there.
  void faint_treble_of_a_quieter_return_is_not_gone() {
    QVERIFY(!tells_a_band_lost(-12, 1));
    QVERIFY(tells_a_band_lost(-12, 0.1));
    QVERIFY(tells_a_band_lost(0, 0.1));
  }

  /// An echo of a few low notes is one.
  void an_early_echo_of_low_notes_is_told() {
    const Planar sound = programme("bass", 48000, 12, 13);
    Planar repeated = sound;
    for (int c = 0; c < sound.channels(); ++c)
      for (size_t n = 187; n < size_t(sound.frames()); ++n) repeated.channel(c)[n] += 0.5 * sound.channel(c)[n - 187];
    const auto r = told_of(sound, scaled(repeated, 0.6));
    const Cause* echo = cause(r, "echo");
    QVERIFY2(echo && is_near(echo->values["time_ms"].get<double>(), 187 / 48.0, 0.03), qPrintable(told(r)));
    QVERIFY2(is_near(echo->values["level_db"].get<double>(), -6.02, 0.1), qPrintable(told(r)));
  }

 private:
  NullReport told_of(const Planar& master, const Planar& ret) {
    return test::told_of(folder_, master, ret, 48000, WordFormat::pcm24);
  }
  Folder folder_;
};

SHARED_MAIN(TestCurveTold)
#include "test_curve_told.moc"
