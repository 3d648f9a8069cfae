// The slim bars of the live meters: where they stand, what they hold and for how long, and when they warn.
#include <QtTest>

#include "app/theme/theme.hpp"
#include "app/widgets/meter_bar.hpp"

using namespace heathmist::app;
using namespace std::chrono_literals;

class TestMeterBar : public QObject {
  Q_OBJECT

  /// How many pixels of the middle row have an ink.
  static int inked(MeterBar& bar, const QColor& ink) {
    const QImage image = bar.grab().toImage();
    int count = 0;
    for (int x = 0; x < image.width(); ++x) count += image.pixelColor(x, image.height() / 2).rgb() == ink.rgb();
    return count;
  }

 private slots:
  void initTestCase() { Theme::instance().apply(false); }

  void a_peak_is_held_two_seconds() {
    MeterBar bar(-48, 0, -48);
    const MeterBar::Clock::time_point start{};
    bar.show_value(-20, start);
    bar.show_value(-10, start + 100ms);
    bar.show_value(-30, start + 200ms);
    QCOMPARE(*bar.value(), -30.0);
    QCOMPARE(*bar.held(), -10.0);
    bar.show_value(-31, start + 2000ms);
    QCOMPARE(*bar.held(), -10.0);
    bar.show_value(-32, start + 2200ms);
    QCOMPARE(*bar.held(), -32.0);
    bar.show_value({}, start + 2300ms);
    QVERIFY(!bar.value() && !bar.held());
  }

  void it_is_as_long_as_it_is_loud() {
    MeterBar bar(-48, 0, -48);
    bar.resize(240, bar.height());
    for (const double db : {-48.0, -36.0, -24.0, -12.0, -6.0}) {
      bar.show_value({});
      bar.show_value(db);
      const int wide = inked(bar, colour(Role::soft));
      QVERIFY2(std::abs(wide - 240 * (db + 48) / 48) <= 3, qPrintable(QString("%1: %2").arg(db).arg(wide)));
    }
  }

  /// Correlation: from the middle to either side.
  void what_goes_either_way_begins_in_the_middle() {
    MeterBar bar(-1, 1, 0);
    bar.resize(200, bar.height());
    for (const double value : {-0.5, 0.5}) {
      bar.show_value({});
      bar.show_value(value);
      const QImage image = bar.grab().toImage();
      const auto at = [&](double v) { return image.pixelColor(int(100 + 100 * v), image.height() / 2); };
      QCOMPARE(at(value / 2), colour(Role::soft));
      QCOMPARE(at(-value / 2), colour(Role::rule));
    }
  }

  void over_its_limit_it_warns() {
    MeterBar bar(-36, 3, -36);
    bar.resize(200, bar.height());
    bar.set_limit(0);
    bar.show_value(-0.1);
    QCOMPARE(inked(bar, colour(Role::rust)), 0);
    bar.show_value(0.1);
    QVERIFY(inked(bar, colour(Role::rust)) > 100);
    bar.show_value(-20);
    QVERIFY(inked(bar, colour(Role::rust)) > 0);  // the tick still does
  }
};

QTEST_MAIN(TestMeterBar)
#include "test_meter_bar.moc"
