// Causes that hide one another, or look like others: what is told of them together, and the values.
#include <QtTest>
#include <cmath>
#include <numbers>

#include "core/compare/explain.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"
#include "tests/support/treatments.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

/// A section of that kind near these values.
bool has_section(const Cause* eq, const char* type, double hz, double gain_db) {
  return eq && std::any_of(eq->values["sections"].begin(), eq->values["sections"].end(), [&](const Json& s) {
           return s["type"] == type && std::abs(std::log2(s["hz"].get<double>() / hz)) < 0.1 &&
                  is_near(s["gain_db"].get<double>(), gain_db, 0.15);
         });
}

Planar clipped(Planar s, double level) {
  for (int c = 0; c < s.channels(); ++c)
    for (double& x : s.channel(c)) x = std::clamp(x, -level, level);
  return s;
}

/// Turned down by the share of what lies over the threshold (dBFS), peaks followed in 10 and 150 ms; then louder.
Planar compressed(Planar s, double rate, double threshold_db, double ratio, double makeup_db) {
  return with_dynamics(std::move(s), rate, {false, false, 0.01, 0.15, [=](double level_db) {
                                              return makeup_db -
                                                     std::max(0.0, level_db - threshold_db) * (1 - 1 / ratio);
                                            }});
}

}  // namespace

class TestCausesTogether : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  void three_sections_are_three_data() {
    QTest::addColumn<QString>("name");
    for (const char* name : {"dense", "piano", "choir", "drums"}) QTest::newRow(name) << name;
  }
  void three_sections_are_three() {
    QFETCH(QString, name);
    const Planar sound = programme(name.toStdString(), 48000, 10, 4);
    const Planar ret = filtered(filtered(filtered(sound, 48000, "bell", 110, 0.8, 2), 48000, "bell", 3200, 2, -3),
                                48000, "high shelf", 9000, 0.7071, 1.5);
    const auto r = told_of(sound, ret, 48000);
    const Cause* eq = cause(r, "eq");
    QVERIFY2(has_section(eq, "bell", 110, 2) && has_section(eq, "bell", 3200, -3) &&
                 has_section(eq, "high_shelf", 9000, 1.5),
             qPrintable(told(r)));
    QVERIFY2(!eq->values.contains("inverted"), qPrintable(told(r)));
    QVERIFY2(eq->values["sections"].size() == 3 && !tells(r, "gain") && !tells(r, "channel_gain"), qPrintable(told(r)));
  }

  /// At a high rate too, where the outline's stretches are short.
  void the_end_of_the_band_is_told_beside_what_lies_under_it() {
    constexpr int rate = 96000;
    const Planar sound = programme("from_silence", rate, 12, 54);
    const auto ends = [&](const Planar& s) { return with_spectrum(s, rate, [](double hz) { return hz < 20600; }); };
    const auto turned = told_of(sound, ends(filtered(sound, rate, "low shelf", 120, 0.7071, -3)), rate);
    const Cause* eq = cause(turned, "eq");
    QVERIFY2(has_section(eq, "low_shelf", 120, -3) && eq->values["sections"].size() == 1, qPrintable(told(turned)));
    QVERIFY2(is_near(number(eq, "band_limit_hz"), 20600, 200) &&
                 eq->text.find("; the band ends at 20.") != std::string::npos,
             qPrintable(told(turned)));
    QVERIFY2(!tells(turned, "width") && !tells(turned, "gain"), qPrintable(told(turned)));
    const auto pressed = told_of(sound, ends(compressed(sound, rate, -27, 1.5, 0)), rate);
    QVERIFY2(tells(pressed, "compressor") && !tells(pressed, "gain_ride") && !tells(pressed, "distortion"),
             qPrintable(told(pressed)));
  }

  void an_eq_before_a_clip_keeps_its_values() {
    const Planar sound = programme("dense", 44100, 10, 6);
    const auto r = told_of(sound, clipped(filtered(sound, 44100, "bell", 100, 1, 4), 0.5), 44100);
    QVERIFY2(has_section(cause(r, "eq"), "bell", 100, 4), qPrintable(told(r)));
    QVERIFY2(is_near(number(cause(r, "clip"), "level_dbfs"), 20 * std::log10(0.5), 0.02), qPrintable(told(r)));
  }

  /// An EQ's phase is no delay, and a gain is what was put in, not what the compressor left of it.
  void a_compressor_keeps_its_make_up() {
    const Planar sound = programme("piano", 48000, 12, 20);
    const auto r =
        told_of(sound, compressed(filtered(scaled(sound, 0.7), 48000, "bell", 3000, 1, 3), 48000, -20, 3, 2), 48000);
    QVERIFY2(tells(r, "compressor") && has_section(cause(r, "eq"), "bell", 3000, 3), qPrintable(told(r)));
    QVERIFY2(!tells(r, "delay") && is_near(number(cause(r, "gain"), "gain_db"), 20 * std::log10(0.7) + 2, 0.3),
             qPrintable(told(r) + QString::number(number(cause(r, "gain"), "gain_db"))));
  }

  /// Every bar of a loop is as good a place as any other, and no better.
  void a_high_pass_on_a_loop_is_no_row_of_breaks() {
    for (const uint64_t seed : {6, 21}) {
      const Planar sound = programme("loop", 48000, 8, seed);
      const auto r = told_of(sound, filtered(sound, 48000, "high pass", 70, 0.7071), 48000);
      QVERIFY2(tells(r, "eq") && !tells(r, "splice") && !tells(r, "insert") && !tells(r, "repeat"),
               qPrintable(told(r)));
    }
  }

  void an_eq_is_known_beneath_noise() {
    const Planar sound = programme("piano", 48000, 10, 7);
    const auto r =
        told_of(sound, with_noise(filtered(sound, 48000, "bell", 1500, 1, 3), std::pow(10, -75 / 20.0), 3), 48000);
    const Cause* eq = cause(r, "eq");
    QVERIFY2(has_section(eq, "bell", 1500, 3) && tells(r, "noise"), qPrintable(told(r)));
    QVERIFY2(eq->values["sections"].size() <= 2 && !tells(r, "channel_gain"), qPrintable(told(r)));
  }

  void a_high_pass_and_a_fade_are_no_dropout() {
    for (const char* name : {"piano", "speech"}) {
      const Planar sound = programme(name, 48000, 12, 8);
      const auto total = size_t(sound.frames());
      const auto r = told_of(sound,
                             gained(filtered(sound, 48000, "high pass", 40, 0.7071),
                                    [&](size_t n) { return std::min(1.0, double(total - n) / (3 * 48000.0)); }),
                             48000);
      QVERIFY2(tells(r, "fade") && !tells(r, "dropout") && !tells(r, "mute"), qPrintable(told(r)));
    }
  }

  void a_fade_at_each_end_is_two_fades() {
    for (const char* name : {"dense", "choir"}) {
      const Planar sound = programme(name, 48000, 12, 16);
      const auto total = size_t(sound.frames());
      const auto r = told_of(sound,
                             gained(sound,
                                    [&](size_t n) {
                                      const double in =
                                          std::sin(0.5 * std::numbers::pi * std::min(1.0, double(n) / 72000));
                                      return in * std::min(1.0, double(total - n) / (2.5 * 48000));
                                    }),
                             48000);
      QCOMPARE(std::count_if(r.causes.begin(), r.causes.end(), [](const Cause& c) { return c.code == "fade"; }), 2);
      QCOMPARE(r.causes.size(), size_t(2));
    }
  }

  /// Many repeats are a tail, and no echo that the response ends before.
  void a_sparse_tail_is_a_tail() {
    const Planar sound = programme("piano", 44100, 10, 17);
    Planar ret = sound;
    dsp::Noise chance(3);
    for (int c = 0; c < 2; ++c) {
      for (int k = 0; k < 60; ++k) {
        const auto late = size_t(44100 * (0.008 + 0.25 * chance.uniform()));
        const double gain = 0.15 * std::pow(10, -3.0 * double(late) / 44100 / 0.8) * (chance.uniform() < 0.5 ? -1 : 1);
        for (size_t n = late; n < size_t(sound.frames()); ++n) ret.channel(c)[n] += gain * sound.channel(c)[n - late];
      }
    }
    const auto r = told_of(sound, ret, 44100);
    QVERIFY2(tells(r, "reverb"), qPrintable(told(r)));
  }

  /// What a filter took off the top of the band is no noise that was shaped.
  void a_lost_top_beneath_dither_is_no_shaping() {
    const Planar sound = requantised(programme("dense", 44100, 8, 18), 16, true);
    const auto r = told_of(sound, requantised(filtered(sound, 44100, "high shelf", 17000, 0.7071, -6), 16, true), 44100,
                           WordFormat::pcm16);
    QVERIFY2(tells(r, "eq") && name_of(r.kind) == std::string("linear"), qPrintable(told(r)));
  }

  /// Where nothing can be heard the break lies anywhere; where something can, nothing of it is out of place.
  void a_skip_in_a_pause_lies_in_the_pause() {
    Planar sound = programme("dense", 48000, 10, 9);
    for (int c = 0; c < 2; ++c)
      for (size_t n = 4 * 48000; n < 6 * 48000; ++n) sound.channel(c)[n] *= 1e-6;
    Planar ret(2, sound.frames() - 7777);
    for (int c = 0; c < 2; ++c) {
      const auto from = sound.channel(c);
      std::copy_n(from.begin(), 5 * 48000, ret.channel(c).begin());
      std::copy(from.begin() + 5 * 48000 + 7777, from.end(), ret.channel(c).begin() + 5 * 48000);
    }
    const auto r = told_of(sound, ret, 48000);
    const double at_s = number(cause(r, "splice"), "at_s");
    QVERIFY2(at_s >= 4 && at_s <= 6 && number(cause(r, "splice"), "jump_samples") == -7777, qPrintable(told(r)));
    QVERIFY2(!tells(r, "other_programme") && !tells(r, "noise"), qPrintable(told(r)));
  }

  /// A speed that moves slowly and far moves by samples from half second to half second: no breaks.
  void slow_wow_is_no_row_of_breaks() {
    const Planar sound = programme("swells", 48000, 10, 10);
    Planar ret = sound;
    for (int c = 0; c < 2; ++c)
      for (size_t n = 0; n < size_t(ret.frames()); ++n) {
        const double at = std::clamp(double(n) + 6 * std::sin(2 * std::numbers::pi * 0.7 * double(n) / 48000), 0.0,
                                     double(ret.frames() - 2));
        const auto k = size_t(at);
        ret.channel(c)[n] = sound.channel(c)[k] + (at - double(k)) * (sound.channel(c)[k + 1] - sound.channel(c)[k]);
      }
    const auto r = told_of(sound, ret, 48000);
    const Cause* wow = cause(r, "wow");
    QVERIFY2(wow && is_near(number(wow, "depth_samples"), 6, 0.3) && is_near(number(wow, "rate_hz"), 0.7, 0.1),
             qPrintable(told(r)));
    QVERIFY2(!tells(r, "splice") && !tells(r, "insert"), qPrintable(told(r)));
  }

  void two_all_passes_are_phase_alone() {
    for (const char* name : {"dense", "drums"}) {
      const Planar sound = scaled(programme(name, 48000, 8, 11), 0.5);
      const auto r =
          told_of(sound, filtered(filtered(sound, 48000, "all pass", 300, 0.7), 48000, "all pass", 2500, 0.7), 48000);
      QVERIFY2(tells(r, "phase") && !tells(r, "delay") && !tells(r, "polarity") && !tells(r, "eq"),
               qPrintable(told(r)));
    }
  }

  void the_side_alone_and_one_side_in_both_are_told_so() {
    const Planar sound = programme("wide", 48000, 8, 12);
    Planar side = sound, left = sound;
    for (size_t n = 0; n < size_t(sound.frames()); ++n) {
      const double l = sound.channel(0)[n], r = sound.channel(1)[n];
      side.channel(0)[n] = 0.5 * (l - r), side.channel(1)[n] = 0.5 * (r - l);
      left.channel(1)[n] = l;
    }
    const auto alone = told_of(sound, side, 48000);
    QVERIFY2(tells(alone, "width") && !tells(alone, "gain"), qPrintable(told(alone)));
    QVERIFY2(cause(alone, "width")->text.find("mid is gone") != std::string::npos, qPrintable(told(alone)));
    const auto both = told_of(sound, left, 48000);
    QVERIFY2(tells(both, "copied_channel") && !tells(both, "polarity") && !tells(both, "crosstalk"),
             qPrintable(told(both)));
  }

  void what_is_added_pulls_no_gain() {
    const Planar sound = programme("bass", 48000, 10, 13);
    Planar ret = sound;
    for (int c = 0; c < 2; ++c)
      for (size_t n = 0; n < size_t(ret.frames()); ++n)
        ret.channel(c)[n] += 0.001 + 0.001 * std::sin(2 * std::numbers::pi * 60 * double(n) / 48000);
    const auto r = told_of(sound, ret, 48000);
    QCOMPARE(name_of(r.kind), "noise");
    QVERIFY2(tells(r, "dc") && tells(r, "hum") && r.fit.gain_db == 0, qPrintable(told(r)));
    QVERIFY2(r.causes.back().after_db.value_or(-200) < -110, qPrintable(told(r)));
  }

  /// Rounding a tone makes lines of it, far under it: the tone is one.
  void one_tone_is_one() {
    const Planar sound = requantised(programme("dense", 44100, 8, 14), 16, true);
    Planar ret = sound;
    for (int c = 0; c < 2; ++c)
      for (size_t n = 0; n < size_t(ret.frames()); ++n)
        ret.channel(c)[n] += 1.8e-4 * std::sin(2 * std::numbers::pi * 15625 * double(n) / 44100);
    const auto r = told_of(sound, ret, 44100);
    QVERIFY2(tells(r, "tone") && cause(r, "tone")->values["lines"].size() == 1, qPrintable(told(r)));
  }

  /// What a poor interpolation dulls hides how little the speed moves, and is no EQ by itself.
  void a_little_wow_is_known_where_the_samples_are_drawn_straight_between() {
    for (const double hz : {1.3, 5.0}) {
      const Planar sound = programme("dense", 44100, 10, 41);
      Planar ret = sound;
      for (int c = 0; c < 2; ++c)
        for (size_t n = 4; n + 4 < size_t(sound.frames()); ++n) {
          const double at = double(n) - 1.6 - 1.1 * std::sin(2 * std::numbers::pi * hz * double(n) / 44100);
          const auto k = size_t(at);
          const double part = at - double(k);
          ret.channel(c)[n] = (1 - part) * sound.channel(c)[k] + part * sound.channel(c)[k + 1];
        }
      const auto r = told_of(sound, ret, 44100);
      QVERIFY2(is_near(number(cause(r, "wow"), "rate_hz"), hz, 0.1) &&
                   is_near(number(cause(r, "wow"), "depth_samples"), 1.1, 0.15),
               qPrintable(told(r)));
      QCOMPARE(name_of(r.kind), "changed");
    }
  }

  /// Behind a cut nothing fits, and a gain seems to leave more than the programme: it is told once the cut is undone.
  void a_gain_before_a_cut_is_told() {
    for (const char* name : {"drone", "wide"}) {
      constexpr int rate = 48000;
      const Planar sound = programme(name, rate, 8, 44), quieter = scaled(sound, 0.55);
      constexpr int64_t at = 190000, gone = 9000;
      Planar cut(2, sound.frames() - gone);
      for (int c = 0; c < 2; ++c) {
        std::copy_n(quieter.channel(c).begin(), at, cut.channel(c).begin());
        std::copy(quieter.channel(c).begin() + at + gone, quieter.channel(c).end(), cut.channel(c).begin() + at);
      }
      const auto r = told_of(sound, cut, rate);
      QVERIFY2(tells(r, "splice") && is_near(number(cause(r, "gain"), "gain_db"), 20 * std::log10(0.55), 0.01),
               qPrintable(told(r)));
    }
  }

  /// Few peaks are cut, and louder clicks stand between them: what is left stands on peaks mostly, by count.
  void loud_clicks_are_told_beside_a_clip() {
    const Planar sound = programme("from_silence", 48000, 8, 45);
    Planar ret = clipped(sound, 0.5);
    size_t cut = 0;
    for (size_t n = 0; n < size_t(sound.frames()); ++n) cut += ret.channel(0)[n] != sound.channel(0)[n];
    QVERIFY(cut > 8);
    const size_t at[] = {17000, 96000, 140000, 225000};
    for (const size_t n : at)
      for (int c = 0; c < 2; ++c) ret.channel(c)[n] += 0.35, ret.channel(c)[n + 1] -= 0.2;
    const auto r = told_of(sound, ret, 48000);
    QVERIFY2(number(cause(r, "clicks"), "count") == 4 && tells(r, "clip") && !tells(r, "other_programme"),
             qPrintable(told(r)));
    QVERIFY2(is_near(number(cause(r, "clip"), "level_dbfs"), 20 * std::log10(0.5), 0.02), qPrintable(told(r)));
  }

  /// A high pass turns the lowest notes by more than a quarter: the fit takes them for what is upside down, or not.
  void a_high_pass_upside_down_is_told_so() {
    const Planar sound = programme("bass", 48000, 8, 46);
    const auto r = told_of(sound, scaled(filtered(sound, 48000, "high pass", 36, 0.7071), -1), 48000);
    QVERIFY2(r.fit.polarity() == std::string("inverted") ||
                 r.findings.front().text.find("polarity inverted") != std::string::npos,
             r.findings.front().text.c_str());
  }

  /// Of a pair that begins low and goes on high, what a delay does is weighed over all of it.
  void a_delay_is_weighed_over_all_of_the_pair() {
    constexpr int rate = 44100;
    const Planar high = programme("wide", rate, 20, 42);
    const Planar low = filtered(high, rate, "low shelf", 200, 0.7, 30);
    Planar sound = scaled(low, 0.02), ret(2, sound.frames());
    for (int c = 0; c < 2; ++c) {
      std::copy(high.channel(c).begin() + 8 * rate, high.channel(c).end(), sound.channel(c).begin() + 8 * rate);
      std::copy(sound.channel(c).begin(), sound.channel(c).end() - 3, ret.channel(c).begin() + 3);
    }
    double left = 0, all = 0;
    for (int c = 0; c < 2; ++c)
      for (size_t n = 0; n < size_t(sound.frames()); ++n) {
        left += std::pow(ret.channel(c)[n] - sound.channel(c)[n], 2), all += std::pow(sound.channel(c)[n], 2);
      }
    const auto r = told_of(sound, ret, rate);
    QVERIFY2(cause(r, "delay") && is_near(db(cause(r, "delay")->before_db), 10 * std::log10(left / all), 1.5),
             qPrintable(told(r) + QString(" %1").arg(10 * std::log10(left / all))));
  }

  /// A gain of one channel, or a filter, may take a little out of anything: it is not what was done. Here the two sides
  /// go up and down, each at its own time.
  void channels_that_take_turns_are_more_than_a_gain() {
    for (const char* name : {"dense", "piano"}) {
      const Planar sound = programme(name, 44100, 8, 43);
      Planar ret = sound;
      for (int c = 0; c < 2; ++c)
        for (size_t n = 0; n < size_t(sound.frames()); ++n) {
          const double t = double(n) / 44100;
          ret.channel(c)[n] *=
              (c ? 0.9 : 1) + (c ? 0.25 : -0.25) * std::sin(2 * std::numbers::pi * 0.9 * t + 0.9 * t * t);
        }
      const auto r = told_of(sound, ret, 44100);
      QCOMPARE(name_of(r.kind), "changed");
      const std::string& text = r.findings.front().text;
      QVERIFY2(text.find("no cause explains") != std::string::npos ||
                   text.find("no single cause explains") != std::string::npos,
               text.c_str());
    }
  }

  void dither_again_is_a_word_length_and_one_sided_noise_is_told_so() {
    const Planar sound = requantised(programme("choir", 44100, 8, 15), 16, true);
    const auto again = told_of(sound, requantised(sound, 16, true), 44100, WordFormat::pcm16);
    QCOMPARE(name_of(again.kind), "word_length");
    Planar left = sound;
    const Planar noisy = with_noise(sound, 6e-4, 5);
    std::copy(noisy.channel(0).begin(), noisy.channel(0).end(), left.channel(0).begin());
    const auto r = told_of(sound, left, 44100);
    QVERIFY2(tells(r, "noise") && cause(r, "noise")->channels == std::vector<int>{0}, qPrintable(told(r)));
  }

 private:
  NullReport told_of(const Planar& master, const Planar& ret, int rate, WordFormat word = WordFormat::pcm24) {
    return test::told_of(folder_, master, ret, rate, word);
  }
  Folder folder_;
};

SHARED_MAIN(TestCausesTogether)
#include "test_causes_together.moc"
