// A speed that moves: returns of turntables, tape and vibrato, on which no one delay lies, are followed and told with
// rate and depth; what is of another programme stays unrelated.
#include <QtTest>
#include <cmath>
#include <numbers>

#include "core/compare/moving_delay.hpp"
#include "core/compare/moving_fit.hpp"
#include "core/compare/null.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"
#include "tests/support/treatments.hpp"

using namespace heathmist;
using namespace heathmist::test;

class TestWow : public QObject {
  Q_OBJECT

 private slots:
  void it_is_told_with_rate_and_depth_data() {
    QTest::addColumn<QString>("name");
    QTest::addColumn<int>("rate");
    QTest::addColumn<double>("hz");
    QTest::addColumn<double>("depth");
    QTest::addColumn<double>("to_db");  // of what is full to the edge of the band neither side can read all
    QTest::newRow("a turntable, once a turn") << "dense" << 44100 << 0.556 << 13.0 << -35.0;
    QTest::newRow("a worn capstan") << "speech" << 48000 << 3.0 << 12.0 << -50.0;
    QTest::newRow("tape at 96 kHz") << "wide" << 96000 << 1.0 << 50.0 << -24.0;
    QTest::newRow("flutter") << "dense" << 48000 << 6.0 << 10.0 << -32.0;
    QTest::newRow("a vibrato") << "choir" << 48000 << 3.0 << 40.0 << -40.0;
    QTest::newRow("where beats repeat") << "loop" << 44100 << 0.5 << 40.0 << -40.0;
  }
  void it_is_told_with_rate_and_depth() {
    QFETCH(QString, name);
    QFETCH(int, rate);
    QFETCH(double, hz);
    QFETCH(double, depth);
    QFETCH(double, to_db);
    const Planar sound = programme(name.toStdString(), rate, 6, 7);
    const auto r = told_of(folder_, sound, with_wow(sound, rate, hz, depth), rate, WordFormat::float64);
    QVERIFY2(r.fit.trusted && r.kind == Kind::changed, qPrintable(told(r)));
    const Cause* wow = cause(r, "wow");
    QVERIFY2(is_near(number(wow, "rate_hz"), hz, 0.05) && is_near(number(wow, "depth_samples"), depth, 0.03 * depth),
             qPrintable(told(r)));
    QVERIFY2(wow->after_db.value_or(-200) < to_db, qPrintable(told(r)));
    QVERIFY2(std::abs(r.fit.delay_samples - depth) < 0.2 * depth + 2, qPrintable(told(r)));
    QVERIFY2(!tells(r, "gain") && !tells(r, "curve") && !tells(r, "polarity"), qPrintable(told(r)));
  }

  /// However it is turned, crossed or late: what the fit finds.
  void polarity_map_and_delay_are_found_beneath_it_data() {
    QTest::addColumn<QString>("name");
    for (const char* name : {"speech", "wide"}) QTest::newRow(name) << name;
  }
  void polarity_map_and_delay_are_found_beneath_it() {
    QFETCH(QString, name);
    const int rate = 44100;
    const Planar sound = programme(name.toStdString(), rate, 5, 9), moved = with_wow(sound, rate, 0.6, 20);
    const auto master = Clip::open(save(folder_ / "m.wav", sound, rate));
    const auto fit_of = [&](const Planar& ret) {
      const auto clip = Clip::open(save(folder_ / "r.wav", ret, rate));
      return find_fit(*master, *clip, {});
    };
    const auto lies = [&](const Fit& fit, const char* polarity, double gain_db, double late) {
      const bool holds = fit.trusted && std::string(fit.polarity()) == polarity &&
                         std::abs(fit.gain_db - gain_db) < 0.5 && std::abs(fit.delay_samples - late) < 8;
      if (!holds) qWarning("%s, %g dB, %g late", fit.polarity(), fit.gain_db, fit.delay_samples);
      return holds;
    };
    QVERIFY(lies(fit_of(scaled(moved, -0.5)), "inverted", -6.02, 20));
    Planar one_side = moved, crossed = moved;
    for (double& v : one_side.channel(1)) v = -v;
    QVERIFY(lies(fit_of(one_side), "mixed", 0, 20));
    std::copy(moved.channel(0).begin(), moved.channel(0).end(), crossed.channel(1).begin());
    std::copy(moved.channel(1).begin(), moved.channel(1).end(), crossed.channel(0).begin());
    const Fit across = fit_of(crossed);
    QVERIFY(across.swapped() && lies(across, "normal", 0, 20));
    QVERIFY(lies(fit_of(late(moved, 2 * rate)), "normal", 0, 2 * rate + 20));
  }

  void what_lies_beneath_it_is_told() {
    const int rate = 44100;
    const Planar sound = programme("wide", rate, 5, 9), moved = with_wow(sound, rate, 0.6, 20);
    const auto of = [&](const Planar& ret) { return told_of(folder_, sound, ret, rate, WordFormat::float64); };
    const auto softer = of(scaled(moved, -0.5));
    QVERIFY2(is_near(number(cause(softer, "gain"), "gain_db"), -6.0206, 0.02), qPrintable(told(softer)));
    QVERIFY2(tells(softer, "polarity") && number(cause(softer, "wow"), "depth_samples") > 19, qPrintable(told(softer)));
    const auto little = of(scaled(moved, 0.98));
    QVERIFY2(is_near(number(cause(little, "gain"), "gain_db"), -0.1755, 0.01), qPrintable(told(little)));
    const auto bell = of(filtered(moved, rate, "bell", 3000, 1, 4));
    const Cause* eq = cause(bell, "eq");
    QVERIFY2(tells(bell, "wow") && eq && is_near(eq->values["sections"][0]["hz"].get<double>(), 3000, 100),
             qPrintable(told(bell)));
    const auto noisy = of(with_noise(moved, 1e-3, 3));
    QVERIFY2(tells(noisy, "wow") && tells(noisy, "noise"), qPrintable(told(noisy)));
  }

  /// Of a long pair stretches are read: each is followed.
  void it_is_followed_through_long_pairs() {
    const int rate = 44100;
    const Planar sound = programme("piano", rate, 50, 12);
    const auto r = told_of(folder_, sound, with_wow(sound, rate, 0.556, 13), rate, WordFormat::float32);
    const Cause* wow = cause(r, "wow");
    QVERIFY2(is_near(number(wow, "depth_samples"), 13, 0.4) && is_near(number(wow, "rate_hz"), 0.556, 0.05) &&
                 wow->after_db.value_or(-200) < -45,
             qPrintable(told(r)));
  }

  void other_programmes_and_other_takes_stay_unrelated() {
    const std::vector<std::string> names{"piano", "speech", "choir"};
    const auto fit_of = [&](const Planar& a, const Planar& b) {
      const auto master = Clip::open(save(folder_ / "a.wav", a, 44100)),
                 ret = Clip::open(save(folder_ / "b.wav", b, 44100));
      return find_fit(*master, *ret, {});
    };
    for (size_t n = 0; n < names.size(); ++n) {
      const Planar sound = programme(names[n], 44100, 5, 20 + n);
      const auto& other = names[(n + 1) % names.size()];
      QVERIFY2(!fit_of(sound, programme(other, 44100, 5, 40 + n)).trusted, other.c_str());
      const Fit take = fit_of(sound, programme(names[n], 44100, 5, 60 + n));  // it may share a chord, and no more
      QVERIFY2(take.agreement < 0.4, names[n].c_str());
    }
  }
  /// What agrees badly for another reason is not followed.
  void noise_and_rooms_do_not_move() {
    const Planar sound = programme("dense", 44100, 8, 61);
    const auto master = Clip::open(save(folder_ / "m.wav", sound, 44100, WordFormat::float64));
    const auto stays = [&](const Planar& ret) {
      const auto clip = Clip::open(save(folder_ / "still.wav", ret, 44100, WordFormat::float64));
      const Fit fit = find_fit(*master, *clip, {});
      return fit.trusted && std::abs(fit.delay_samples) < 2 && !fit_that_moves(*master, *clip, fit);
    };
    Planar echoed = sound;
    for (int c = 0; c < 2; ++c)
      for (size_t n = 1411; n < size_t(sound.frames()); ++n) echoed.channel(c)[n] += 0.6 * sound.channel(c)[n - 1411];
    QVERIFY(stays(with_noise(sound, 0.06, 4)));
    QVERIFY(stays(echoed));
    QVERIFY(stays(filtered(sound, 44100, "high pass", 2000, 0.7)));
  }

  /// Most where it is the same programme, however it moves; far less upside down, or of another; crossed no more.
  void what_is_followed_correlates_where_it_belongs() {
    for (const char* name : {"dense", "speech", "wide", "choir"}) {
      const Planar sound = programme(name, 48000, 3, 14), moved = with_wow(sound, 48000, 2, 30);
      Planar upside_down = moved, crossed = moved;
      for (double& x : upside_down.channel(0)) x = -x;
      std::swap_ranges(crossed.channel(0).begin(), crossed.channel(0).end(), crossed.channel(1).begin());
      const double right = followed_correlation(sound, moved, 960);
      QVERIFY2(right > 0.55 && right <= 1, name);
      QVERIFY2(followed_correlation(sound, upside_down, 960) < 0.7 * right, name);
      QVERIFY2(followed_correlation(sound, crossed, 960) < 1.001 * right, name);
      QVERIFY2(followed_correlation(sound, programme(name, 48000, 3, 15), 960) < 0.6 * right, name);
    }
  }

  /// The way that was gone is found to the sample, whatever it is, and none where nothing moves.
  void a_course_is_found() {
    dsp::Noise chance(5);
    for (int round = 0; round < 6; ++round) {
      const Planar sound = programme(programme_names()[size_t(round)], 48000, 4, uint64_t(70 + round));
      DelayCourse truth{2400};
      double late = 0;
      for (int64_t n = 0; n < sound.frames() / truth.hop; ++n)
        truth.late.push_back(late += 12 * (2 * chance.uniform() - 1));
      Planar moved = sound;
      for (int c = 0; c < 2; ++c) warp(sound.channel(c), truth, moved.channel(c), 0, sound.frames());
      const auto found = course_of_delay(sound, moved, {}, 960);
      if (found.late.empty()) QFAIL(programme_names()[size_t(round)].c_str());
      std::vector<double> off;
      for (size_t n = 0; n < found.late.size(); ++n)
        off.push_back(std::abs(found.late[n] - truth.at(double(int64_t(n + 1) * found.hop))));
      std::nth_element(off.begin(), off.begin() + long(off.size() / 2), off.end());
      QVERIFY2(off[off.size() / 2] < 1, qPrintable(QString("%1: %2").arg(round).arg(off[off.size() / 2])));
      QVERIFY(course_of_delay(sound, sound, {}, 960).late.empty());
    }
  }

 private:
  Folder folder_;
};

SHARED_MAIN(TestWow)
#include "test_wow.moc"
