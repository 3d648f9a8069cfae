// The rungs of a threshold: each differs from the master by what it says, and by nothing else.
#include <algorithm>

#include "core/compare/null.hpp"
#include "core/hearing/ladder.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/stages.hpp"

using namespace heathmist;
using namespace heathmist::test;

class TestLadder : public StageTest {
  Q_OBJECT

 private slots:
  /// 0 dB is the return; and every other rung's difference is as much more or less as its value.
  void a_lift_is_of_the_residual() {
    const auto master = clip(programme("dense", 44100, 6, 3), 44100);
    const auto ret = run(master, {{{"type", "codec"}, {"codec", "mp3"}, {"bit_rate_kbps", 96}}});
    const auto pair = comparable(master, ret);
    const NullReport report = null_test(*master, *ret, pair);
    const Ladder l = make_ladder(*pair.master, 1, 4, {LadderOf::lift}, {"MP3 96", pair.ret, report.fit});
    QCOMPARE(l.rungs.size(), size_t(31));
    QVERIFY2(std::abs(l.rungs[0].value + *report.residual_relative_db()) < 4,
             qPrintable(QString::number(l.rungs[0].value)));
    Planar residual;
    residual_clip(pair, report.fit)->reader()->read(44100, 3 * 44100, residual);
    const double own_db = 10 * std::log10(power(residual));
    for (size_t n = 0; n < l.rungs.size(); n += 5)
      QVERIFY2(
          std::abs(10 * std::log10(power(difference(l, n))) - own_db - l.turned_down_db * -1 - l.rungs[n].value) < 0.05,
          qPrintable(QString::number(l.rungs[n].value)));
    const auto as_it_is = std::find_if(l.rungs.begin(), l.rungs.end(), [](const auto& r) { return r.value == 0; });
    QVERIFY(as_it_is != l.rungs.end());
    check_equally_loud(l);
  }

  void a_level_differs_by_so_much() {
    const auto master = clip(programme("piano", 48000, 5, 4), 48000);
    const Ladder l = make_ladder(*master, 1, 4, {LadderOf::level});
    for (size_t n = 0; n < l.rungs.size(); ++n) {
      const double db = 10 * std::log10(power(l.reference) / power(l.sound(n)));
      QVERIFY2(std::abs(db - l.rungs[n].value) < 1e-6, qPrintable(QString::number(db)));
    }
    QCOMPARE(l.rungs.front().value, 6.0);
    QCOMPARE(l.rungs.back().value, 0.1);
  }

  /// Rounding and triangular dither together are a quarter of a step squared (Lipshitz, Wannamaker and Vanderkooy
  /// 1992).
  void a_word_is_as_noisy_as_theory_has_it() {
    const auto master = clip(programme("choir", 48000, 5, 5), 48000);
    const Ladder l = make_ladder(*master, 1, 4, {LadderOf::word_length});
    QCOMPARE(l.rungs.front().value, 4.0);
    QCOMPARE(l.rungs.back().value, 20.0);
    for (size_t n = 2; n < l.rungs.size(); ++n) {
      const double step = std::ldexp(1.0, 1 - int(l.rungs[n].value));
      const double off = 10 * std::log10(power(difference(l, n)) / (step * step / 4));
      QVERIFY2(std::abs(off) < 0.2, qPrintable(QString("%1 bits: %2 dB").arg(l.rungs[n].value).arg(off)));
    }
    check_equally_loud(l);
  }

  void a_bit_rate_lies_where_the_master_does() {
    for (const auto& [codec, rate] : {std::pair{"mp3", 44100}, {"opus", 44100}, {"vorbis", 48000}, {"aac", 48000}}) {
      const auto master = clip(programme("drums", rate, 6, 6), rate);
      const Ladder l = make_ladder(*master, 2, 4, {LadderOf::bit_rate, codec});
      QVERIFY2(l.rungs.size() >= 8, codec);
      for (size_t n = 1; n < l.rungs.size(); ++n) QVERIFY(l.rungs[n].value > l.rungs[n - 1].value);
      const double least = power(difference(l, 0)), most = power(difference(l, l.rungs.size() - 1));
      QVERIFY2(10 * std::log10(least / most) > 6,
               qPrintable(QString("%1: %2").arg(codec).arg(10 * std::log10(least / most))));
      for (const size_t n : {size_t(3), l.rungs.size() - 1})
        QVERIFY2(std::abs(samples_behind(l.reference, l.sound(n))) <= 2,
                 qPrintable(QString("%1 %2").arg(codec).arg(n)));
      check_equally_loud(l);
    }
  }

  /// A tone above comes down where an ideal sampler would put it, as strong as it was; what is below adds nothing.
  void a_fold_lies_where_a_sampler_would_put_it() {
    for (const auto& [about, hz, to] :
         {std::array{16000.0, 18000.0, 14000.0}, {12000, 20000, 4000}, {8000, 21000, 5000}}) {
      Planar sound = tone(hz, 0.1, 6, 48000, 2);
      const Planar low = tone(700, 0.3, 6, 48000, 2);
      for (int c = 0; c < 2; ++c)
        for (size_t n = 0; n < size_t(sound.frames()); ++n) sound.channel(c)[n] += low.channel(c)[n];
      const Ladder l = make_ladder(*clip(sound, 48000), 1, 4, {LadderOf::fold, {}, about});
      Planar added = difference(l, 0);
      const auto x = added.channel(0).subspan(4800, 3 * 48000 - 9600);
      QVERIFY2(std::abs(tone_db(x, to, 48000) + 20) < 0.05, qPrintable(QString::number(tone_db(x, to, 48000))));
      QVERIFY2(10 * std::log10(mean_square(x)) + 23.01 < 0.05, "something else was added");
      QVERIFY2(std::abs(10 * std::log10(power(difference(l, 10)) / power(added)) + 20) < 0.01, "ten rungs are 20 dB");
      QCOMPARE(l.rungs[10].value, -20.0);
    }
  }

  void what_has_no_ladder_is_refused_in_a_sentence() {
    const auto master = clip(tone(700, 0.3, 20, 48000, 2), 48000);
    const auto refusal = [&](double until, const LadderDesign& design, const ToHear& trial = {}) -> QString {
      try {
        make_ladder(*master, 1, until, design, trial);
      } catch (const InputError& error) {
        return error.what();
      }
      return {};
    };
    const auto same = comparable(master, clip(samples_of(*master), 48000));
    const Fit fit = null_test(*same.master, *same.ret, same).fit;
    QVERIFY(refusal(4, {LadderOf::lift}, {"same", same.ret, fit}).contains("no residual"));
    QVERIFY(refusal(4, {LadderOf::lift}).contains("no return"));
    QVERIFY(refusal(4, {LadderOf::fold, {}, 16000}).contains("nothing above 16000 Hz"));
    QVERIFY(refusal(4, {LadderOf::fold, {}, 24000}).contains("can't fold"));
    QVERIFY(refusal(4, {LadderOf::bit_rate, "flac"}).contains("no ladder"));
    QVERIFY(refusal(1.2, {LadderOf::level}).contains("too short"));
    QVERIFY(refusal(15, {LadderOf::level}).contains("too long"));
    QVERIFY(refusal(25, {LadderOf::level}).contains("long") || refusal(25, {LadderOf::level}).contains("outside"));
    std::stop_source stop;
    stop.request_stop();
    QVERIFY_THROWS_EXCEPTION(Cancelled,
                             make_ladder(*master, 1, 4, {LadderOf::word_length}, {}, {.stop = stop.get_token()}));
  }

  void one_channel_and_full_scale_are_heard_whole() {
    Planar loud(1, 4 * 96000);
    dsp::Noise chance(8);
    for (double& v : loud.channel(0)) v = 0.98 * chance.between(-1, 1);
    const Ladder l = make_ladder(*clip(loud, 96000), 0.5, 2.5, {LadderOf::fold, {}, 22050});
    QVERIFY(l.turned_down_db > 0);
    for (const size_t n : {size_t(0), size_t(5)}) {
      const Planar sound = l.sound(n);
      QVERIFY(peak_of(sound) <= 1);
      QVERIFY(std::equal(sound.channel(0).begin(), sound.channel(0).end(), sound.channel(1).begin()));
    }
    check_equally_loud(l);
  }

 private:
  /// What a rung adds, before it is made equally loud.
  static Planar difference(const Ladder& l, size_t n) {
    Planar d = l.sound(n);
    for (int c = 0; c < 2; ++c)
      for (size_t k = 0; k < size_t(d.frames()); ++k)
        d.channel(c)[k] = d.channel(c)[k] / l.rungs[n].level - l.reference.channel(c)[k];
    return d;
  }
  static double power(const Planar& sound) {
    double sum = 0;
    for (int c = 0; c < sound.channels(); ++c) sum += mean_square(sound.channel(c)) / sound.channels();
    return sum;
  }
  static void check_equally_loud(const Ladder& l) {
    const double own = integrated_lufs(l.reference, l.rate_hz);
    QVERIFY(std::abs(own - l.lufs) < 0.01);
    for (size_t n = 0; n < l.rungs.size(); ++n)
      QVERIFY2(std::abs(integrated_lufs(l.sound(n), l.rate_hz) - own) < equal_within_lu,
               qPrintable(QString::number(l.rungs[n].value)));
  }
};

SHARED_MAIN(TestLadder)
#include "test_ladder.moc"
