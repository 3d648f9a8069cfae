// A gain that goes up and down at one rate is a tremolo, told by its rate and range; what follows the programme is
// none.
#include <QtTest>
#include <cmath>
#include <numbers>

#include "core/compare/null.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"
#include "tests/support/treatments.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

struct Made {
  const char* programme;
  const char* wave;
  double rate_hz, depth;
  int sample_rate_hz;
  WordFormat word;
};

/// -1 to 1 over one turn.
double wave_at(const QString& wave, double turns) {
  const double part = turns - std::floor(turns);
  if (wave == "sine") return std::sin(2 * std::numbers::pi * part);
  if (wave == "triangle") return 1 - 4 * std::abs(part - 0.5);
  return std::clamp(6 * std::sin(2 * std::numbers::pi * part), -1.0, 1.0);  // nearly square
}

bool is_tremolo(const Cause* c) { return c && c->values.contains("rate_hz"); }

}  // namespace

class TestTremolo : public QObject {
  Q_OBJECT

  Folder folder_;

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  void a_tremolo_is_told_by_its_rate_and_range_data() {
    QTest::addColumn<int>("row");
    QTest::newRow("dense, sine") << 0;
    QTest::newRow("piano, triangle") << 1;
    QTest::newRow("speech, sine") << 2;
    QTest::newRow("wide, nearly square") << 3;
    QTest::newRow("drone, slow") << 4;
    QTest::newRow("choir, fast and faint") << 5;
    QTest::newRow("bass, two turns in four pieces") << 6;
  }
  void a_tremolo_is_told_by_its_rate_and_range() {
    static const std::vector<Made> all{{"dense", "sine", 5.3, 0.25, 44100, WordFormat::pcm24},
                                       {"piano", "triangle", 3.1, 0.2, 96000, WordFormat::float32},
                                       {"speech", "sine", 4.4, 0.3, 48000, WordFormat::pcm24},
                                       {"wide", "nearly square", 2.2, 0.15, 44100, WordFormat::pcm16},
                                       {"drone", "sine", 0.9, 0.1, 48000, WordFormat::pcm24},
                                       {"choir", "sine", 11.7, 0.03, 44100, WordFormat::pcm24},
                                       {"bass", "sine", 5, 0.2, 44100, WordFormat::pcm24}};
    QFETCH(int, row);
    const Made& m = all[size_t(row)];
    const Planar sound = programme(m.programme, m.sample_rate_hz, 9, 31);
    const auto ret = gained(sound, [&](size_t n) {
      return 1 - m.depth * (1 + wave_at(m.wave, m.rate_hz * double(n) / m.sample_rate_hz + 0.2));
    });
    const auto r = told_of(folder_, sound, ret, m.sample_rate_hz, m.word);
    const Cause* ride = cause(r, "gain_ride");
    QVERIFY2(is_tremolo(ride), qPrintable(told(r)));
    QVERIFY2(is_near(number(ride, "rate_hz"), m.rate_hz, 0.01), qPrintable(told(r)));
    QVERIFY2(is_near(number(ride, "range_db"), -20 * std::log10(1 - 2 * m.depth), 0.15), qPrintable(told(r)));
    QVERIFY2(ride->after_db.value_or(-999) < -45, qPrintable(told(r)));
    QVERIFY2(!tells(r, "fade") && !tells(r, "gain_step") && !tells(r, "compressor") && !tells(r, "expander") &&
                 !tells(r, "limiter") && !tells(r, "dropout"),
             qPrintable(told(r)));
    QCOMPARE(r.kind, Kind::changed);
  }

  /// A gain that follows beats is the beats', and a slow one is a hand's.
  void what_follows_the_programme_or_goes_once_is_none_data() {
    QTest::addColumn<QString>("name");
    for (const char* name : {"loop", "drums", "dense", "from_silence"}) QTest::newRow(name) << name;
  }
  void what_follows_the_programme_or_goes_once_is_none() {
    QFETCH(QString, name);
    const int rate = 44100;
    const Planar sound = programme(name.toStdString(), rate, 9, 32);
    Planar pressed = sound;
    double level = 0;
    for (size_t n = 0; n < size_t(sound.frames()); ++n) {
      const double now = std::max(std::abs(sound.channel(0)[n]), std::abs(sound.channel(1)[n]));
      level += (now - level) * (1 - std::exp(-1 / (rate * (now > level ? 0.005 : 0.1))));
      const double over = std::max(0.0, 20 * std::log10(level + 1e-9) + 24);
      for (int c = 0; c < 2; ++c) pressed.channel(c)[n] *= std::pow(10, -over * 0.6 / 20);
    }
    const auto by_level = told_of(folder_, sound, pressed, rate, WordFormat::pcm24);
    QVERIFY2(!is_tremolo(cause(by_level, "gain_ride")), qPrintable(told(by_level)));
    const auto by_hand = told_of(
        folder_, sound, gained(sound, [&](size_t n) { return std::pow(10, std::sin(1.1 * double(n) / rate) / 20); }),
        rate, WordFormat::pcm24);
    QVERIFY2(tells(by_hand, "gain_ride") && !is_tremolo(cause(by_hand, "gain_ride")), qPrintable(told(by_hand)));
  }

  /// One side against the other, or one side alone.
  void an_auto_pan_is_told_as_one_data() {
    QTest::addColumn<QString>("name");
    QTest::addColumn<double>("rate_hz");
    QTest::addColumn<double>("left");
    QTest::addColumn<double>("right");
    QTest::newRow("dense, both sides") << "dense" << 1.3 << 0.3 << -0.3;
    QTest::newRow("piano, slow") << "piano" << 0.5 << 0.2 << -0.2;
    QTest::newRow("wide, one side only") << "wide" << 3.1 << 0.25 << 0.0;
    QTest::newRow("near mono, faint") << "near_mono" << 0.9 << 0.05 << -0.05;
  }
  void an_auto_pan_is_told_as_one() {
    QFETCH(QString, name);
    QFETCH(double, rate_hz);
    QFETCH(double, left);
    QFETCH(double, right);
    const int rate = 44100;
    const Planar sound = programme(name.toStdString(), rate, 12, 36);
    Planar ret = sound;
    const double depths[] = {left, right};
    for (int c = 0; c < 2; ++c)
      for (size_t n = 0; n < size_t(sound.frames()); ++n)
        ret.channel(c)[n] *=
            1 - std::abs(depths[c]) + depths[c] * std::sin(2 * std::numbers::pi * rate_hz * double(n) / rate + 0.4);
    const auto r = told_of(folder_, sound, ret, rate, WordFormat::pcm24);
    const Cause* ride = cause(r, "gain_ride");
    QVERIFY2(is_tremolo(ride), qPrintable(told(r)));
    QVERIFY2(is_near(number(ride, "rate_hz"), rate_hz, 0.01), qPrintable(told(r)));
    QVERIFY2(is_near(number(ride, "range_db"), -20 * std::log10(1 - 2 * left), 0.15), qPrintable(told(r)));
    QCOMPARE(ride->values.contains("opposite"), right != 0);
    QCOMPARE(ride->channels.size(), right != 0 ? size_t(2) : size_t(1));
    QVERIFY2(ride->after_db.value_or(-999) < -45 && !tells(r, "distortion") && !tells(r, "fade"), qPrintable(told(r)));
    QVERIFY2(r.findings.front().text.starts_with(right != 0 ? "Auto-pan" : "Tremolo in channel 1"),
             r.findings.front().text.c_str());
  }

  /// Of a return with one channel nobody need say in which.
  void of_one_channel_it_is_not_said_in_which() {
    const Planar two = programme("drone", 44100, 9, 37);
    Planar one(1, two.frames());
    std::copy(two.channel(0).begin(), two.channel(0).end(), one.channel(0).begin());
    const auto r = told_of(
        folder_, one,
        gained(one, [](size_t n) { return 1 - 0.2 * (1 + std::sin(2 * std::numbers::pi * 4 * double(n) / 44100)); }),
        44100, WordFormat::pcm24);
    QVERIFY2(r.findings.front().text.starts_with("Tremolo: "), r.findings.front().text.c_str());
  }

  void of_a_long_pair_it_is_told_too() {
    const Planar sound = programme("dense", 44100, 45, 33);
    const auto r = told_of(
        folder_, sound,
        gained(sound,
               [](size_t n) { return 1 - 0.2 * (1 + std::sin(2 * std::numbers::pi * 6.25 * double(n) / 44100)); }),
        44100, WordFormat::pcm24);
    const Cause* ride = cause(r, "gain_ride");
    QVERIFY2(is_tremolo(ride) && is_near(number(ride, "rate_hz"), 6.25, 0.003) && ride->after_db.value_or(-999) < -60,
             qPrintable(told(r)));
  }
};

SHARED_MAIN(TestTremolo)
#include "test_tremolo.moc"
