// Causes told over programmes that are not the demo's: each alone, and in pairs.
#include <QtTest>
#include <cmath>
#include <map>

#include "core/compare/explain.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"
#include "tests/support/treatments.hpp"

using namespace heathmist;
using namespace heathmist::test;

class TestCauses : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  /// Two programmes for each, other ones for every row.
  void causes_alone_data() {
    QTest::addColumn<QString>("name");
    for (const char* name :
         {"between samples", "crosstalk", "delay", "dropout",        "fade out", "gain", "inverted", "mono",  "mute",
          "one louder",      "repeat",    "ride",  "silent channel", "splice",   "step", "swapped",  "width", "bell",
          "high shelf",      "difference"})
      QTest::newRow(name) << QString(name);
  }
  void causes_alone() {
    QFETCH(QString, name);
    const Treatment& t = treatment(name.toStdString());
    const auto& names = programme_names();
    const auto row = size_t(std::find(treatment_names().begin(), treatment_names().end(), name.toStdString()) -
                            treatment_names().begin());
    QStringList wrong;
    for (size_t k = 0; k < 2; ++k) {
      const size_t n = (row * 5 + k * 7) % names.size();
      if (t.not_on.contains(names[n])) continue;
      const int rate = n % 2 ? 48000 : 44100;
      const Planar sound = programme(names[n], rate, 8, n + 1);
      dsp::Noise chance(row * 31 + n);
      const auto master = save(folder_ / "m.wav", sound, rate, WordFormat::pcm24);
      const auto report = explained_null_of(master, save(folder_ / "r.wav", t.run(sound, rate, chance), rate, t.word));
      const auto line = QString("%1 on %2: %3").arg(name, QString::fromStdString(names[n]), told(report));
      if (qEnvironmentVariableIsSet("HEATHMIST_SHOW")) qInfo().noquote() << line;
      if (!tells(report, t.code) || name_of(report.kind) != t.kind) wrong << line;
    }
    QVERIFY2(wrong.isEmpty(), qPrintable(wrong.join('\n')));
  }

  /// Read at places that move as a sine: once slow and wide, once fast and narrow.
  void a_speed_that_moves_is_told_with_its_rate() {
    constexpr int rate = 48000;
    for (const auto& [hz, depth] : {std::pair{0.7, 3.0}, {4.0, 0.6}}) {
      const Planar sound = programme("dense", rate, 8, 5);
      Planar ret = sound;
      for (int c = 0; c < 2; ++c)
        for (int64_t n = 64; n + 64 < sound.frames(); ++n) {
          const double place = double(n) - depth * std::sin(6.283185307179586 * hz * double(n) / rate);
          const auto whole = int64_t(std::floor(place));
          const double top = std::sin(3.141592653589793 * (place - double(whole)));  // of every tap but for its sign
          double sum = 0;
          for (int64_t k = whole - 47; k <= whole + 48; ++k) {  // a sinc under a cosine window
            const double x = place - double(k), w = 0.5 + 0.5 * std::cos(3.141592653589793 * x / 49);
            if (k >= 0 && k < sound.frames())
              sum += sound.channel(c)[size_t(k)] * w *
                     (x == 0 ? 1 : ((whole - k) % 2 ? -top : top) / (3.141592653589793 * x));
          }
          ret.channel(c)[size_t(n)] = sum;
        }
      const auto r = explained_null_of(save(folder_ / "m.wav", sound, rate, WordFormat::pcm24),
                                       save(folder_ / "r.wav", ret, rate, WordFormat::pcm24));
      QVERIFY2(tells(r, "wow"), qPrintable(told(r)));
      for (const Cause& c : r.causes)
        if (c.code == "wow") {
          QVERIFY2(std::abs(c.values["rate_hz"].get<double>() - hz) < 0.1, qPrintable(told(r)));
          QVERIFY2(std::abs(c.values["depth_samples"].get<double>() - depth) < 0.1 * depth, qPrintable(told(r)));
        }
      QCOMPARE(name_of(r.kind), "changed");
    }
  }

  void a_silent_return_is_told_as_one() {
    const auto master = save(folder_ / "m.wav", programme("swells", 48000, 4, 2), 48000, WordFormat::pcm24);
    const auto r = explained_null_of(master, save(folder_ / "r.wav", Planar(2, 4 * 48000), 48000, WordFormat::pcm24));
    QCOMPARE(name_of(r.kind), "changed");
    QVERIFY(tells(r, "silent_channel") && r.causes.front().values["all"].get<bool>());
    QCOMPARE(QString::fromStdString(r.findings.front().text), QString("The return is silent."));
  }

  void another_rate_is_a_cause_of_its_own() {
    const auto sound = programme("swells", 48000, 4, 2);
    const auto master = save(folder_ / "m.wav", sound, 48000, WordFormat::pcm24);
    const auto other = Clip::at_rate(Clip::open(master), 96000);
    Planar all;
    other->reader()->read(0, other->format().frames, all);
    const auto r = explained_null_of(master, save(folder_ / "r.wav", all, 96000, WordFormat::pcm24));
    QVERIFY(tells(r, "conversion"));
    QCOMPARE(r.causes.front().values["to_hz"].get<int>(), 96000);
    QCOMPARE(name_of(r.kind), "converted");
  }

  /// Half of the programme at one gain to the last digit, the rest at another: the first is the pair's.
  void a_gain_that_most_samples_keep_is_not_pulled() {
    const Planar sound = programme("dense", 48000, 8, 4);
    Planar ret = scaled(sound, 0.8);
    const double at = 0.5 * peak_of(ret);
    for (int c = 0; c < 2; ++c)
      for (double& x : ret.channel(c)) x = std::clamp(x, -at, at);
    const auto r = explained_null_of(save(folder_ / "m.wav", sound, 48000, WordFormat::pcm24),
                                     save(folder_ / "r.wav", ret, 48000, WordFormat::float32));
    QVERIFY2(tells(r, "clip") && !tells(r, "distortion"), qPrintable(told(r)));
    for (const Cause& c : r.causes)  // as it stands in the return
      if (c.code == "clip") QVERIFY(std::abs(c.values["level_dbfs"].get<double>() - 20 * std::log10(at)) < 1e-3);
    for (const Cause& c : r.causes)
      if (c.code == "gain") QVERIFY(std::abs(c.values["gain_db"].get<double>() + 1.9382) < 5e-4);
  }

  /// Two minutes: more than is held in memory at once. What lies far from the ends and lasts long must be told too.
  void long_returns_are_told_as_short_ones() {
    constexpr int rate = 44100;
    const Planar sound = programme("swells", rate, 120, 3);
    const auto master = save(folder_ / "m.wav", sound, rate, WordFormat::pcm24);
    const auto told_of = [&](const Planar& ret) {
      return explained_null_of(master, save(folder_ / "r.wav", ret, rate, WordFormat::pcm24));
    };
    const auto value = [](const NullReport& report, const char* code, const char* key) {
      for (const Cause& c : report.causes)
        if (c.code == code) return c.values[key].get<double>();
      return std::nan("");
    };
    const auto shaped = [&](auto gain) {
      Planar ret = sound;
      for (int c = 0; c < 2; ++c)
        for (int64_t n = 0; n < ret.frames(); ++n) ret.channel(c)[size_t(n)] *= gain(double(n) / rate);
      return ret;
    };
    const auto near = [](double a, double b, double within) { return std::abs(a - b) < within; };
    auto r = told_of(shaped([](double t) { return std::min(1.0, (120 - t) / 20); }));
    QVERIFY2(near(value(r, "fade", "start_s"), 100, 0.1) && near(value(r, "fade", "length_s"), 20, 0.2),
             qPrintable(told(r)));
    r = told_of(shaped([](double t) { return t < 71.3 ? 1.0 : 0.8; }));
    QVERIFY2(near(value(r, "gain_step", "at_s"), 71.3, 0.025), qPrintable(told(r)));
    QVERIFY2(near(value(r, "gain_step", "step_db"), -1.938, 0.01), qPrintable(told(r)));
    r = told_of(shaped([](double t) { return t > 38.2 && t < 39.1 ? 0.0 : 1.0; }));
    QVERIFY2(near(value(r, "mute", "at_s"), 38.2, 0.001) && near(value(r, "mute", "length_s"), 0.9, 0.001),
             qPrintable(told(r)));
    r = told_of(shaped([](double t) { return 1 + 0.3 * std::sin(0.3 * t); }));
    QVERIFY2(tells(r, "gain_ride"), qPrintable(told(r)));
    Planar hum = sound;
    for (int c = 0; c < 2; ++c)
      for (int64_t n = 0; n < hum.frames(); ++n)
        for (const int order : {1, 2, 3})
          hum.channel(c)[size_t(n)] += 1e-3 / order * std::sin(6.283185307179586 * 50 * order * double(n) / rate);
    r = told_of(hum);
    QVERIFY2(near(value(r, "hum", "hz"), 50, 0.1) && near(value(r, "hum", "level_dbfs"), -61.67, 0.3),
             qPrintable(told(r)));
    QCOMPARE(name_of(r.kind), "noise");
  }

 private:
  Folder folder_;
};

SHARED_MAIN(TestCauses)
#include "test_causes.moc"
