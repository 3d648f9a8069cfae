// What is told of one file by itself: clicks, dropouts, silence, sides that cancel or are late, on programmes of every
// sort; and nothing where there is nothing.
#include <QtTest>
#include <cmath>

#include "core/measure/condition.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

Condition condition_of(const Planar& sound, int rate_hz, WordFormat word = WordFormat::pcm24) {
  const Folder folder;
  return study_condition(*Clip::open(save(folder / "a.wav", sound, rate_hz, word)));
}

template <class Wave>
Planar wave(double seconds, int rate_hz, Wave value) {
  Planar x(2, int64_t(seconds * rate_hz));
  for (int64_t n = 0; n < x.frames(); ++n)
    x.channel(0)[size_t(n)] = x.channel(1)[size_t(n)] = value(double(n) / rate_hz);
  return x;
}

}  // namespace

class TestCondition : public QObject {
  Q_OBJECT

 private slots:
  void programmes_have_no_clicks_and_no_dropouts_data() {
    QTest::addColumn<QString>("name");
    for (const auto& name : programme_names()) QTest::newRow(name.c_str()) << QString::fromStdString(name);
  }
  void programmes_have_no_clicks_and_no_dropouts() {
    QFETCH(QString, name);
    for (const int rate : {44100, 96000}) {
      const auto c = condition_of(programme(name.toStdString(), rate, 8, 5), rate);
      if (name == "bass") {  // whose drum is cut off 0.4 s after each beat: one of these steps may be heard
        for (const double at : c.clicks_at_s) QVERIFY(std::abs(at * 2 - std::floor(at * 2) - 0.8) < 1e-3);
        QVERIFY(c.clicks <= 3);
        continue;
      }
      QVERIFY2(c.clicks == 0,
               qPrintable(QString("%1 clicks, first at %2").arg(c.clicks).arg(c.clicks ? c.clicks_at_s[0] : 0)));
      QCOMPARE(c.dropouts, 0);
      QVERIFY2(!c.channel_delay_samples, qPrintable(QString::number(c.channel_delay_samples.value_or(0))));
    }
  }
  /// Edges, and gates that shut again and again, are how a sound is made.
  void waves_with_edges_have_no_clicks() {
    const int rate = 48000;
    const auto square = [](double t) { return t * 110 - std::floor(t * 110) < 0.5 ? 0.4 : -0.4; };
    const auto saw = [](double t) { return 0.5 * (t * 55 - std::floor(t * 55)) - 0.25; };
    const auto tone = [](double t) { return 0.5 * std::sin(2 * M_PI * 440 * t); };
    QCOMPARE(condition_of(wave(5, rate, square), rate).clicks, 0);
    QCOMPARE(condition_of(wave(5, rate, saw), rate).clicks, 0);
    QCOMPARE(condition_of(wave(5, rate, tone), rate, WordFormat::pcm16).clicks, 0);
    QCOMPARE(condition_of(wave(5, rate, tone), rate, WordFormat::float64).clicks, 0);
    const auto gated = [&](double t) { return t * 4 - std::floor(t * 4) < 0.6 ? tone(t) : 0; };
    const auto c = condition_of(wave(20, rate, gated), rate);
    QCOMPARE(c.dropouts, 0);
    QCOMPARE(condition_of(Planar(2, rate * 3), rate).clicks, 0);
    QCOMPARE(condition_of(with_noise(Planar(2, rate * 5), 0.2, 8), rate).clicks, 0);
  }
  void clicks_are_found_where_they_are_data() {
    QTest::addColumn<QString>("name");
    QTest::addColumn<int>("rate");
    for (const char* name : {"piano", "speech", "dense", "choir", "wide"})
      QTest::newRow(name) << name << (name[0] == 'c' ? 96000 : 44100);
  }
  void clicks_are_found_where_they_are() {
    QFETCH(QString, name);
    QFETCH(int, rate);
    auto sound = programme(name.toStdString(), rate, 9, 12);
    const std::vector<double> places{1.317, 4.71, 7.903};
    for (const double at : places)
      for (int n = 0; n < 3; ++n) {  // a few samples
        double& x = sound.channel(0)[size_t(at * rate) + size_t(n)];
        x = std::clamp(x + (n % 2 ? -0.4 : 0.6), -1.0, 1.0);
      }
    const auto c = condition_of(sound, rate);
    QVERIFY2(c.clicks == 3, qPrintable(QString::number(c.clicks)));
    for (size_t n = 0; n < places.size(); ++n) QVERIFY(std::abs(c.clicks_at_s[n] - places[n]) < 0.001);
  }
  void dropouts_are_found_where_they_are() {
    const int rate = 48000;
    auto sound = programme("dense", rate, 20, 3);
    const auto cut = [&](double from, double length, bool both) {
      for (int c = 0; c < (both ? 2 : 1); ++c)
        for (auto n = size_t(from * rate); n < size_t((from + length) * rate); ++n) sound.channel(c)[n] = 0;
    };
    cut(3.2, 0.004, true), cut(12.05, 0.2, false);
    const auto c = condition_of(sound, rate);
    QCOMPARE(c.dropouts, 2);
    QVERIFY(std::abs(c.dropouts_at_s[0] - 3.2) < 1e-3 && std::abs(c.dropouts_at_s[1] - 12.05) < 1e-3);
  }
  void silence_at_the_ends_is_measured() {
    const int rate = 44100;
    Planar sound(2, rate * 10);
    for (int64_t n = int64_t(1.5 * rate); n < 8 * rate; ++n) sound.channel(1)[size_t(n)] = 0.3 * std::cos(double(n));
    auto c = condition_of(with_noise(sound, 1e-5, 3), rate);
    QVERIFY(std::abs(c.head_silence_s - 1.5) < 1e-3 && std::abs(c.tail_silence_s - 2) < 1e-3);
    c = condition_of(Planar(2, rate), rate);
    QVERIFY(std::abs(c.head_silence_s - 1) < 1e-9 && std::abs(c.tail_silence_s - 1) < 1e-9);
    QVERIFY(!c.correlation && !c.least_correlation && !c.channel_delay_samples);
  }
  void sides_are_told_apart() {
    const int rate = 48000;
    const auto sound = programme("dense", rate, 12, 9);
    Planar same = sound, against = sound, late = sound, part = sound;
    for (int64_t n = 0; n < sound.frames(); ++n) {
      const double x = sound.channel(0)[size_t(n)];
      same.channel(1)[size_t(n)] = x, against.channel(1)[size_t(n)] = -0.5 * x;
      late.channel(1)[size_t(n)] = n < 23 ? 0 : sound.channel(0)[size_t(n - 23)];
      part.channel(1)[size_t(n)] = n > 5 * rate && n < 9 * rate ? -x : x;
    }
    QVERIFY(*condition_of(same, rate).correlation > 0.9999);
    QVERIFY(!condition_of(same, rate).channel_delay_samples);
    QVERIFY(*condition_of(against, rate).correlation < -0.9999);
    const auto c = condition_of(late, rate);
    QVERIFY(c.channel_delay_samples && std::abs(*c.channel_delay_samples - 23) < 0.05);
    const auto p = condition_of(part, rate);
    QVERIFY2(*p.least_correlation < -0.99 && p.least_correlation_at_s >= 5 && p.least_correlation_at_s <= 6,
             qPrintable(QString("%1 at %2").arg(*p.least_correlation).arg(p.least_correlation_at_s)));
    Planar mono(1, rate * 2);
    QVERIFY(!condition_of(mono, rate).correlation);
  }
};

SHARED_MAIN(TestCondition)
#include "test_condition.moc"
