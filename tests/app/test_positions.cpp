// How places are written and ticked: in time, in samples, in bars and beats; and that the whole window follows.
#include <QSignalSpy>
#include <QtTest>
#include <cmath>

#include "app/shell/tempo_form.hpp"
#include "app/theme/line_breaks.hpp"
#include "app/theme/position.hpp"
#include "core/dsp/noise.hpp"
#include "tests/support/window.hpp"

using namespace heathmist;
using namespace heathmist::app;
using namespace heathmist::test;

class TestPositions : public WindowTest {
  Q_OBJECT

  static Positions& positions() { return Positions::instance(); }
  static QString grouped(QString digits) { return digits.replace(' ', QChar(0xa0)); }
  QString label(const char* beginning) {
    for (const QLabel* l : window_->findChildren<QLabel*>())
      if (l->text().startsWith(beginning)) return l->text();
    return {};
  }

 private slots:
  void initTestCase() { prepare_window(folder_); }
  void init() {
    positions().set_unit(Positions::Unit::time);
    positions().set_tempo({});
    positions().set_rate(48000);
    WindowTest::init();
  }

  void time_is_written_as_ever() {
    QCOMPARE(position(62.35), QString("1:02.35"));
    QCOMPARE(position(62.345, 1), clock(62.345, 1));
  }

  void a_number_and_its_unit_stay_on_one_line() {
    const QString text = "EQ: -0.73 dB at 20.5 kHz (Q 1.2); 5 samples late, 4.7 : 1 from 12 dBFS on, 16 bits";
    QString bound = unbroken(text);
    QCOMPARE(bound.count(QChar(0xa0)), 8);
    QCOMPARE(bound.replace(QChar(0xa0), ' '), text);
    QCOMPARE(unbroken("Trial 3 has 2 echoes and 4 others"), QString("Trial 3 has 2 echoes and 4 others"));
    for (int most = 8; most < 60; ++most)
      for (const QString& line : in_lines(text, most).split('\n')) {
        QVERIFY2(line.size() <= most || !line.contains(' '), qPrintable(line));
        QVERIFY2(!line.startsWith("dB") && !line.startsWith("kHz") && !line.endsWith("(Q"), qPrintable(line));
      }
  }

  void samples_are_counted_at_the_rate_of_what_is_looked_at() {
    positions().set_unit(Positions::Unit::samples);
    QCOMPARE(position(62.35), grouped("2 992 800"));
    QCOMPARE(position(0), QString("0"));
    QCOMPARE(position(999 / 48000.0), QString("999"));
    positions().set_rate(44100);
    QCOMPARE(position(1), grouped("44 100"));
    QCOMPARE(position(-1), QChar(0x2212) + grouped("44 100"));
  }

  void bars_and_beats_begin_with_one() {
    positions().set_tempo({120, 4, 0.25});
    positions().set_unit(Positions::Unit::beats);
    const auto at = [](double bars, double beats) { return 0.25 + bars * 2 + beats * 0.5; };
    QCOMPARE(position(at(0, 0)), QString("1 \u00b7 1.00"));
    QCOMPARE(position(at(16, 2.48)), QString("17 \u00b7 3.48"));
    QCOMPARE(position(at(16, 3.999)), QString("17 \u00b7 4.99"));  // not the next bar yet
    QCOMPARE(position(at(17, 0)), QString("18 \u00b7 1.00"));
    QCOMPARE(position(at(-1, 1)), QString("0 \u00b7 2.00"));
    positions().set_tempo({90, 3, 0});
    QCOMPARE(position(60.0 / 90 * 7, 0), QString("3 \u00b7 2"));
  }

  /// A tick stands at a round place, its words say so, and no two beside each other say the same.
  void ticks_are_round_and_told_apart() {
    dsp::Noise chance(7);
    for (int n = 0; n < 3000; ++n) {
      const auto unit = Positions::Unit(n % 3);
      positions().set_rate(n % 2 ? 44100 : 96000);
      positions().set_tempo({chance.between(40, 240), 2 + n % 6, chance.between(-1, 3)});
      positions().set_unit(unit);
      const double wanted = std::pow(10, chance.between(-4, 3)), step = positions().step(wanted);
      const double least = unit == Positions::Unit::samples ? 1 / 96000.0 : 1e-5;
      QVERIFY2(step >= wanted * (1 - 1e-9) || step >= 60.0 / 240 * 0.001, qPrintable(QString::number(wanted)));
      QVERIFY(step >= least && step <= std::max(wanted * 15, 1.0));
      const double origin = positions().origin_s();
      const auto k = std::round(chance.between(0, 200));
      const QString here = positions().tick(origin + k * step), next = positions().tick(origin + (k + 1) * step);
      QVERIFY2(here != next, qPrintable(QString("%1 by %2: %3").arg(k).arg(step).arg(here)));
      QVERIFY2(here.size() < 16, qPrintable(here));
    }
  }

  void what_is_out_of_reach_is_brought_within_it() {
    positions().set_tempo({0, 0, std::nan("")});
    QCOMPARE(positions().tempo().bpm, 10.0);
    QCOMPARE(positions().tempo().beats, 1);
    QCOMPARE(positions().tempo().first_beat_s, 0.0);
    positions().set_tempo({std::nan(""), 99, 1e3});
    QCOMPARE(positions().tempo().bpm, 120.0);
    QCOMPARE(positions().tempo().beats, 32);
  }

  void the_form_asks_for_what_is_counted_by() {
    TempoForm form({97.5, 3, 1.25}, 7.5);
    QVERIFY((form.tempo() == Tempo{97.5, 3, 1.25}));
    form.bpm()->setValue(128);
    form.beats()->setValue(7);
    form.findChild<QPushButton*>()->click();
    QVERIFY((form.tempo() == Tempo{128, 7, 7.5}));
  }

  /// The place that is heard, the loop, the axis, the events and the marks.
  void the_window_follows() {
    const auto sound = scaled(with_noise(Programme(8, 1).render(44100), 1e-3, 5), 0.5);
    const auto write = [&](const char* name, const Planar& s) {
      return QString::fromStdString(save(folder_ / name, s, 44100, WordFormat::pcm24).string());
    };
    QSignalSpy ready(&window_->workspace(), &Workspace::trial_ready);
    window_->take_files({write("tide.wav", sound), write("tide-back.wav", with_noise(sound, 1e-3, 9))});
    QTRY_COMPARE_WITH_TIMEOUT(ready.size(), 2, 120000);
    window_->workspace().select(std::pair{1.0, 3.0});
    auto* events = window_->part<NullView>()->plates()->moments();
    const double at = events->cell_at(0, 0).value.value();
    QVERIFY(!label("0:01.0 to 0:03.0").isEmpty());
    positions().set_unit(Positions::Unit::samples);
    QVERIFY(!label((grouped("44 100") + " to " + grouped("132 300")).toUtf8()).isEmpty());
    QCOMPARE(events->text_at(0, 0), position(at));
    positions().set_tempo({60, 4, 0});
    positions().set_unit(Positions::Unit::beats);
    QVERIFY(!label("1 \u00b7 2.0 to 1 \u00b7 4.0").isEmpty());
    QCOMPARE(events->text_at(0, 0), position(at));
  }

  void it_is_kept_with_the_bench() {
    positions().set_tempo({98.25, 3, 0.5});
    positions().set_unit(Positions::Unit::beats);
    window_->workspace().model().edit("Name", [](Bench& bench) { bench.name = "Tempo"; });
    const QString file = QString::fromStdString((folder_ / "tempo.heathmist").string());
    QVERIFY(window_->files()->save_to(file));
    positions().set_unit(Positions::Unit::time);
    positions().set_tempo({});
    window_->files()->open(file);
    QVERIFY((positions().tempo() == Tempo{98.25, 3, 0.5}));
    QVERIFY(positions().unit() == Positions::Unit::beats);
  }
};

QTEST_MAIN(TestPositions)
#include "test_positions.moc"
