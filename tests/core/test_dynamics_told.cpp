// Compressors, expanders and gates of many makes: told apart, with threshold and ratio; and fades of a few
// milliseconds.
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

std::function<double(double)> over(double threshold_db, double ratio) {
  return [=](double level_db) { return -std::max(0.0, level_db - threshold_db) * (1 - 1 / ratio); };
}
std::function<double(double)> under(double threshold_db, double ratio, double range_db) {
  return [=](double level_db) { return std::max(-range_db, -std::max(0.0, threshold_db - level_db) * (ratio - 1)); };
}

double value(const Cause* c, const char* key) { return c->values[key].get<double>(); }

}  // namespace

class TestDynamicsTold : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  void a_compressor_is_told_with_its_threshold_and_ratio_data() {
    QTest::addColumn<QString>("name");
    QTest::addColumn<bool>("squares");
    QTest::addColumn<bool>("of_mean");
    QTest::addColumn<double>("attack_ms");
    QTest::addColumn<double>("release_ms");
    QTest::addColumn<double>("threshold_db");
    QTest::addColumn<double>("ratio");
    QTest::newRow("speech, peaks") << "speech" << false << false << 1.0 << 80.0 << -20.0 << 3.0;
    QTest::newRow("piano, power") << "piano" << true << false << 5.0 << 40.0 << -24.0 << 2.0;
    QTest::newRow("drums, mean") << "drums" << false << true << 3.0 << 60.0 << -26.0 << 4.0;
    QTest::newRow("from silence, power of the mean") << "from_silence" << true << true << 10.0 << 100.0 << -26.0 << 3.0;
    QTest::newRow("loop, slow") << "loop" << false << false << 10.0 << 200.0 << -18.0 << 3.0;
    QTest::newRow("bass") << "bass" << true << false << 10.0 << 40.0 << -16.0 << 3.0;
    // what repeats says little that is new, and levels that lie close hide a bend in steps of a decibel
    QTest::newRow("loop, power of the mean") << "loop" << true << true << 6.0 << 75.0 << -17.0 << 6.3;
    QTest::newRow("wide, power of the mean") << "wide" << true << true << 5.0 << 65.0 << -17.0 << 5.5;
    QTest::newRow("speech, long and steep") << "speech" << false << false << 50.0 << 500.0 << -24.0 << 8.0;
    QTest::newRow("drums, power of the mean") << "drums" << true << true << 3.0 << 45.0 << -22.0 << 3.9;
  }
  void a_compressor_is_told_with_its_threshold_and_ratio() {
    QFETCH(QString, name);
    QFETCH(bool, squares);
    QFETCH(bool, of_mean);
    QFETCH(double, attack_ms);
    QFETCH(double, release_ms);
    QFETCH(double, threshold_db);
    QFETCH(double, ratio);
    const Planar sound = programme(name.toStdString(), 48000, 12, 71);
    const Dynamics make{squares, of_mean, attack_ms / 1000, release_ms / 1000, over(threshold_db, ratio)};
    const auto r = told_of(sound, with_dynamics(sound, 48000, make), 48000);
    const Cause* c = cause(r, "compressor");
    QVERIFY2(c && r.kind == Kind::limited, qPrintable(told(r)));
    QVERIFY2(c->values["threshold_dbfs"].is_number() && is_near(value(c, "threshold_dbfs"), threshold_db, 0.6),
             qPrintable(told(r)));
    const auto off = [c](const char* key, double truth) { return std::abs(std::log(value(c, key) / truth)); };
    QVERIFY2(is_near(1 / value(c, "ratio"), 1 / ratio, 0.02), qPrintable(told(r)));  // the slope
    QVERIFY2(off("attack_ms", attack_ms) < 0.1 && off("release_ms", release_ms) < 0.1, qPrintable(told(r)));
    QVERIFY2(value(c, "follows") > 0.998, qPrintable(told(r)));
    QVERIFY2(c->after_db && *c->after_db < *c->before_db - 25, qPrintable(told(r)));
    for (const char* other : {"limiter", "expander", "gain_ride", "gain_step", "other_programme", "eq"})
      QVERIFY2(!tells(r, other), qPrintable(told(r)));
  }

  /// Where the programme never comes down to it the threshold is not seen, and none is told.
  void a_threshold_under_all_of_the_programme_is_not_made_up_data() {
    QTest::addColumn<QString>("name");
    for (const char* name : {"dense", "wide", "near_mono", "drone"}) QTest::newRow(name) << name;
  }
  void a_threshold_under_all_of_the_programme_is_not_made_up() {
    QFETCH(QString, name);
    const Planar sound = programme(name.toStdString(), 44100, 12, 72);
    // As it is where a detector starts from full scale, long before it has settled.
    const Planar ret = with_dynamics(sound, 44100, {false, false, 0.01, 0.15, over(-34, 2)}, 1.0);
    const auto r = told_of(sound, ret, 44100);
    const Cause* c = cause(r, "compressor");
    QVERIFY2(c && !tells(r, "expander") && !tells(r, "gain_ride"), qPrintable(told(r)));
    QVERIFY2(c->values["threshold_dbfs"].is_null(), qPrintable(told(r)));
    QVERIFY2(is_near(value(c, "ratio"), 2, 0.2), qPrintable(told(r)));
    QVERIFY2(c->text.find("at every level that occurs") != std::string::npos, qPrintable(told(r)));
  }

  /// A fade moves the gain further than a compressor does, which makes up for some of it where it comes behind.
  void a_compressor_and_a_fade_come_apart_data() {
    QTest::addColumn<QString>("name");
    QTest::addColumn<bool>("fade_first");
    QTest::addColumn<bool>("out");
    QTest::newRow("dense, fade in before") << "dense" << true << false;
    QTest::newRow("loop, fade in behind") << "loop" << false << false;
    QTest::newRow("speech, fade out behind") << "speech" << false << true;
  }
  void a_compressor_and_a_fade_come_apart() {
    QFETCH(QString, name);
    QFETCH(bool, fade_first);
    QFETCH(bool, out);
    constexpr double rate = 48000, seconds = 12, length_s = 2;
    const auto fade = [&](Planar s) {
      return gained(std::move(s), [&](size_t n) {
        const double at_s = double(n) / rate, in_s = out ? seconds - at_s : at_s;
        return 0.5 - 0.5 * std::cos(std::numbers::pi * std::clamp(in_s / length_s, 0.0, 1.0));
      });
    };
    const auto compressor = [](const Planar& s) {
      return with_dynamics(s, 48000, {false, false, 0.01, 0.2, over(-26, 3)});
    };
    const Planar sound = programme(name.toStdString(), 48000, 12, 75);
    const auto r = told_of(sound, fade_first ? compressor(fade(sound)) : fade(compressor(sound)), 48000);
    const Cause *gain = cause(r, "compressor"), *faded = cause(r, "fade");
    QVERIFY2(gain && faded, qPrintable(told(r)));
    QVERIFY2(is_near(1 / value(gain, "ratio"), 1.0 / 3, 0.03), qPrintable(told(r)));
    QVERIFY2(value(gain, "most_reduction_db") < 20, qPrintable(told(r)));
    QCOMPARE(faded->values["direction"].get<std::string>(), out ? "out" : "in");
    QVERIFY2(is_near(value(faded, "length_s"), length_s, 0.2), qPrintable(told(r)));
    QVERIFY2(is_near(value(faded, "start_s"), out ? seconds - length_s : 0, 0.15), qPrintable(told(r)));
    for (const char* other : {"expander", "gain_ride", "other_programme", "eq"})
      QVERIFY2(!tells(r, other), qPrintable(told(r)));
  }

  /// A level that moves as slowly as a hand is followed by no hand so well.
  void a_slow_programme_is_compressed_and_not_ridden() {
    const Planar sound = programme("swells", 48000, 14, 73);
    const auto r = told_of(sound, with_dynamics(sound, 48000, {false, false, 0.02, 0.6, over(-20, 4)}), 48000);
    QVERIFY2(tells(r, "compressor") && !tells(r, "gain_ride") && !tells(r, "gain_step"), qPrintable(told(r)));
    // ... as is one that a hand moves.
    const Planar ridden = gained(sound, [](size_t n) {
      return std::pow(10, 0.15 * std::sin(2 * std::numbers::pi * double(n) / 48000 / 6.3 + 1));
    });
    const auto by_hand = told_of(sound, ridden, 48000);
    QVERIFY2(!tells(by_hand, "compressor") && !tells(by_hand, "expander"), qPrintable(told(by_hand)));
  }

  void a_gate_is_an_expander_data() {
    QTest::addColumn<QString>("name");
    QTest::addColumn<double>("threshold_db");
    QTest::addColumn<double>("ratio");
    QTest::newRow("drums") << "drums" << -30.0 << 2.0;
    QTest::newRow("from silence") << "from_silence" << -32.0 << 4.0;
  }
  void a_gate_is_an_expander() {
    QFETCH(QString, name);
    QFETCH(double, threshold_db);
    QFETCH(double, ratio);
    const Planar sound = programme(name.toStdString(), 48000, 12, 74);
    const Planar ret = with_dynamics(sound, 48000, {false, false, 0.001, 0.1, under(threshold_db, ratio, 40)}, 1.0);
    const auto r = told_of(sound, ret, 48000);
    const Cause* c = cause(r, "expander");
    QVERIFY2(c && r.kind == Kind::limited && !tells(r, "other_programme"), qPrintable(told(r)));
    QVERIFY2(c->values["threshold_dbfs"].is_number() && is_near(value(c, "threshold_dbfs"), threshold_db, 2),
             qPrintable(told(r)));
    QVERIFY2(c->text.find("comes back quieter") != std::string::npos, qPrintable(told(r)));
  }

  /// What opens within a piece leaves no row of clicks.
  void a_gate_that_opens_at_once_clicks_nowhere() {
    const Planar sound = programme("speech", 48000, 12, 74);
    const Planar ret = with_dynamics(sound, 48000, {false, false, 0.001, 0.1, under(-30, 2, 40)}, 1.0);
    const auto r = told_of(sound, ret, 48000);
    QVERIFY2(tells(r, "expander") && !tells(r, "clicks") && !tells(r, "noise"), qPrintable(told(r)));
  }

  /// The gain of each sample is known by the law, and not only of each piece: what lies beneath shows.
  void what_was_done_behind_a_compressor_shows() {
    const Planar sound = programme("speech", 48000, 12, 75);
    const Planar pressed = with_dynamics(sound, 48000, {false, false, 0.003, 0.1, over(-22, 2.5)});
    const auto r = told_of(sound, filtered(pressed, 48000, "bell", 2500, 1.5, 0.8), 48000);
    const Cause* eq = cause(r, "eq");
    QVERIFY2(tells(r, "compressor") && eq, qPrintable(told(r)));
    const Json& sections = eq->values["sections"];
    QVERIFY2(std::any_of(sections.begin(), sections.end(),
                         [](const Json& s) {
                           return is_near(s["hz"].get<double>(), 2500, 200) &&
                                  is_near(s["gain_db"].get<double>(), 0.8, 0.1);
                         }),
             qPrintable(told(r)));
  }

  /// Neither takes what is the other's, on whichever side of it the EQ stands.
  void a_compressor_and_an_eq_come_apart_data() {
    QTest::addColumn<QString>("name");
    QTest::addColumn<bool>("eq_first");
    QTest::addColumn<QString>("shape");
    QTest::addColumn<double>("hz");
    QTest::addColumn<double>("db");
    QTest::addColumn<double>("attack_ms");
    QTest::addColumn<double>("release_ms");
    QTest::addColumn<double>("threshold_db");
    QTest::addColumn<double>("ratio");
    QTest::newRow("speech, EQ behind") << "speech" << false << "bell" << 2500.0 << -4.0 << 10.0 << 150.0 << -18.0
                                       << 4.0;
    QTest::newRow("dense, shelf behind") << "dense" << false << "low shelf" << 100.0 << 3.0 << 1.0 << 40.0 << -22.0
                                         << 6.0;
    QTest::newRow("loop, shelf before") << "loop" << true << "low shelf" << 100.0 << 3.0 << 5.0 << 120.0 << -22.0
                                        << 3.0;
    QTest::newRow("choir, EQ behind") << "choir" << false << "bell" << 2500.0 << -4.0 << 10.0 << 40.0 << -22.0 << 6.0;
    QTest::newRow("drums, EQ before") << "drums" << true << "bell" << 300.0 << 5.0 << 1.0 << 80.0 << -20.0 << 4.0;
    QTest::newRow("drums, shelf before") << "drums" << true << "low shelf" << 100.0 << 3.0 << 1.0 << 80.0 << -20.0
                                         << 4.0;
    QTest::newRow("piano, treble behind")
        << "piano" << false << "high shelf" << 6000.0 << 4.0 << 10.0 << 80.0 << -24.0 << 6.0;
  }
  void a_compressor_and_an_eq_come_apart() {
    QFETCH(QString, name);
    QFETCH(bool, eq_first);
    QFETCH(QString, shape);
    QFETCH(double, hz);
    QFETCH(double, db);
    QFETCH(double, attack_ms);
    QFETCH(double, release_ms);
    QFETCH(double, threshold_db);
    QFETCH(double, ratio);
    const Planar sound = programme(name.toStdString(), 48000, 14, 78);
    const Dynamics make{true, false, attack_ms / 1000, release_ms / 1000, over(threshold_db, ratio)};
    const auto eq = [&](Planar s) { return filtered(std::move(s), 48000, shape.toStdString(), hz, 0.7, db); };
    const auto press = [&](Planar s) { return with_dynamics(std::move(s), 48000, make); };
    const auto r = told_of(sound, eq_first ? press(eq(sound)) : eq(press(sound)), 48000);
    const Cause *pressed = cause(r, "compressor"), *set = cause(r, "eq");
    QVERIFY2(pressed && set, qPrintable(told(r)));
    QVERIFY2(is_near(1 / value(pressed, "ratio"), 1 / ratio, 0.02), qPrintable(told(r)));
    QVERIFY2(pressed->values["threshold_dbfs"].is_null() ||
                 is_near(value(pressed, "threshold_dbfs"), threshold_db, eq_first ? 3 : 0.6),  // as its input has it
             qPrintable(told(r)));
    const Json& sections = set->values["sections"];
    bool is_there = false;
    for (const Json& at : sections) {
      const double off = at["gain_db"].get<double>() - db, octaves = std::log2(at["hz"].get<double>() / hz);
      const bool is_it = std::abs(octaves) < 0.25 && std::abs(off) < 0.5;
      QVERIFY2(is_it || std::abs(off + db) < 0.4, qPrintable(told(r)));  // and what is beside it is hardly anything
      is_there = is_there || is_it;
    }
    QVERIFY2(is_there, qPrintable(told(r)));
    for (const char* other : {"limiter", "expander", "gain_ride", "gain_step", "echo", "channel_gain"})
      QVERIFY2(!tells(r, other), qPrintable(told(r)));
    for (size_t n = 1; n < r.causes.size(); ++n)  // whichever happened first: what is told takes something out
      QVERIFY2(!r.causes[n].before_db || r.causes[n].after_db.value_or(-200) <= *r.causes[n].before_db,
               qPrintable(told(r)));
  }

  /// What takes the click from a cut is over before a hundredth of a second is.
  void a_fade_of_a_few_milliseconds_is_a_fade_data() {
    QTest::addColumn<QString>("name");
    QTest::addColumn<double>("ms");
    QTest::addColumn<bool>("out");
    QTest::newRow("dense, in 5 ms") << "dense" << 5.0 << false;
    QTest::newRow("dense, out 3 ms") << "dense" << 3.0 << true;
    QTest::newRow("choir, in 12 ms") << "choir" << 12.0 << false;
    QTest::newRow("drone, out 20 ms") << "drone" << 20.0 << true;
  }
  void a_fade_of_a_few_milliseconds_is_a_fade() {
    QFETCH(QString, name);
    QFETCH(double, ms);
    QFETCH(bool, out);
    const Planar sound = programme(name.toStdString(), 44100, 10, 76);
    const double frames = ms * 44.1;
    const Planar ret = gained(sound, [&](size_t n) {
      return std::min(1.0, double(out ? sound.frames() - 1 - int64_t(n) : int64_t(n)) / frames);
    });
    const auto r = told_of(sound, ret, 44100);
    const Cause* c = cause(r, "fade");
    QVERIFY2(c && r.causes.size() == 1, qPrintable(told(r)));
    QVERIFY2(c->values["direction"] == (out ? "out" : "in") && is_near(value(c, "length_s"), ms / 1000, 0.0012),
             qPrintable(told(r)));
  }

  /// A moment has no spectrum that noise, or another programme, would be known by.
  void what_is_left_of_a_moment_is_not_named() {
    const Planar sound = programme("dense", 48000, 10, 77);
    Planar ret = sound;
    dsp::Noise chance(5);
    const int64_t at = 4 * 48000;
    for (int c = 0; c < 2; ++c)
      for (int64_t n = 0; n < 400; ++n)
        ret.channel(c)[size_t(at + n)] += 0.02 * std::sin(std::numbers::pi * double(n) / 400) * chance.triangular();
    const auto r = told_of(sound, ret, 48000);
    QVERIFY2(!tells(r, "noise") && !tells(r, "other_programme"), qPrintable(told(r)));
  }

 private:
  NullReport told_of(const Planar& master, const Planar& ret, int rate) {
    return test::told_of(folder_, master, ret, rate, WordFormat::pcm24);
  }
  Folder folder_;
};

SHARED_MAIN(TestDynamicsTold)
#include "test_dynamics_told.moc"
