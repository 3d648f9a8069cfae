// Echoes: one or several, of sustained, sparse and wide-band sound, short and long, beside other causes.
#include <QtTest>
#include <cmath>
#include <numbers>
#include <numeric>

#include "core/compare/causes/echo_places.hpp"
#include "core/compare/explain.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"
#include "tests/support/treatments.hpp"

using namespace heathmist;
using namespace heathmist::test;
using causes::TapFit;

namespace {

Planar with_echo(Planar s, size_t late, double gain) {
  const Planar dry = s;
  for (int c = 0; c < s.channels(); ++c)
    for (size_t n = late; n < size_t(s.frames()); ++n) s.channel(c)[n] += gain * dry.channel(c)[n - late];
  return s;
}

/// A few steady tones in very little noise.
std::vector<double> tones(size_t frames, dsp::Noise& chance, double noise) {
  std::vector<double> x(frames);
  for (int n = 0; n < 12; ++n) {
    const double turn = 2 * std::numbers::pi * chance.between(0.002, 0.1), phase = chance.between(0, 6);
    for (size_t k = 0; k < frames; ++k) x[k] += std::sin(turn * double(k) + phase);
  }
  for (double& v : x) v += noise * chance.gaussian();
  return x;
}

}  // namespace

class TestEchoes : public QObject {
  Q_OBJECT

  Folder folder_;

  NullReport told_of(const Planar& master, const Planar& ret, int rate) const {
    return test::told_of(folder_, master, ret, rate, WordFormat::pcm24);
  }

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  /// Cut out of the middle of a sound, the taps are known as well as the sound fills its band.
  void taps_are_known_from_a_piece() {
    dsp::Noise chance(3);
    for (int round = 0; round < 12; ++round) {
      const size_t frames = 6000 + size_t(chance.between(0, 3000));
      const auto place = int64_t(chance.between(60, 1500)), other = place + 49 + int64_t(chance.between(0, 800)),
                 from = int64_t(chance.between(0, 3000));
      std::vector<double> whole(frames + 4000), wanted(2 * TapFit::around + 1);
      for (double& v : whole) v = chance.gaussian();
      for (double& v : wanted) v = chance.between(-0.3, 0.3);
      const std::span<const double> model(whole.data() + 4000, frames);
      std::vector<double> left(frames);
      for (int64_t n = 0; n < std::ssize(left); ++n) {
        const auto later = [&](int64_t d) { return whole[size_t(4000 + n - d)]; };
        left[size_t(n)] = 0.1 * later(0) - 0.5 * later(other);
        for (int64_t k = 0; k < std::ssize(wanted); ++k) left[size_t(n)] += wanted[size_t(k)] * later(place + k - 24);
        if (n < from) left[size_t(n)] = 1e3;  // not known, and not read
      }
      const TapFit fit(model, left, {place, other}, from);
      std::vector<int> all(fit.delays().size());
      std::iota(all.begin(), all.end(), 0);
      const auto found = fit.of(all);
      QVERIFY(std::abs(fit.energy() - found.taken) < 1e-9 * fit.energy());
      for (size_t n = 0; n < all.size(); ++n) {
        const int64_t delay = fit.delays()[n], k = delay - place + 24;
        double right = delay == 0 ? 0.1 : delay == other ? -0.5 : 0;
        if (delay > 0 && k >= 0 && k < std::ssize(wanted)) right += wanted[size_t(k)];
        QVERIFY2(std::abs(found.gains[n] - right) < 1e-6, qPrintable(QString::number(found.gains[n] - right)));
      }
      QVERIFY(fit.of({0}).taken < 0.2 * fit.energy());
      QCOMPARE(fit.of_place(1).size(), size_t(2 * TapFit::around + 1));
    }
  }

  /// Steady tones, of which a part may not be read: the lag is the sample's own.
  void the_place_of_a_repeat_is_among_the_first() {
    constexpr double rate = 8000;
    dsp::Noise chance(4);
    for (int round = 0; round < 8; ++round) {
      const auto lag = size_t(chance.between(100, 4000));
      const auto whole = tones(16000 + 5000, chance, 0.01);
      const std::span<const double> model(whole.data() + 5000, 16000);
      std::vector<uint8_t> told(16000, 1);
      std::fill_n(told.begin(), size_t(chance.between(0, 5000)), 0);
      std::fill_n(told.begin() + 9000, 200, 0);
      std::vector<std::vector<double>> left(1, std::vector<double>(16000));
      for (size_t n = 0; n < 16000; ++n) left[0][n] = told[n] ? 0.3 * whole[5000 + n - lag] + 0.1 * model[n] : 0;
      const auto places = causes::echo_places({model}, left, told, rate, 1);
      QVERIFY(!places.empty());
      QVERIFY2(std::abs(places.front() - int64_t(lag)) <= 1, qPrintable(QString::number(places.front())));
      for (size_t n = 1; n < places.size(); ++n)
        QVERIFY(causes::is_apart(places[n], {places.begin(), places.begin() + long(n)}));
    }
  }

  /// Sustained sounds blur the division of spectra; one clean repeat is found all the same.
  void an_echo_of_an_organ_is_one() {
    const Planar sound = programme("choir", 48000, 12, 3);
    const auto r = told_of(sound, with_echo(sound, 17200, 0.2), 48000);
    const Cause* echo = cause(r, "echo");
    QVERIFY2(echo && echo->values["echoes"].size() == 1 && is_near(number(echo, "time_ms"), 17200 / 48.0, 0.03) &&
                 is_near(number(echo, "level_db"), 20 * std::log10(0.2), 0.05),
             qPrintable(told(r)));
  }

  /// Behind each seam of the outline it repeats what that does not hold: a third of what is read here.
  void an_echo_of_sustained_sound_is_told_by_its_outline_data() {
    QTest::addColumn<double>("late");
    for (const double late : {0.12, 0.25, 0.45}) QTest::addRow("%.2f s", late) << late;
  }
  void an_echo_of_sustained_sound_is_told_by_its_outline() {
    QFETCH(double, late);
    const int rate = 96000;
    const Planar sound = programme("choir", rate, 12, 7986);
    const auto report = told_of(sound, with_echo(sound, size_t(late * rate), 0.12), rate);
    QVERIFY2(report.causes.front().code == "echo" &&
                 is_near(number(cause(report, "echo"), "time_ms"), 1000 * late, 0.1) &&
                 is_near(number(cause(report, "echo"), "level_db"), -18.42, 0.1) && !tells(report, "eq"),
             qPrintable(told(report)));
  }

  /// Notes that come again and again hide where it comes back; the second hides behind the first.
  void echoes_of_single_notes_are_all_told_data() {
    QTest::addColumn<QString>("programme");
    QTest::addColumn<double>("late");
    for (const auto& [name, late] : {std::pair{"piano", 0.11}, {"drone", 0.06}, {"speech", 0.2}, {"bass", 0.11}})
      QTest::newRow(name) << name << late;
  }
  void echoes_of_single_notes_are_all_told() {
    QFETCH(QString, programme);
    QFETCH(double, late);
    constexpr int rate = 44100;
    const Planar sound = test::programme(programme.toStdString(), rate, 30, 4031);
    const auto lag = size_t(late * rate);
    Planar ret = with_echo(sound, lag, 0.33);
    for (int c = 0; c < 2; ++c)
      for (size_t n = 2 * lag; n < size_t(ret.frames()); ++n) ret.channel(c)[n] += 0.11 * sound.channel(c)[n - 2 * lag];
    const auto r = told_of(sound, scaled(std::move(ret), 0.7), rate);
    const Cause* echo = cause(r, "echo");
    QVERIFY2(echo && echo->values["echoes"].size() == 2 && !tells(r, "eq") && !tells(r, "channel_gain"),
             qPrintable(told(r)));
    for (const size_t n : {0, 1}) {
      const auto& one = echo->values["echoes"][n];
      QVERIFY2(is_near(one["time_ms"].get<double>(), 1000 * double((n + 1) * lag) / rate, 0.03) &&
                   is_near(one["level_db"].get<double>(), 20 * std::log10(n == 0 ? 0.33 : 0.11), 0.05),
               qPrintable(told(r)));
    }
  }

  /// What a filter in its way leaves beside its place is no echo of its own.
  void a_dull_echo_is_one_data() {
    QTest::addColumn<QString>("programme");
    for (const char* name : {"piano", "wide", "choir"}) QTest::newRow(name) << name;
  }
  void a_dull_echo_is_one() {
    QFETCH(QString, programme);
    constexpr int rate = 44100;
    const Planar sound = test::programme(programme.toStdString(), rate, 30, 4323),
                 dull = filtered(sound, rate, "high shelf", 3000, 0.7071, -20);
    Planar ret = sound;
    for (int c = 0; c < 2; ++c)
      for (size_t n = 4000; n < size_t(ret.frames()); ++n) ret.channel(c)[n] += 0.25 * dull.channel(c)[n - 4000];
    const auto r = told_of(sound, ret, rate);
    const Cause* echo = cause(r, "echo");
    QVERIFY2(echo && echo->values["echoes"].size() == 1 && is_near(number(echo, "time_ms"), 4000 / 44.1, 0.15),
             qPrintable(told(r)));
    QVERIFY2(r.causes.size() == 1 && (!echo->after_db || *echo->after_db < -60), qPrintable(told(r)));
  }

  void an_echo_of_one_channel_is_told_there() {
    for (const int channel : {0, 1})
      for (const int64_t late : {882, 10143}) {
        const Planar sound = programme("speech", 44100, 10, 5 + size_t(channel)), all = with_echo(sound, late, -0.3);
        Planar ret = sound;
        std::copy(all.channel(channel).begin(), all.channel(channel).end(), ret.channel(channel).begin());
        const auto r = told_of(sound, ret, 44100);
        const Cause* echo = cause(r, "echo");
        QVERIFY2(is_near(number(echo, "time_ms"), double(late) / 44.1, 0.05), qPrintable(told(r)));
        QVERIFY2(is_near(number(echo, "level_db"), -10.46, 0.2), qPrintable(told(r)));
        QCOMPARE(echo->channels, std::vector<int>{channel});
        QVERIFY2(echo->values["echoes"][0]["inverted"].get<bool>(), qPrintable(told(r)));
        QVERIFY2(echo->text.ends_with(" in channel " + std::to_string(channel + 1) + " only."), qPrintable(told(r)));
        QVERIFY2(r.causes.size() == 1, qPrintable(told(r)));
      }
  }

  void an_eq_before_an_echo_keeps_its_values() {
    const Planar sound = programme("dense", 44100, 10, 5);
    const auto r = told_of(sound, with_echo(filtered(sound, 44100, "low shelf", 200, 0.7071, -3), 5292, 0.1), 44100);
    const Cause* eq = cause(r, "eq");
    QVERIFY2(eq && eq->values["sections"].size() == 1 && eq->values["sections"][0]["type"] == "low_shelf" &&
                 is_near(eq->values["sections"][0]["gain_db"].get<double>(), -3, 0.15),
             qPrintable(told(r)));
    QVERIFY2(is_near(number(cause(r, "echo"), "time_ms"), 120, 0.05) &&
                 is_near(number(cause(r, "echo"), "level_db"), -20, 0.4),
             qPrintable(told(r)));
  }

  /// Levels are those of the direct sound, however much of the gain that is measured the echo makes.
  void an_echo_makes_no_gain_data() {
    QTest::addColumn<double>("gain_db");
    QTest::newRow("no gain") << 0.0;
    QTest::newRow("down") << -3.0;
  }
  void an_echo_makes_no_gain() {
    QFETCH(double, gain_db);
    const Planar sound = programme("piano", 44100, 10, 53);
    const auto r = told_of(sound, scaled(with_echo(sound, 5292, 0.2), std::pow(10, gain_db / 20)), 44100);
    QVERIFY2(is_near(number(cause(r, "echo"), "level_db"), 20 * std::log10(0.2), 0.02), qPrintable(told(r)));
    QCOMPARE(tells(r, "gain"), gain_db != 0);
    if (gain_db != 0) QVERIFY2(is_near(number(cause(r, "gain"), "gain_db"), gain_db, 0.01), qPrintable(told(r)));
  }

  /// What it repeats was pressed before: the gain that moves is looked for once it is out.
  void an_echo_behind_a_compressor_is_told() {
    const Planar sound = programme("choir", 48000, 16, 7986);
    dsp::Noise chance(5);
    const auto r = told_of(sound, with_echo(treatment("compressor").run(sound, 48000, chance), 12000, 0.12), 48000);
    QVERIFY2(is_near(number(cause(r, "echo"), "level_db"), -18.42, 0.4) && tells(r, "compressor") && !tells(r, "eq"),
             qPrintable(told(r)));
  }
};

SHARED_MAIN(TestEchoes)
#include "test_echoes.moc"
