// What little evidence there is for is not told, and what is short, faint or beneath something else is told as it is:
// returns that were once told wrong.
#include <QtTest>
#include <cmath>
#include <numbers>

#include "core/compare/causes/of_pair.hpp"
#include "core/compare/null.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"
#include "tests/support/treatments.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

constexpr double pi = std::numbers::pi;

/// A delay that is swept by a slow sine, added to the sound: a flanger.
Planar flanged(const Planar& sound, int rate) {
  Planar out = sound;
  for (int c = 0; c < sound.channels(); ++c)
    for (int64_t n = 0; n < sound.frames(); ++n) {
      const double late = 0.004 * rate * (1 + std::sin(2 * pi * 0.4 * double(n) / rate)) + 2, at = double(n) - late;
      if (at < 0) continue;
      const auto k = size_t(at);
      const auto x = sound.channel(c);
      out.channel(c)[size_t(n)] = 0.6 * (x[size_t(n)] + x[k] + (at - double(k)) * (x[k + 1] - x[k]));
    }
  return out;
}

Planar dithered_24(Planar sound, uint64_t seed) { return requantised(std::move(sound), 24, true, seed); }

}  // namespace

class TestEvidence : public QObject {
  Q_OBJECT

  Folder folder_;

  NullReport of(const Planar& sound, const Planar& ret, int rate, WordFormat word = WordFormat::pcm24) {
    return told_of(folder_, sound, ret, rate, word);
  }

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  /// A wall without a way down leaves no point of a response there: the band is gone all the same.
  void a_wall_is_the_end_of_the_band_data() {
    QTest::addColumn<QString>("name");
    QTest::addColumn<int>("rate");
    QTest::newRow("choir at 96 kHz") << "choir" << 96000;
    QTest::newRow("dense at 48 kHz") << "dense" << 48000;
    QTest::newRow("piano at 96 kHz") << "piano" << 96000;
  }
  void a_wall_is_the_end_of_the_band() {
    QFETCH(QString, name);
    QFETCH(int, rate);
    const Planar sound = with_noise(programme(name.toStdString(), rate, 6, 41), 1e-4, 42);
    const auto r = of(sound, with_spectrum(sound, rate, [](double hz) { return hz < 15000 ? 1.0 : 0.0; }), rate);
    QVERIFY2(tells(r, "band_limit") && r.kind == Kind::linear, qPrintable(told(r)));
    QVERIFY2(is_near(number(cause(r, "band_limit"), "hz"), 15000, 900), qPrintable(told(r)));
  }

  /// Curves, fades and gains that take a few dB out of much are what fits anything.
  void what_only_fits_a_little_is_not_told_data() {
    QTest::addColumn<QString>("name");
    for (const char* name : {"choir", "dense", "speech"}) QTest::newRow(name) << name;
  }
  void what_only_fits_a_little_is_not_told() {
    QFETCH(QString, name);
    const int rate = 44100;
    const Planar sound = programme(name.toStdString(), rate, 8, 43);
    const auto r = of(sound, flanged(sound, rate), rate);
    QVERIFY2(r.kind == Kind::changed, qPrintable(told(r)));
    for (const char* code : {"distortion", "fade", "gain_step", "compressor", "expander", "limiter", "crosstalk"})
      QVERIFY2(!tells(r, code), qPrintable(told(r)));
  }

  void a_dropout_of_a_millisecond_is_no_click() {
    const int rate = 48000;
    for (const int frames : {25, 60, 130}) {
      const Planar sound = programme("choir", rate, 6, 44);
      Planar ret = sound;
      const auto x = sound.channel(0);  // where it is loud
      const auto loudest = std::max_element(x.begin() + rate, x.end() - rate) - x.begin();
      for (int c = 0; c < 2; ++c) std::fill_n(ret.channel(c).begin() + loudest - frames / 2, frames, 0.0);
      const auto r = of(sound, ret, rate);
      QVERIFY2(tells(r, "dropout") && !tells(r, "clicks"), qPrintable(told(r)));
      QVERIFY2(is_near(number(cause(r, "dropout"), "length_s"), double(frames) / rate, 2.5 / rate),
               qPrintable(told(r)));
      QCOMPARE(r.kind, Kind::changed);
    }
  }

  void hum_in_part_of_a_pair_at_96_khz_is_hum() {
    const int rate = 96000;
    const Planar sound = programme("wide", rate, 18, 45);
    Planar ret = sound;
    for (int64_t n = 6 * rate; n < 11 * rate; ++n) {
      const double t = double(n) / rate;
      for (int c = 0; c < 2; ++c)
        ret.channel(c)[size_t(n)] +=
            5e-4 * (std::sin(2 * pi * 50 * t) + 0.4 * std::sin(2 * pi * 100 * t) + 0.6 * std::sin(2 * pi * 150 * t));
    }
    const auto r = of(dithered_24(sound, 1), dithered_24(ret, 2), rate);
    QVERIFY2(tells(r, "hum") && r.kind == Kind::noise, qPrintable(told(r)));
    QVERIFY2(r.findings.front().text.starts_with("50 Hz hum"), r.findings.front().text.c_str());
  }

  /// Cut to a word length and dithered again, at 24 bits, by whatever wrote it last.
  void a_word_length_shows_beneath_later_dither_data() {
    QTest::addColumn<int>("bits");
    QTest::addColumn<double>("gain");
    QTest::newRow("16 bits") << 16 << 1.0;
    QTest::newRow("12 bits, quieter") << 12 << 0.7;
    QTest::newRow("8 bits") << 8 << 1.0;
    QTest::newRow("20 bits") << 20 << 1.0;
  }
  void a_word_length_shows_beneath_later_dither() {
    QFETCH(int, bits);
    QFETCH(double, gain);
    const Planar sound = dithered_24(programme("dense", 48000, 6, 46), 3);
    const auto r = of(sound, dithered_24(requantised(scaled(sound, gain), bits, false), 4), 48000);
    QVERIFY2(r.kind == (gain == 1 ? Kind::word_length : Kind::level), qPrintable(told(r)));
    QVERIFY2(tells(r, "word_length") && !tells(r, "distortion") && !tells(r, "noise"), qPrintable(told(r)));
    QCOMPARE(int(number(cause(r, "word_length"), "bits")), bits);
    const std::string& text = r.findings.front().text;
    QVERIFY2(text.starts_with(gain == 1 ? "Cut to " + std::to_string(bits) : "Only level and word length"),
             text.c_str());
  }
  /// And what keeps to no shorter word than its own is not said to: programmes, tones, levels that are held, silence.
  void what_keeps_to_no_shorter_word_is_not_said_to() {
    const auto bits_of = [&](const Planar& sound) {
      const auto file = save(folder_ / "word.wav", sound, 48000, WordFormat::pcm24);
      const auto clip = Clip::open(file);
      return word_length_beneath(*clip).value_or(24);
    };
    for (const char* name : {"dense", "piano", "speech", "drone", "bass"})
      QCOMPARE(bits_of(dithered_24(programme(name, 48000, 8, 47), 5)), 24);
    Planar held(2, 200000);
    for (size_t n = 0; n < 200000; ++n)
      for (int c = 0; c < 2; ++c) held.channel(c)[n] = std::clamp(3 * std::sin(0.003 * double(n)), -0.5, 0.5);
    QCOMPARE(bits_of(dithered_24(held, 6)), 24);
    QCOMPARE(bits_of(dithered_24(Planar(2, 100000), 7)), 24);
  }

  /// What the master kept to before is nothing that was done to it.
  void a_word_length_of_the_masters_own_is_not_told() {
    const Planar master = dithered_24(requantised(programme("dense", 48000, 6, 57), 16, true), 14);
    Planar hummed = scaled(master, -1);
    for (int c = 0; c < 2; ++c)
      for (int64_t n = 0; n < 20000; ++n) hummed.channel(c)[size_t(n)] = 0;
    for (const Planar& ret : {scaled(master, -1), hummed}) {
      const auto r = of(master, dithered_24(ret, 15), 48000);
      const Cause* word = cause(r, "word_length");
      QVERIFY2(!word || number(word, "bits") == 24, qPrintable(told(r)));
      QVERIFY2(r.findings.front().text.find("16 bits") == std::string::npos, r.findings.front().text.c_str());
    }
  }
  /// Nor has silence one.
  void silence_keeps_to_no_word() {
    const Planar sound = programme("dense", 48000, 4, 58);
    for (const WordFormat word : {WordFormat::pcm24, WordFormat::float32}) {
      const auto r = of(sound, Planar(2, sound.frames()), 48000, word);
      QVERIFY2(!tells(r, "word_length") && r.kind == Kind::changed, qPrintable(told(r)));
    }
  }

  /// What a 16-bit file has been dithered with at 24 bits is no move in time.
  void dither_at_24_bits_is_no_timing() {
    const Planar sound = requantised(programme("dense", 48000, 8, 48), 16, true);
    const auto r = of(sound, dithered_24(sound, 8), 48000);
    QVERIFY2(r.kind == Kind::word_length, qPrintable(told(r)));
    QVERIFY2(r.findings.front().text.starts_with("Dithered again at 24 bits"), r.findings.front().text.c_str());
  }

  /// Two channels that are one but for their dither are not swapped by what narrows them.
  void two_sides_that_are_one_are_not_swapped() {
    const int rate = 48000;
    Planar sound = programme("speech", rate, 10, 49);
    std::copy(sound.channel(0).begin(), sound.channel(0).end(), sound.channel(1).begin());
    sound = dithered_24(sound, 9);
    Planar mid = sound, side = sound;
    for (size_t n = 0; n < size_t(sound.frames()); ++n) {
      const double l = sound.channel(0)[n], r = sound.channel(1)[n];
      for (int c = 0; c < 2; ++c) mid.channel(c)[n] = (l + r) / 2, side.channel(c)[n] = (c == 0 ? 1 : -1) * (l - r) / 2;
    }
    side = filtered(side, rate, "low shelf", 700, 0.7, -30);
    for (int c = 0; c < 2; ++c)
      for (size_t n = 0; n < size_t(sound.frames()); ++n)
        side.channel(c)[n] = 0.9 * (mid.channel(c)[n] - side.channel(c)[n]);
    const auto r = of(sound, dithered_24(side, 10), rate);
    QVERIFY2(!tells(r, "swap") && !r.fit.swapped(), qPrintable(told(r)));
  }

  /// An all-pass turns what speech is made of by as much as a delay that drifts would.
  void an_all_pass_is_no_drift() {
    for (const char* name : {"speech", "piano"}) {
      const Planar sound = programme(name, 48000, 18, 50);
      const auto r = of(sound, filtered(sound, 48000, "all pass", 600, 0.7), 48000);
      QVERIFY2(tells(r, "phase") && !tells(r, "drift") && !tells(r, "eq"), qPrintable(told(r)));
    }
  }

  /// What lies beside the programme leans on its samples: it is no gain, and leaves nothing when it is taken out.
  void what_lies_beside_beats_moves_no_gain_data() {
    QTest::addColumn<QString>("what");
    for (const char* what : {"offset", "hum", "tone"}) QTest::newRow(what) << what;
  }
  void what_lies_beside_beats_moves_no_gain() {
    QFETCH(QString, what);
    const int rate = 44100;
    for (const char* name : {"drums", "loop"}) {
      const Planar sound = programme(name, rate, 12, 52);
      Planar ret = sound;
      for (int c = 0; c < 2; ++c)
        for (size_t n = 0; n < size_t(sound.frames()); ++n) {
          const double t = double(n) / rate;
          ret.channel(c)[n] += 1e-3 * (what == "offset" ? 1
                                       : what == "hum"  ? std::sin(2 * pi * 60 * t) + 0.5 * std::sin(2 * pi * 180 * t)
                                                        : std::sin(2 * pi * 1000 * t));
        }
      const auto r = of(sound, dithered_24(ret, 11), rate);
      QVERIFY2(std::abs(r.fit.gain_db) < 0.002 && !tells(r, "gain"), qPrintable(told(r)));
      const char* code = what == "offset" ? "dc" : what == "hum" ? "hum" : "tone";
      QVERIFY2(tells(r, code) && r.kind == Kind::noise, qPrintable(told(r)));
      QVERIFY2(cause(r, code)->after_db.value_or(-999) < -100, qPrintable(told(r)));
    }
  }

  /// Of a long pair only parts are read, and what an echo brings in behind their seams is not in them.
  void an_echo_of_a_long_pair_leaves_nothing() {
    const int rate = 96000;
    const Planar sound = programme("wide", rate, 20, 53);
    Planar ret = sound;
    const auto late = size_t(0.18 * rate);
    for (int c = 0; c < 2; ++c)
      for (size_t n = late; n < size_t(sound.frames()); ++n) ret.channel(c)[n] += 0.25 * sound.channel(c)[n - late];
    const auto r = of(sound, ret, rate);
    QVERIFY2(tells(r, "echo") && r.kind == Kind::linear, qPrintable(told(r)));
    QVERIFY2(is_near(number(cause(r, "echo"), "time_ms"), 180, 0.01), qPrintable(told(r)));
    QVERIFY2(cause(r, "echo")->after_db.value_or(-999) < -80, qPrintable(told(r)));
  }

  /// Of notes of one key the beginning of a return is more like some other one, by what is sharp in their spectra: it
  /// is looked for first where it should be.
  void a_programme_before_a_repeat_stays_in_its_place() {
    constexpr int rate = 96000;
    for (const uint64_t seed : {4, 6}) {
      const Planar s = programme("piano", rate, 12, seed);
      const auto at = int64_t(3.4321 * rate), more = int64_t(0.2 * rate);
      Planar twice(2, s.frames() + more);
      for (int c = 0; c < 2; ++c)
        for (int64_t n = 0; n < twice.frames(); ++n)
          twice.channel(c)[size_t(n)] = s.channel(c)[size_t(n < at ? n : n - more)];
      const auto r = of(s, with_crosstalk(twice, 0.8, 0.336), rate);
      QVERIFY2(tells(r, "repeat") && tells(r, "width") && !tells(r, "mute"), qPrintable(told(r)));
      QCOMPARE(std::count_if(r.causes.begin(), r.causes.end(), [](const Cause& c) { return c.code == "repeat"; }), 1);
    }
  }

  /// Dither makes one of a repeat's two equal borders a little better: it is still a repeat, to the sample.
  void a_repeat_under_dither_is_told_to_the_sample() {
    const int rate = 48000;
    for (const char* name : {"dense", "speech"}) {
      const Planar sound = programme(name, rate, 10, 54);
      constexpr int64_t at = 321000, length = 4410;
      Planar ret(2, sound.frames() + length);
      for (int c = 0; c < 2; ++c)
        for (int64_t n = 0; n < ret.frames(); ++n)
          ret.channel(c)[size_t(n)] = sound.channel(c)[size_t(n < at ? n : n - length)];
      const auto r = of(dithered_24(sound, 12), dithered_24(ret, 13), rate);
      QVERIFY2(tells(r, "repeat") && !tells(r, "word_length"), qPrintable(told(r)));
      QVERIFY2(is_near(number(cause(r, "repeat"), "at_s"), double(at) / rate, 2.0 / rate), qPrintable(told(r)));
    }
  }

  /// No conversion leaves so much: what happened besides has no name, and is not passed off as the conversion.
  void what_a_conversion_cannot_leave_is_a_change() {
    const Planar sound = programme("dense", 44100, 8, 55);
    const auto master = save(folder_ / "master.wav", sound, 44100, WordFormat::pcm24);
    const auto bent = save(folder_ / "bent.wav", flanged(sound, 44100), 44100, WordFormat::pcm24);
    const auto at_48 = Clip::at_rate(Clip::open(bent), 48000);
    Planar moved;
    at_48->reader()->read(0, at_48->format().frames, moved);
    const auto r = explained_null_of(master, save(folder_ / "ret.wav", moved, 48000, WordFormat::pcm24));
    QVERIFY2(r.kind == Kind::changed, qPrintable(told(r)));
  }

  /// No run is clipped before the first one.
  void clipped_runs_lie_from_the_first_on() {
    const int rate = 48000;
    const Planar sound = scaled(programme("dense", rate, 8, 56), 0.4);
    Planar ret = sound;
    for (int c = 0; c < 2; ++c)
      for (size_t n = 5 * rate; n < size_t(sound.frames()); ++n)
        ret.channel(c)[n] = std::clamp(20 * sound.channel(c)[n], -1.0, 1.0);
    const auto r = of(sound, ret, rate);
    const auto f = std::find_if(r.findings.begin(), r.findings.end(),
                                [](const Finding& one) { return one.code == "clipped_return"; });
    std::string codes;
    for (const Finding& one : r.findings) codes += one.code + " ";
    QVERIFY2(f != r.findings.end() && f->when_s, codes.c_str());
    QVERIFY(f->when_s->first > 4.99 && f->when_s->first < 5.5 && std::abs(f->when_s->second - 8) < 1e-6);
  }

  /// Gain takes out what it takes out: the levels before and after stand on the same samples.
  void a_gains_levels_are_read_off_the_same_samples() {
    int told_gains = 0;
    for (const char* name : {"speech", "dense"}) {
      const Planar sound = programme(name, 48000, 12, 51);
      Planar ret = sound;
      for (int c = 0; c < 2; ++c)
        for (double& x : ret.channel(c)) x = std::tanh(3 * x) / 3 * 0.98;
      const auto r = of(sound, ret, 48000);
      if (const Cause* gain = cause(r, "gain")) {
        QVERIFY2(*gain->after_db < *gain->before_db + 0.5, qPrintable(told(r)));
        ++told_gains;
      }
    }
    QVERIFY(told_gains > 0);
  }

  /// A jump of a few samples in the middle is no drift, and no speed that moves; its place is known to the sample.
  void a_skip_of_a_few_samples_is_one_data() {
    QTest::addColumn<QString>("name");
    QTest::addColumn<int>("samples");
    QTest::newRow("5 of a band") << "dense" << 5;
    QTest::newRow("5 of a voice") << "speech" << 5;
    QTest::newRow("12 of a choir") << "choir" << 12;
    QTest::newRow("37 of a piano") << "piano" << 37;
  }
  void a_skip_of_a_few_samples_is_one() {
    QFETCH(QString, name);
    QFETCH(int, samples);
    const Planar sound = programme(name.toStdString(), 48000, 9, 61);
    const int64_t at = 4 * 48000 + 777;
    const auto r = of(sound, cut_out(sound, at, samples), 48000);
    const Cause* skip = cause(r, "splice");
    QVERIFY2(skip && !tells(r, "wow") && !tells(r, "drift"), qPrintable(told(r)));
    QCOMPARE(number(skip, "jump_samples"), double(-samples));
    QVERIFY2(is_near(number(skip, "at_s"), double(at) / 48000, 0.002), qPrintable(told(r)));
    QVERIFY2(skip->after_db.value_or(-200) < -60, qPrintable(told(r)));
    QVERIFY2(skip->text.starts_with(std::to_string(samples) + " samples are missing at 0:04.0"), skip->text.c_str());
  }
};

SHARED_MAIN(TestEvidence)
#include "test_evidence.moc"
