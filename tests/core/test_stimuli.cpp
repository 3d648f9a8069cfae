// What is played in a blind test: of one length, in one place, equally loud, and otherwise as it was.
#include <array>

#include "core/compare/null.hpp"
#include "core/hearing/stimuli.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/stages.hpp"

using namespace heathmist;
using namespace heathmist::test;

class TestStimuli : public StageTest {
  Q_OBJECT

 private slots:
  void they_are_equally_loud_and_in_one_place() {
    for (const char* which : {"dense", "speech", "wide"}) {
      const auto master = clip(programme(which, 48000, 8, 9), 48000);
      for (const auto& stages : std::vector<std::vector<Json>>{
               {{{"type", "codec"}, {"codec", "mp3"}, {"bit_rate_kbps", 64}}},
               {{{"type", "gain"}, {"gain_db", -7.3}}, {{"type", "delay"}, {"delay_samples", 700.25}}},
               {{{"type", "filter"}, {"shape", "high_shelf"}, {"hz", 6000}, {"gain_db", -6}}}}) {
        const auto ret = pass(master, chain_from_json({{"stages", Json(stages)}})).ret;
        const auto pair = comparable(master, ret);
        const Fit fit = null_test(*master, *ret, pair).fit;
        const std::vector<ToHear> others{{"return", pair.ret, fit}, {"anchor", {}, {}, 3500}};
        const Stimuli s = make_stimuli(*pair.master, 2, 7.5, others);
        QCOMPARE(s.sound.size(), size_t(3));
        const double master_lufs = integrated_lufs(s.sound[0], s.rate_hz);
        for (size_t n = 0; n < 3; ++n) {
          QCOMPARE(s.sound[n].frames(), int64_t(5.5 * 48000));
          QCOMPARE(s.sound[n].channels(), 2);
          QVERIFY2(std::abs(integrated_lufs(s.sound[n], s.rate_hz) - master_lufs) < equal_within_lu,
                   qPrintable(QString::number(integrated_lufs(s.sound[n], s.rate_hz))));
          QVERIFY(std::abs(s.lufs[n] - integrated_lufs(s.sound[n], s.rate_hz)) < 0.01);
        }
        QVERIFY2(std::abs(samples_behind(s.sound[0], s.sound[1])) <= 2,
                 qPrintable(QString("%1: %2").arg(which).arg(samples_behind(s.sound[0], s.sound[1]))));
        QVERIFY(std::abs(samples_behind(s.sound[0], s.sound[2])) <= 2);
      }
    }
  }

  void an_anchor_has_nothing_above_its_edge() {
    const auto master = clip(programme("dense", 48000, 6, 9), 48000);
    const std::vector<ToHear> others{{"3.5 kHz", {}, {}, 3500}, {"7 kHz", {}, {}, 7000}};
    const Stimuli s = make_stimuli(*master, 1, 5, others);
    for (size_t n = 1; n < 3; ++n) {
      const auto spectrum = average_spectrum(*clip(s.sound[n], 48000), 8192, 0, -1, 100);
      const double edge = others[n - 1].low_pass_hz;
      const double below = power_between(spectrum, 20, edge), above = power_between(spectrum, 1.2 * edge, 24000);
      QVERIFY2(10 * std::log10(above / below) < -80, qPrintable(QString::number(10 * std::log10(above / below))));
    }
  }

  void what_is_the_same_stays_the_same() {
    const auto master = clip(Programme(3, 4).render(44100), 44100);
    const auto pair = comparable(master, clip(samples_of(*master), 44100));
    const Fit fit = null_test(*pair.master, *pair.ret, pair).fit;
    const Stimuli s = make_stimuli(*master, 0.5, 2, std::vector<ToHear>{{"copy", pair.ret, fit}});
    QVERIFY(s.same(0, 1));
    QCOMPARE(s.gain_db[1], 0.0);
  }

  void none_clips_and_one_channel_is_heard_on_both_sides() {
    Planar loud(1, 3 * 48000);
    dsp::Noise chance(3);
    for (double& v : loud.channel(0)) v = 0.98 * chance.between(-1, 1);
    const auto master = clip(loud, 48000);
    const auto ret = pass(master, chain_of({{{"type", "filter"}, {"shape", "low_pass"}, {"hz", 1500}}})).ret;
    const auto pair = comparable(master, ret);
    const Fit fit = null_test(*master, *ret, pair).fit;
    const Stimuli s = make_stimuli(*pair.master, 0.5, 2.5, std::vector<ToHear>{{"dull", pair.ret, fit}});
    QVERIFY(s.turned_down_db > 0);
    for (const Planar& sound : s.sound) {
      QVERIFY(peak_of(sound) <= 1);
      QVERIFY(std::equal(sound.channel(0).begin(), sound.channel(0).end(), sound.channel(1).begin()));
    }
    QVERIFY(std::abs(integrated_lufs(s.sound[0], s.rate_hz) - integrated_lufs(s.sound[1], s.rate_hz)) <
            equal_within_lu);
  }

  void what_cannot_be_compared_is_refused_in_a_sentence() {
    Planar sound = Programme(8, 6).render(48000);
    for (int c = 0; c < 2; ++c) std::fill_n(sound.channel(c).begin() + 2 * 48000, 48000, 0.0);
    const auto master = clip(sound, 48000);
    const auto refusal = [&](double from, double until, std::vector<ToHear> others) -> QString {
      try {
        make_stimuli(*master, from, until, others);
      } catch (const InputError& error) {
        return error.what();
      }
      return {};
    };
    QVERIFY(refusal(1, 1.2, {}).contains("too short"));
    QVERIFY(refusal(5, 9, {}).contains("outside"));
    QVERIFY(refusal(2.1, 2.9, {}).contains("silent"));
    Planar half(2, 3 * 48000);
    for (int c = 0; c < 2; ++c) std::copy_n(sound.channel(c).begin(), half.frames(), half.channel(c).begin());
    const auto pair = comparable(master, clip(half, 48000));
    const Fit fit = null_test(*pair.master, *pair.ret, pair).fit;
    QVERIFY(refusal(1, 5, {{"half", pair.ret, fit}}).contains("does not reach"));
    QVERIFY(refusal(0.5, 1.5, {{"half", pair.ret, fit}}).isEmpty());
  }
};

QTEST_GUILESS_MAIN(TestStimuli)
#include "test_stimuli.moc"
