// What looks like something else: the side of a mix alone like another programme, a phase that is turned all over like
// a delay and an EQ, what a coder leaves out like a shelf.
#include <QtTest>
#include <cmath>
#include <random>

#include "core/compare/explain.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"
#include "tests/support/stages.hpp"
#include "tests/support/treatments.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

/// Both channels hold g (left - right), or of one the inverse; `channels` 1: the first alone.
Planar side_of(const Planar& sound, double g, bool inverse, int channels) {
  Planar side(channels, sound.frames());
  for (size_t n = 0; n < size_t(sound.frames()); ++n) {
    const double d = g * (sound.channel(0)[n] - sound.channel(1)[n]);
    side.channel(0)[n] = d;
    if (channels > 1) side.channel(1)[n] = inverse ? -d : d;
  }
  return side;
}

/// As a transmitter's phase rotator: six all-passes one after the other, all in the voice's band.
Planar rotated(Planar sound, int rate) {
  for (const double hz : {60.0, 200.0, 450.0, 900.0, 2200.0, 5200.0})
    sound = filtered(std::move(sound), rate, "all pass", hz, 0.6);
  return sound;
}

bool tells_a_filter(const NullReport& r) { return tells(r, "eq") || tells(r, "echo") || tells(r, "band_limit"); }

}  // namespace

class TestMistaken : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  /// However little the side holds, and wherever it lies.
  void the_side_alone_is_no_other_programme() {
    for (const char* name : {"dense", "speech"}) {
      const Planar sound = programme(name, 44100, 6, 21);
      for (const double g : {1.0, 0.5}) {
        const auto r = told_of(folder_, sound, side_of(sound, g, false, 2), 44100, WordFormat::float32);
        QCOMPARE(name_of(r.kind), "linear");
        const Cause* c = cause(r, "mono");
        QVERIFY2(c && c->values["of"] == "difference" && c->after_db.value_or(-999) < -120, qPrintable(told(r)));
        QVERIFY2(r.fit.delay_samples == 0 && r.fit.drift_ppm == 0 && !tells_a_filter(r), qPrintable(told(r)));
        QVERIFY2(!tells(r, "crosstalk") && !tells(r, "phase"), qPrintable(told(r)));
      }
      const auto wide = told_of(folder_, sound, side_of(sound, 1, true, 2), 44100, WordFormat::float32);
      const Cause* side = cause(wide, "width");
      QVERIFY2(side && side->values.contains("only_side_db") && wide.fit.delay_samples == 0, qPrintable(told(wide)));
    }
  }

  void the_side_alone_is_found_late_and_in_one_channel() {
    constexpr int64_t by = 4321;
    const Planar sound = programme("dense", 48000, 8, 22);
    for (const int channels : {1, 2}) {
      const auto r = told_of(folder_, sound, late(side_of(sound, 0.7, false, channels), by), 48000, WordFormat::pcm24);
      QVERIFY2(is_near(r.fit.delay_samples, by, 1e-3) && tells(r, "mono") && tells(r, "delay"), qPrintable(told(r)));
      QVERIFY2(name_of(r.kind) == QString("linear"), qPrintable(told(r)));
    }
  }

  /// A sum, and one side in both, are what they were.
  void other_folds_stay_what_they_are() {
    const Planar sound = programme("wide", 44100, 8, 23);
    dsp::Noise chance(1);
    const auto sum = told_of(folder_, sound, treatment("mono").run(sound, 44100, chance), 44100, WordFormat::pcm24);
    QVERIFY2(tells(sum, "mono") && cause(sum, "mono")->values["of"] == "sum", qPrintable(told(sum)));
    const auto one =
        told_of(folder_, sound, treatment("one side in both").run(sound, 44100, chance), 44100, WordFormat::pcm24);
    QVERIFY2(tells(one, "copied_channel"), qPrintable(told(one)));
  }

  /// Two programmes stay unrelated, also where one of them is mono.
  void another_programme_is_not_its_side() {
    const Planar sound = programme("dense", 44100, 8, 24), other = programme("choir", 44100, 8, 25);
    for (const Planar& ret : {side_of(other, 1, false, 2), side_of(other, 1, false, 1)})
      QCOMPARE(name_of(told_of(folder_, sound, ret, 44100, WordFormat::pcm24).kind), "unrelated");
  }

  /// Lying elsewhere by no sample, it is phase that is turned: no polarity, no EQ, no echo, no end of the band.
  void a_phase_turned_all_over_is_phase() {
    for (const auto& [name, rate] : {std::pair{"dense", 44100}, {"dense", 96000}, {"bass", 48000}, {"speech", 44100}}) {
      const Planar sound = programme(name, rate, 8, 26);
      const auto r = told_of(folder_, sound, rotated(sound, rate), rate, WordFormat::pcm24);
      QCOMPARE(name_of(r.kind), "linear");
      const Cause* c = cause(r, "phase");
      QVERIFY2(c && c->after_db.value_or(0) < -50, qPrintable(told(r)));
      QVERIFY2(!tells_a_filter(r) && !tells(r, "polarity") && !tells(r, "drift"), qPrintable(told(r)));
    }
  }

  /// An EQ turns as much of the phase as belongs to it, and is an EQ.
  void a_steep_high_pass_is_an_eq() {
    for (const char* name : {"dense", "bass", "speech"}) {
      const Planar sound = programme(name, 44100, 6, 27);
      const Planar cut = filtered(filtered(sound, 44100, "high pass", 30, 0.54), 44100, "high pass", 30, 1.31);
      const auto r = told_of(folder_, sound, cut, 44100, WordFormat::pcm24);
      QVERIFY2(tells(r, "eq") && !tells(r, "phase"), qPrintable(told(r)));
    }
  }

  /// Beside coding, what only takes treble away without turning it is the coder's; a shelf that was set stays one.
  void what_a_coder_leaves_out_is_no_eq() {
    const Planar sound = programme("from_silence", 48000, 10, 28);
    const Planar dulled = filtered(sound, 48000, "high shelf", 4000, 0.7, -4);
    const auto master = save(folder_ / "m.wav", sound, 48000, WordFormat::pcm24);
    for (const bool set : {false, true})
      for (const auto& [encoder, bits] : {std::pair{"libmp3lame", 128000}, {"libvorbis", 128000}}) {
        const auto from = set ? save(folder_ / "d.wav", dulled, 48000, WordFormat::pcm24) : master;
        const auto ret =
            save(folder_ / "r.wav", coded_and_back(folder_, from, encoder, bits), 48000, WordFormat::pcm24);
        const auto r = explained_null_of(master, ret);
        QVERIFY2(tells(r, "lossy") && tells(r, "eq") == set, qPrintable(told(r)));
      }
  }

  /// So is what it takes away shortly before the band ends, below 10 kHz at a low rate; and what it puts in its place
  /// beneath steady notes is no other programme.
  void what_a_low_rate_leaves_is_coding_alone() {
    for (const auto& [name, encoder] :
         {std::pair{"dense", "libmp3lame"}, {"drums", "libmp3lame"}, {"choir", "libvorbis"}}) {
      const Planar sound = programme(name, 48000, 12, 29);
      const auto master = save(folder_ / "m.wav", sound, 48000, WordFormat::pcm24);
      const auto ret =
          save(folder_ / "r.wav", coded_and_back(folder_, master, encoder, 64000), 48000, WordFormat::pcm24);
      const auto r = explained_null_of(master, ret);
      QVERIFY2(tells(r, "lossy") && !tells(r, "eq") && !tells(r, "other_programme"), qPrintable(name + told(r)));
    }
  }

  /// Few clicks beneath dithered rounding take next to nothing out, but each is far over what rounding can do.
  void clicks_are_none_of_a_word_length() {
    const double step = std::ldexp(1.0, -11);
    std::mt19937 chance(30);
    std::uniform_real_distribution<double> half(-0.5, 0.5);
    const auto rounded = [&](Planar sound) {
      for (int c = 0; c < sound.channels(); ++c)
        for (double& x : sound.channel(c)) x = step * std::round(x / step + half(chance) + half(chance));
      return sound;
    };
    const Planar sound = programme("speech", 48000, 10, 30);
    Planar clicked = sound;
    for (const size_t at : {96000, 310000})
      for (int c = 0; c < 2; ++c) clicked.channel(c)[at] += 0.08, clicked.channel(c)[at + 1] -= 0.05;
    const auto r = told_of(folder_, sound, rounded(clicked), 48000, WordFormat::pcm24);
    QVERIFY2(tells(r, "clicks") && number(cause(r, "clicks"), "count") == 2 && tells(r, "word_length"),
             qPrintable(told(r)));
    const auto plain = told_of(folder_, sound, rounded(sound), 48000, WordFormat::pcm24);
    QVERIFY2(!tells(plain, "clicks") && tells(plain, "word_length"), qPrintable(told(plain)));
  }

 private:
  const Folder folder_{};
};

SHARED_MAIN(TestMistaken)
#include "test_mistaken.moc"
