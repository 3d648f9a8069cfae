// EQ of the middle or of the sides: named as it was set; widths and crosstalk; what was done to the channels stays
// theirs.
#include <QtTest>
#include <cmath>

#include "core/compare/null.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"
#include "tests/support/treatments.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

constexpr int rate = 48000;
constexpr double seconds = 10;

struct Filter {
  const char* what = nullptr;
  double hz = 0, q = 0.7071, db = 0;
};

/// The channels' sum and difference, halved, each through a filter of its own; and back.
Planar through(const Planar& sound, const Filter& of_mid, const Filter& of_side) {
  Planar mid(1, sound.frames()), side(1, sound.frames()), out = sound;
  for (size_t n = 0; n < size_t(sound.frames()); ++n) {
    const double l = sound.channel(0)[n], r = sound.channel(1)[n];
    mid.channel(0)[n] = (l + r) / 2, side.channel(0)[n] = (l - r) / 2;
  }
  if (of_mid.what) mid = filtered(std::move(mid), rate, of_mid.what, of_mid.hz, of_mid.q, of_mid.db);
  if (of_side.what) side = filtered(std::move(side), rate, of_side.what, of_side.hz, of_side.q, of_side.db);
  for (size_t n = 0; n < size_t(sound.frames()); ++n) {
    out.channel(0)[n] = mid.channel(0)[n] + side.channel(0)[n];
    out.channel(1)[n] = mid.channel(0)[n] - side.channel(0)[n];
  }
  return out;
}

Planar with_channel(Planar sound, int channel, const Filter& f) {
  Planar one(1, sound.frames());
  std::copy(sound.channel(channel).begin(), sound.channel(channel).end(), one.channel(0).begin());
  one = filtered(std::move(one), rate, f.what, f.hz, f.q, f.db);
  std::copy(one.channel(0).begin(), one.channel(0).end(), sound.channel(channel).begin());
  return sound;
}

}  // namespace

class TestMidSide : public QObject {
  Q_OBJECT

  Folder folder_;

  NullReport told_of(const Planar& master, const Planar& ret, WordFormat word = WordFormat::pcm24) const {
    return test::told_of(folder_, master, ret, rate, word);
  }
  static void is_named(const Json& section, const char* type, const Filter& f) {
    QCOMPARE(QString::fromStdString(section["type"].get<std::string>()), type);
    QVERIFY2(std::abs(section["hz"].get<double>() / f.hz - 1) < 0.03, section.dump().c_str());
    if (section.contains("gain_db"))
      QVERIFY2(std::abs(section["gain_db"].get<double>() - f.db) < 0.1, section.dump().c_str());
  }

 private slots:
  void an_eq_of_one_of_them_is_named_data() {
    QTest::addColumn<QString>("programme");
    for (const char* name : {"dense", "piano", "wide", "choir", "drums"}) QTest::newRow(name) << name;
  }
  void an_eq_of_one_of_them_is_named() {
    QFETCH(QString, programme);
    const Planar sound = test::programme(programme.toStdString(), rate, seconds, 31);
    struct Case {
      const char* of;
      const char* type;
      Filter filter;
    };
    for (const Case& each :
         {Case{"side", "high_shelf", {"high shelf", 6000, 0.7071, 2.5}}, Case{"side", "high_pass", {"high pass", 140}},
          Case{"mid", "bell", {"bell", 1800, 1.2, -2}}}) {
      const bool side = QString(each.of) == "side";
      const auto r = told_of(sound, through(sound, side ? Filter{} : each.filter, side ? each.filter : Filter{}));
      const Cause* eq = cause(r, "eq");
      QVERIFY2(eq && eq->values.contains("of"), qPrintable(told(r)));
      QCOMPARE(QString::fromStdString(eq->values["of"].get<std::string>()), each.of);
      QCOMPARE(eq->values["sections"].size(), size_t(1));
      is_named(eq->values["sections"][0], each.type, each.filter);
      QVERIFY2(!eq->after_db || *eq->after_db < -70, qPrintable(told(r)));
      QVERIFY2(!tells(r, "width") && !tells(r, "channel_delay") && !tells(r, "crosstalk"), qPrintable(told(r)));
      QVERIFY(r.findings.front().text.find(std::string("EQ of the ") + each.of) == 0);
      QCOMPARE(r.kind, Kind::linear);
    }
  }

  void of_both_each_has_its_own() {
    const Planar sound = programme("dense", rate, seconds, 32);
    const Filter bell{"bell", 300, 1, -2.5}, shelf{"high shelf", 7000, 0.7071, 2};
    const auto r = told_of(sound, through(sound, bell, shelf));
    const Cause* eq = cause(r, "eq");
    QVERIFY2(eq && eq->values.contains("of") && eq->values["of"] == "both", qPrintable(told(r)));
    is_named(eq->values["mid"][0], "bell", bell);
    is_named(eq->values["side"][0], "high_shelf", shelf);
    QVERIFY2(eq->text.find("of the mid: −2.5 dB at 300 Hz") != std::string::npos &&
                 eq->text.find("of the side: a high shelf of +2.0 dB") != std::string::npos,
             eq->text.c_str());
  }

  /// The same on both channels is the same on mid and side; on one channel it is on neither of these.
  void an_eq_of_channels_stays_theirs() {
    const Planar sound = programme("choir", rate, seconds, 33);
    const Filter bell{"bell", 900, 1, 3};
    for (const bool one : {false, true}) {
      Planar ret = with_channel(sound, 1, bell);
      if (!one) ret = with_channel(std::move(ret), 0, bell);
      const auto r = told_of(sound, ret);
      const Cause* eq = cause(r, "eq");
      QVERIFY2(eq && !eq->values.contains("of"), qPrintable(told(r)));
      QCOMPARE(eq->channels, one ? std::vector{1} : (std::vector{0, 1}));
      is_named(eq->values["sections"][0], "bell", bell);
    }
  }

  /// The same at all frequencies is a width, and no EQ.
  void a_width_is_no_eq() {
    for (const char* name : {"dense", "near_mono"}) {
      const Planar sound = programme(name, rate, seconds, 34);
      Planar ret = sound;
      for (size_t n = 0; n < size_t(sound.frames()); ++n) {
        const double l = sound.channel(0)[n], r = sound.channel(1)[n];
        ret.channel(0)[n] = l + 0.2 * (l - r), ret.channel(1)[n] = r - 0.2 * (l - r);
      }
      const auto r = told_of(sound, ret);
      QVERIFY2(tells(r, "width") && !tells(r, "eq"), qPrintable(told(r)));
    }
  }

  /// One and the same but for a gain: what the channels themselves, or the mid, come back at decides.
  void crosstalk_is_no_width_and_width_no_crosstalk() {
    const Planar sound = programme("dense", 48000, 8, 8);
    const auto leaking = told_of(sound, with_crosstalk(sound, 1, 0.0136), WordFormat::float32);
    QVERIFY2(is_near(number(cause(leaking, "crosstalk"), "level_db"), 20 * std::log10(0.0136), 0.1) &&
                 !tells(leaking, "width") && !tells(leaking, "gain"),
             qPrintable(told(leaking)));
    const double side = std::pow(10, -0.24 / 20);
    const auto narrower = told_of(sound, with_crosstalk(sound, (1 + side) / 2, (1 - side) / 2), WordFormat::float32);
    QVERIFY2(is_near(number(cause(narrower, "width"), "side_db"), -0.24, 0.01) && !tells(narrower, "crosstalk"),
             qPrintable(told(narrower)));
  }

  /// An EQ of each channel takes a little of it for its own: what is left is uneven, and a width all the same.
  void a_width_beside_an_eq_is_no_crosstalk_data() {
    QTest::addColumn<QString>("programme");
    QTest::addColumn<double>("side");
    for (const char* name : {"choir", "drums", "dense"})
      for (const double side : {0.8, 1.24}) QTest::addRow("%s x %.2f", name, side) << name << side;
  }
  void a_width_beside_an_eq_is_no_crosstalk() {
    QFETCH(QString, programme);
    QFETCH(double, side);
    const Planar sound = test::programme(programme.toStdString(), rate, seconds, 36);
    Planar ret = with_crosstalk(sound, (1 + side) / 2, (1 - side) / 2);
    for (const int channel : {0, 1}) ret = with_channel(std::move(ret), channel, {"high shelf", 8000, 0.7071, -2.6});
    const auto r = told_of(sound, ret, WordFormat::pcm16);
    QVERIFY2(is_near(number(cause(r, "width"), "side_db"), 20 * std::log10(side), 0.2) && tells(r, "eq") &&
                 !tells(r, "crosstalk"),
             qPrintable(told(r)));
  }

  /// Channels that lie little apart lie so, beside an EQ of both.
  void little_between_the_channels_stays_theirs() {
    const Planar sound = programme("dense", rate, seconds, 35);
    const auto master = Clip::open(save(folder_ / "little.wav", sound, rate, WordFormat::float64));
    Fit later;
    later.delay_samples = -0.21;
    Planar moved;
    AlignedReturn(*master, later).read(0, sound.frames(), moved);
    Planar ret = sound;
    std::copy(moved.channel(1).begin(), moved.channel(1).end(), ret.channel(1).begin());
    for (const int channel : {0, 1}) ret = with_channel(std::move(ret), channel, {"bell", 1200, 1, 0.4});
    const auto r = told_of(sound, ret);
    QVERIFY2(is_near(number(cause(r, "channel_delay"), "delay_samples"), 0.21, 0.02), qPrintable(told(r)));
    QVERIFY2(tells(r, "eq"), qPrintable(told(r)));
  }
};

SHARED_MAIN(TestMidSide)
#include "test_mid_side.moc"
