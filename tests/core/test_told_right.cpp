// Returns that were once told as something else: what is told of them, and where.
#include <QtTest>
#include <cmath>
#include <numbers>

#include "core/audio/clip.hpp"
#include "core/compare/causes/of_pair.hpp"
#include "core/compare/explain.hpp"
#include "core/compare/json.hpp"
#include "core/dsp/fft.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"
#include "tests/support/stages.hpp"
#include "tests/support/treatments.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

/// Frame n is what the sound was at frame from(n); before and behind it there is nothing.
Planar laid_by(const Planar& sound, int64_t frames, const std::function<int64_t(int64_t n)>& from) {
  Planar out(sound.channels(), frames);
  for (int c = 0; c < sound.channels(); ++c)
    for (int64_t n = 0; n < frames; ++n)
      if (const int64_t k = from(n); k >= 0 && k < sound.frames())
        out.channel(c)[size_t(n)] = sound.channel(c)[size_t(k)];
  return out;
}

/// Blocks of 3000 frames, half overlapping, whose lines are each changed by chance.
Planar trembling(const Planar& sound, double by) {
  constexpr size_t size = 3000, hop = size / 2;
  Planar out(sound.channels(), sound.frames());
  dsp::RealFft<double> fft(size);
  dsp::Noise chance(6);
  for (int c = 0; c < sound.channels(); ++c)
    for (size_t at = 0; at + size <= size_t(sound.frames()); at += hop) {
      const auto window = [&](size_t n) { return std::sin(pi * (double(n) + 0.5) / size); };
      for (size_t n = 0; n < size; ++n) fft.time()[n] = sound.channel(c)[at + n] * window(n);
      fft.forward();
      for (auto& line : fft.spectrum()) line *= 1 + by * chance.between(-1, 1);
      fft.inverse();
      for (size_t n = 0; n < size; ++n) out.channel(c)[at + n] += fft.time()[n] * window(n) / size;
    }
  return out;
}

/// Sampled at half the rate and drawn straight between: what lies above a quarter of the rate is an image of what lies
/// below.
Planar with_images(Planar s) {
  for (int c = 0; c < s.channels(); ++c)
    for (size_t n = 1; n + 1 < size_t(s.frames()); n += 2)
      s.channel(c)[n] = (s.channel(c)[n - 1] + s.channel(c)[n + 1]) / 2;
  return s;
}

Planar only(const Planar& s, int channel) {
  Planar one(1, s.frames());
  std::copy(s.channel(channel).begin(), s.channel(channel).end(), one.channel(0).begin());
  return one;
}

}  // namespace

class TestToldRight : public StageTest {
  Q_OBJECT

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  /// One channel's delay is no EQ and no turn of phase, and the files' own is that of the other channel.
  void a_channel_that_comes_late_is_late_data() {
    QTest::addColumn<QString>("name");
    for (const char* name : {"wide", "near_mono", "drums"}) QTest::newRow(name) << name;
  }
  void a_channel_that_comes_late_is_late() {
    QFETCH(QString, name);
    const Planar sound = programme(name.toStdString(), 48000, 8, 3);
    Planar ret = sound;
    for (int64_t n = 0; n < ret.frames(); ++n)
      ret.channel(1)[size_t(n)] = n < 23 ? 0 : sound.channel(1)[size_t(n - 23)];
    const auto r = told_of(sound, ret, 48000);
    QVERIFY2(is_near(number(cause(r, "channel_delay"), "delay_samples"), 23, 0.02) && !tells(r, "eq"),
             qPrintable(told(r)));
    QVERIFY2(!tells(r, "delay") && !tells(r, "clicks") && r.fit.delay_samples == 0, qPrintable(told(r)));
  }

  /// Both late, by much and by more, and filtered: neither delay is a turn of phase.
  void both_channels_late_and_filtered_keep_their_delays() {
    const Planar sound = programme("wide", 48000, 8, 13), dull = filtered(sound, 48000, "high shelf", 4000, 0.7071, -6);
    Planar ret = sound;
    for (int c = 0; c < 2; ++c)
      for (int64_t n = 0, late = c ? 443 : 210; n < ret.frames(); ++n)
        ret.channel(c)[size_t(n)] = n < late ? 0 : dull.channel(c)[size_t(n - late)];
    const auto r = told_of(sound, ret, 48000);
    QVERIFY2(is_near(r.fit.delay_samples, 210, 0.5) && std::string(r.fit.polarity()) == "normal", qPrintable(told(r)));
    QVERIFY2(is_near(number(cause(r, "channel_delay"), "delay_samples"), 233, 0.1) && tells(r, "eq"),
             qPrintable(told(r)));
  }

  void a_turn_of_phase_is_no_drift() {
    const Planar sound = programme("piano", 48000, 16, 5);
    const auto r = told_of(sound, filtered(sound, 48000, "all pass", 2000, 0.7), 48000);
    QVERIFY2(tells(r, "phase") && !tells(r, "drift") && !tells(r, "delay") && !tells(r, "eq"), qPrintable(told(r)));
  }

  void an_image_that_the_master_has_is_no_alias() {
    const Planar sound = with_images(programme("drums", 44100, 12, 9));
    Planar ret = sound;
    for (int c = 0; c < 2; ++c)
      for (size_t n = 13900; n < size_t(sound.frames()); ++n) ret.channel(c)[n] += 0.085 * sound.channel(c)[n - 13900];
    const auto r = told_of(sound, ret, 44100);
    QVERIFY2(tells(r, "echo") && !tells(r, "alias"), qPrintable(told(r)));
    for (const Finding& f : r.findings) QVERIFY2(f.code != "alias" && f.code != "image", f.text.c_str());
  }

  /// By way of a lower rate and back: the band ends, and nothing was added, at the ends of the file either.
  void by_way_of_another_rate_the_band_ends() {
    const Planar sound = programme("dense", 48000, 12, 2);
    const auto master = Clip::open(save(folder_ / "m.wav", sound, 48000, WordFormat::pcm24));
    const auto there = run(master, {{{"type", "converter"}, {"rate_hz", 32000}, {"by", "libsoxr"}}});
    const auto back = run(there, {{{"type", "converter"}, {"rate_hz", 48000}, {"by", "libsoxr"}}});
    Planar ret;
    back->reader()->read(0, sound.frames(), ret);
    const auto r = told_of(sound, ret, 48000, WordFormat::float32);
    QVERIFY2(is_near(number(cause(r, "band_limit"), "hz"), 14900, 200), qPrintable(told(r)));
    QVERIFY2(!tells(r, "noise") && !tells(r, "clicks") && !tells(r, "eq"), qPrintable(told(r)));
  }

  void a_word_length_is_told_behind_a_conversion_data() {
    QTest::addColumn<bool>("dithered");
    QTest::addColumn<QString>("dither");
    QTest::newRow("dithered") << true << "triangular";
    QTest::newRow("rounded") << false << "none";
  }
  void a_word_length_is_told_behind_a_conversion() {
    QFETCH(bool, dithered);
    QFETCH(QString, dither);
    const auto r =
        told_behind_a_conversion([&](const Planar& ret) { return requantised(scaled(ret, 0.9), 16, dithered); });
    const Cause* word = cause(r, "word_length");
    QVERIFY2(word && word->values["bits"] == 16 && word->values["dither"] == dither.toStdString(), qPrintable(told(r)));
    QVERIFY2(!tells(r, "noise"), qPrintable(told(r)));
  }

  /// What is laid on top may rise and fall with the music by chance; nothing in it is like the music.
  void another_programme_may_seem_to_keep_time() {
    const Planar sound = programme("dense", 44100, 8, 1);
    dsp::Noise chance(31 * 42);  // speech on top
    const auto r = told_of(sound, treatment("other programme").run(sound, 44100, chance), 44100);
    QVERIFY2(tells(r, "other_programme"), qPrintable(told(r)));
  }

  /// Louder than any dither of that length, and not shaped: it was added.
  void noise_behind_a_conversion_is_no_word_length() {
    const auto r =
        told_behind_a_conversion([](const Planar& ret) { return with_noise(ret, std::pow(10, -80.0 / 20), 4); });
    QVERIFY2(is_near(number(cause(r, "noise"), "level_dbfs"), -80, 1) && !tells(r, "word_length"), qPrintable(told(r)));
  }

  /// Of a file so long that only stretches of it are read.
  void of_a_long_file_places_and_whole_channels_are_told() {
    const Planar sound = programme("wide", 96000, 20, 4);
    const auto muted =
        told_of(sound, gained(sound, [](size_t n) { return n >= 1234567 && n < 1234567 + 190000 ? 0.0 : 1.0; }), 96000);
    QVERIFY2(is_near(number(cause(muted, "mute"), "at_s"), 1234567 / 96000.0, 0.001) &&
                 is_near(number(cause(muted, "mute"), "length_s"), 190000 / 96000.0, 0.002),
             qPrintable(told(muted)));
    Planar ret = sound;
    std::fill(ret.channel(1).begin(), ret.channel(1).end(), 0);
    const auto silent = told_of(sound, ret, 96000);
    QVERIFY2(tells(silent, "silent_channel") && !tells(silent, "mute"), qPrintable(told(silent)));
  }

  /// The place nearest to where it was, of all bars that fit; and where the start lies is said.
  void silence_put_into_a_loop_stands_where_it_was_put() {
    const Planar sound = programme("loop", 44100, 16, 7);
    const int64_t at = 331234, more = 16813;
    const auto r = told_of(
        sound,
        laid_by(sound, sound.frames() + more, [=](int64_t n) { return n < at          ? n
                                                                      : n < at + more ? -1
                                                                                      : n - more; }),
        44100);
    QVERIFY2(is_near(number(cause(r, "insert"), "at_s"), double(at) / 44100, 0.01) &&
                 is_near(number(cause(r, "insert"), "jump_samples"), double(more), 0.5),
             qPrintable(told(r)));
    QVERIFY2(!tells(r, "mute") && !tells(r, "other_programme"), qPrintable(told(r)));
    if (const Cause* delay = cause(r, "delay")) QCOMPARE(number(delay, "at_start_samples"), 0.0);
  }

  /// From the first note on: what an expander does there is no fade, and peaks of which there are few are held at a
  /// level all the same.
  void dynamics_of_few_notes_are_named() {
    const Planar sound = programme("piano", 48000, 8, 2);
    for (const uint64_t seed : {1, 2, 3}) {
      dsp::Noise chance(1116 + 31 * seed);
      const auto expanded = told_of(sound, treatment("expander").run(sound, 48000, chance), 48000);
      QVERIFY2(tells(expanded, "expander") && !tells(expanded, "fade"), qPrintable(told(expanded)));
      const auto limited = told_of(sound, treatment("limiter").run(sound, 48000, chance), 48000);
      QVERIFY2(tells(limited, "limiter"), qPrintable(told(limited)));
    }
  }

  void what_alone_differs_is_listed_to_its_end() {
    const Planar sound = programme("wide", 48000, 6, 3);
    Planar swapped = sound;
    for (int c = 0; c < 2; ++c) std::copy_n(sound.channel(1 - c).begin(), sound.frames(), swapped.channel(c).begin());
    const auto headline = [&](const Planar& ret) { return told_of(sound, ret, 48000).findings.front().text; };
    QVERIFY(headline(swapped).starts_with("Only the channels are not in place"));
    QVERIFY(headline(scaled(swapped, 0.5)).starts_with("Only level and the channels' places differ"));
    QVERIFY(headline(scaled(swapped, -0.5)).starts_with("Only level, polarity and the channels' places differ"));
    QVERIFY(headline(scaled(sound, -1)).starts_with("Only polarity differs"));
    QVERIFY(headline(scaled(sound, 0.5)).starts_with("Only the level differs"));
    const auto late = laid_by(sound, sound.frames() + 500, [](int64_t n) { return n - 500; });
    QVERIFY(headline(scaled(late, -1)).starts_with("Only polarity and timing differ"));
  }

  /// Where a curve bends the peaks, what is not known better of it stands there: nobody added that.
  void what_a_curve_leaves_on_peaks_is_no_click() {
    for (const char* name : {"piano", "loop"}) {
      const Planar sound = programme(name, 48000, 10, 9);
      Planar ret = sound;
      for (int c = 0; c < 2; ++c)
        for (double& x : ret.channel(c)) x = std::atan(1.5 * x) / 1.5;
      const auto r = told_of(sound, ret, 48000);
      QVERIFY2(tells(r, "distortion") && !tells(r, "clicks"), qPrintable(told(r)));
    }
    const Planar low = programme("bass", 48000, 8, 9);  // clicks that were added stand anywhere
    dsp::Noise chance(4);
    const auto r = told_of(low, treatment("clicks").run(low, 48000, chance), 48000);
    QVERIFY2(tells(r, "clicks"), qPrintable(told(r)));
  }

  /// A converter moves it, and ends the band a little sooner: no EQ, and the speed is what is told first.
  void the_edge_of_what_moved_it_is_no_eq() {
    const Planar sound = programme("choir", 48000, 10, 6);
    const Planar ended = with_spectrum(
        sound, 48000, [](double hz) { return (1 + std::cos(pi * std::clamp((hz - 22300) / 1200, 0.0, 1.0))) / 2; });
    Planar ret;
    const auto clip = Clip::open(save(folder_ / "edge.wav", ended, 48000, WordFormat::float64));
    Fit faster;
    faster.drift_ppm = 120;
    AlignedReturn(*clip, faster).read(0, sound.frames() - 100, ret);
    const auto r = told_of(sound, ret, 48000);
    QCOMPARE(r.kind, Kind::shifted);
    QVERIFY2(is_near(r.fit.drift_ppm, -120, 0.1), qPrintable(told(r)));
    QVERIFY2(is_near(number(cause(r, "band_limit"), "hz"), 22750, 250) && !tells(r, "eq"), qPrintable(told(r)));
    QVERIFY2(r.findings.front().text.find("Only the timing and the top of the band differ. The band ends at 22.") == 0,
             r.findings.front().text.c_str());
  }

  /// A little above the fall there is nothing but a tone far up, which is gone too: that is no notch.
  void the_band_of_a_sparse_top_ends_where_it_falls() {
    Planar sound = with_spectrum(programme("dense", 96000, 10, 6), 96000, [](double hz) {
      return hz > 21400 ? 0 : std::pow(10, -std::max(0.0, hz - 9000) * 40 / 12400 / 20);
    });
    for (int c = 0; c < 2; ++c)
      for (int64_t n = 0; n < sound.frames(); ++n)
        sound.channel(c)[size_t(n)] += 0.02 * std::sin(2 * pi * 27400 / 96000 * double(n));
    const auto r =
        told_of(sound,
                with_spectrum(sound, 96000,
                              [](double hz) { return std::pow(10, -std::clamp((hz - 20350) / 50, 0.0, 100.0) / 20); }),
                96000);
    QVERIFY2(is_near(number(cause(r, "band_limit"), "hz"), 20500, 150) && !tells(r, "eq"), qPrintable(told(r)));
  }

  void wow_of_a_voice_with_pauses_keeps_its_depth() {
    const Planar sound = only(programme("speech", 48000, 12, 6), 0);
    const double rate_hz = 2.1, depth = 5.9;
    const auto r = told_of(sound, with_wow(sound, 48000, rate_hz, depth), 48000);
    const Cause* wow = cause(r, "wow");
    const double percent = 100 * depth * 2 * std::numbers::pi * rate_hz / 48000;
    QVERIFY2(is_near(number(wow, "rate_hz"), rate_hz, 0.15) && is_near(number(wow, "depth_samples"), depth, 1) &&
                 is_near(number(wow, "depth_percent"), percent, 0.2 * percent),
             qPrintable(told(r)));
  }

  /// In a long file the frequency must be known to a thousandth of a hertz.
  void a_tone_is_taken_out_whole() {
    const Planar sound = programme("from_silence", 48000, 24, 1);
    Planar ret = sound;
    for (int c = 0; c < 2; ++c)
      for (size_t n = 0; n < size_t(ret.frames()); ++n)
        ret.channel(c)[n] += 1.2e-4 * std::sin(2 * std::numbers::pi * 1234.5456 * double(n) / 48000);
    const auto r = told_of(sound, ret, 48000);
    QVERIFY2(is_near(number(cause(r, "tone"), "hz"), 1234.5456, 0.001), qPrintable(told(r)));
    QVERIFY2(db(cause(r, "tone")->before_db) - db(cause(r, "tone")->after_db) > 50, qPrintable(told(r)));
  }

  /// Loops hold still as hum does, but for a bar only.
  void hum_on_a_loop_is_hum() {
    const Planar sound = programme("loop", 48000, 8, 6);
    Planar ret = sound;
    for (int c = 0; c < 2; ++c)
      for (size_t n = 0; n < size_t(ret.frames()); ++n)
        ret.channel(c)[n] += 4e-3 * std::sin(2 * std::numbers::pi * 50 * double(n) / 48000 + 1);
    const auto r = told_of(sound, ret, 48000);
    QVERIFY2(tells(r, "hum") && !tells(r, "eq"), qPrintable(told(r)));
  }

  /// Every moment and band a little louder or softer, as a coder makes them that leaves no other trace: the 16 bits
  /// that it was written to are no answer.
  void what_explains_nothing_is_no_headline() {
    for (const char* name : {"wide", "dense", "choir"}) {
      const auto sound = programme(name, 48000, 8, 5);
      const auto report = explained_null_of(save(folder_ / "m.wav", sound, 48000, WordFormat::pcm24),
                                            save(folder_ / "r.wav", trembling(sound, 0.1), 48000, WordFormat::pcm16));
      const auto& said = report.findings.front().text;
      QVERIFY2(said.find("16 bits") == std::string::npos, said.c_str());
      QVERIFY2(tells(report, "word_length"), told(report).toUtf8());  // among the findings it stands
    }
  }

  /// An offset is nothing of a filter's, though the programme has no bass of its own; nor is it what cutting the word
  /// makes, however well the rest of that fits.
  void an_offset_is_one_beside_a_filter_and_a_word_length() {
    const auto offset = [](Planar s) {
      for (int c = 0; c < 2; ++c)
        for (double& x : s.channel(c)) x += 0.002;
      return s;
    };
    for (const char* name : {"choir", "piano"}) {
      const Planar sound = programme(name, 44100, 12, 6058), narrow = with_crosstalk(sound, 0.9, 0.1);
      const auto r = told_of(sound, offset(filtered(narrow, 44100, "bell", 1000, 1, -2.8)), 44100);
      QVERIFY2((tells(r, "width") || tells(r, "crosstalk")) && !tells(r, "channel_gain"), qPrintable(told(r)));
      QVERIFY2(is_near(number(cause(r, "dc"), "offset"), 0.002, 1e-5), qPrintable(told(r)));
      const Cause* eq = cause(r, "eq");
      QVERIFY2(eq && is_near(eq->values["sections"][0]["gain_db"].get<double>(), -2.8, 0.1), qPrintable(told(r)));
    }
    const Planar loop = programme("loop", 48000, 8, 8918);
    const auto r = told_of(loop, requantised(offset(scaled(loop, 0.85)), 16, false), 48000, WordFormat::pcm16);
    QVERIFY2(is_near(number(cause(r, "dc"), "offset"), 0.002, 1e-5), qPrintable(told(r)));
    QVERIFY2(tells(r, "word_length") && cause(r, "word_length")->before_db < -60, qPrintable(told(r)));
  }

  /// A step of the level rings in the converter behind it, which nobody added.
  void a_step_before_a_conversion_is_no_click() {
    const Planar sound = programme("swells", 44100, 10, 6040);
    const auto master = save(folder_ / "m.wav", sound, 44100, WordFormat::pcm24);
    const Planar down = gained(sound, [](size_t n) { return n < 5 * 44100 ? 1.0 : n < 242550 ? 0.86 : 0.83; });
    const auto stepped = Clip::open(save(folder_ / "s.wav", down, 44100, WordFormat::float32));
    const auto there = run(stepped, {{{"type", "converter"}, {"rate_hz", 48000}, {"by", "libsoxr"}}});
    Planar ret = samples_of(*there);
    const auto r = explained_null_of(master, save(folder_ / "r.wav", ret, 48000, WordFormat::pcm24));
    QVERIFY2(number(cause(r, "gain_step"), "count") == 2 && !tells(r, "clicks"), qPrintable(told(r)));
    ret.channel(0)[size_t(5 * 48000 + 20)] += 0.5;  // where it was cut, something clicks
    const auto cut = explained_null_of(master, save(folder_ / "c.wav", ret, 48000, WordFormat::pcm24));
    QVERIFY2(tells(cut, "clicks"), qPrintable(told(cut)));
  }

  /// A speed changed by a converter ends the band a little: no engineer set that.
  void the_edge_of_a_drift_is_no_needle() {
    const Planar sound = programme("swells", 96000, 10, 7880);
    const auto eq =
        Clip::open(save(folder_ / "eq.wav", filtered(sound, 96000, "bell", 3000, 0.7, -3.2), 96000, WordFormat::pcm24));
    const auto slower = run(eq, {{{"type", "converter"}, {"rate_hz", 96048}, {"by", "libsoxr"}}});
    const auto r = told_of(sound, samples_of(*slower), 96000);
    const Cause* c = cause(r, "eq");
    QVERIFY2(tells(r, "drift") && c && c->values["sections"].size() == 1 &&
                 is_near(c->values["sections"][0]["hz"].get<double>(), 3000, 90),
             qPrintable(told(r)));
  }

  /// The band ends, and as much is changed besides, each line by chance: that has no name, and the end of the band is
  /// not all that happened.
  void the_end_of_the_band_is_not_all_where_as_much_is_left() {
    const Planar sound = programme("dense", 48000, 10, 21);
    const auto ends = [](double hz) { return hz < 19000 ? 1.0 : 0.0; };
    const Planar dull = with_spectrum(sound, 48000, ends);
    Planar changed = trembling(dull, 0.3);
    for (int c = 0; c < 2; ++c)  // which does nothing to the ends
      for (size_t n = 0, all = size_t(sound.frames()); n < all; ++n)
        if (n < 6000 || n + 6000 > all) changed.channel(c)[n] = dull.channel(c)[n];
    const auto alone = told_of(sound, dull, 48000), more = told_of(sound, changed, 48000);
    QCOMPARE(name_of(alone.kind), "linear");
    QVERIFY2(tells(more, "band_limit") && std::string(name_of(more.kind)) == "changed" &&
                 more.findings.front().text.find("no cause explains") != std::string::npos,
             qPrintable(told(more) + more.findings.front().text.c_str()));
  }

  /// What is cut off pulls the gain, and noise hides that the tops are flat.
  void a_clip_under_noise_is_one() {
    const Planar sound = programme("loop", 48000, 8, 278);
    Planar ret = sound;
    dsp::Noise chance(4);
    for (int c = 0; c < 2; ++c)
      for (double& x : ret.channel(c)) x = std::clamp(x, -0.33, 0.33) + 0.003 * chance.gaussian();
    const auto report = told_of(sound, ret, 48000, WordFormat::pcm24);
    const Cause* clip = cause(report, "clip");
    QVERIFY2(clip && tells(report, "noise") && report.causes.size() == 2, qPrintable(told(report)));
    QVERIFY(is_near(number(clip, "level_dbfs"), 20 * std::log10(0.33), 0.02));
  }

  /// Beats that are all alike come back at one level whatever turned them down; peaks of many heights do not.
  void a_compressor_of_a_loop_is_no_limiter_data() {
    QTest::addColumn<QString>("what");
    QTest::addColumn<QString>("name");
    QTest::newRow("compressed loop") << "compressor"
                                     << "loop";
    QTest::newRow("limited from silence") << "limiter"
                                          << "from_silence";
    QTest::newRow("limited drums") << "limiter"
                                   << "drums";
  }
  void a_compressor_of_a_loop_is_no_limiter() {
    QFETCH(QString, what);
    QFETCH(QString, name);
    const Planar sound = programme(name.toStdString(), 44100, 8, 145);
    for (const uint64_t seed : {45, 46}) {
      dsp::Noise chance(seed);
      const auto report =
          told_of(sound, treatment(what.toStdString()).run(sound, 44100, chance), 44100, WordFormat::pcm24);
      QVERIFY2(tells(report, what.toStdString()), qPrintable(told(report)));
    }
  }

  void a_fade_and_a_step_are_not_ten_steps() {
    const Planar sound = programme("drums", 44100, 8, 182);
    const auto gain = [](int64_t n) {
      const double u = std::clamp(double(n) / 90000, 0.0, 1.0);
      return (0.5 - 0.5 * std::cos(std::numbers::pi * u)) * (n < 211000 ? 1 : 0.727);
    };
    const auto report = told_of(sound, gained(sound, gain), 44100, WordFormat::pcm24);
    const Cause* step = cause(report, "gain_step");
    QVERIFY2(tells(report, "fade") && step, qPrintable(told(report)));
    QCOMPARE(step->values["count"].get<int>(), 1);
    QVERIFY(is_near(number(step, "step_db"), 20 * std::log10(0.727), 0.05));
  }

  /// What an EQ leaves of itself must not hide them; and where a mute cuts the wave there is none.
  void clicks_are_counted_beside_an_eq_and_not_at_a_mute() {
    const Planar sound = programme("speech", 48000, 10, 11);
    Planar ret = filtered(sound, 48000, "low shelf", 120, 0.7071, 2.8);
    for (const size_t at : {100001, 203003, 311117}) ret.channel(0)[at] += 0.15, ret.channel(1)[at] += 0.15;
    const auto r = told_of(sound, ret, 48000);
    QVERIFY2(number(cause(r, "clicks"), "count") == 3 && tells(r, "eq"), qPrintable(told(r)));
    const auto muted =
        told_of(sound, gained(sound, [](size_t n) { return n >= 150000 && n < 210000 ? 0.0 : 1.0; }), 48000);
    QVERIFY2(tells(muted, "mute") && !tells(muted, "clicks"), qPrintable(told(muted)));
  }

  /// A bell's is most of it in its own octave, hum's in the lowest ones; over time both together come to the level
  /// told.
  void where_a_cause_lies_is_told_by_octave_and_time() {
    const Planar sound = programme("dense", 48000, 8, 3);
    Planar ret = filtered(sound, 48000, "bell", 4000, 1, 4);
    for (int c = 0; c < 2; ++c)
      for (size_t n = 0; n < size_t(ret.frames()); ++n)
        ret.channel(c)[n] += 2e-3 * std::sin(2 * std::numbers::pi * 60 * double(n) / 48000);
    const auto r = told_of(sound, ret, 48000);
    const Cause *eq = cause(r, "eq"), *hum = cause(r, "hum");
    QVERIFY2(eq && hum, qPrintable(told(r)));
    const auto octave = [](const Cause* c, double hz) {
      return *std::find_if(c->by_octave.begin(), c->by_octave.end(),
                           [&](const LeftAt& l) { return std::abs(std::log2(l.at / hz)) < 0.1; });
    };
    QVERIFY(octave(eq, 4000).before_db - octave(eq, 4000).after_db > 40);
    QVERIFY(octave(eq, 4000).before_db > octave(eq, 500).before_db + 10);
    QVERIFY(octave(hum, 62.5).before_db - octave(hum, 62.5).after_db > 30);
    QVERIFY(octave(hum, 4000).before_db - octave(hum, 4000).after_db < 3);
    const auto by_eq = eq->by_octave, by_hum = hum->by_octave;
    QVERIFY2(eq < hum && by_eq.size() == by_hum.size(), qPrintable(told(r)));  // each begins where the last one ended
    for (size_t n = 0; n < by_eq.size(); ++n) QCOMPARE(by_eq[n].after_db, by_hum[n].before_db);
    for (const Json& c : null_json(r)["causes"])
      if (c["code"] == "eq" || c["code"] == "hum")
        QVERIFY(c["by_octave"].size() == by_eq.size() && c["over_time"][0].size() == 3);
    for (const Cause* c : {eq, hum})
      for (const LeftAt& l : c->over_time) QVERIFY(l.at > 0 && l.at < 8 && l.before_db > l.after_db - 0.5);
  }

  /// What a coder does at the edges of its band is its own; in the middle somebody else did it.
  void an_eq_at_the_edge_is_the_coders() {
    NullReport r;
    r.sums.master = 1, r.sums.residual = 4e-3;
    for (const auto& [hz, kind] : {std::pair{26.0, Kind::lossy}, {3000.0, Kind::changed}, {18000.0, Kind::lossy}}) {
      Cause eq{.code = "eq", .before_db = -24.0, .after_db = -39.0}, coded{.code = "lossy", .before_db = -39.0};
      eq.values = {{"most_hz", hz}};
      QCOMPARE(name_of(kind_by_causes({eq, coded}, r)), name_of(kind));
    }
  }

  void of_a_mono_file_no_channel_is_named() {
    const Planar sound = only(programme("speech", 48000, 8, 2), 0);
    const auto r = told_of(sound, filtered(sound, 48000, "high pass", 110, 0.7071), 48000);
    QVERIFY2(cause(r, "eq") && !QString::fromStdString(cause(r, "eq")->text).contains("channel"), qPrintable(told(r)));
  }

  /// Of a wide master one side in both: whatever delay lies between its channels is not the return's.
  void one_side_in_both_has_no_delay() {
    const Planar sound = programme("piano", 48000, 12, 9);
    Planar ret = sound;
    std::copy(sound.channel(1).begin(), sound.channel(1).end(), ret.channel(0).begin());
    const auto r = told_of(sound, ret, 48000);
    QVERIFY2(tells(r, "copied_channel") && !tells(r, "channel_delay"), qPrintable(told(r)));
  }

 private:
  /// 16 bits at 44.1 kHz, converted to 48 kHz, something done to it, and 16 bits again.
  NullReport told_behind_a_conversion(const std::function<Planar(const Planar&)>& done) {
    const Planar sound = scaled(programme("dense", 44100, 8, 12), 0.9);
    const auto master = save(folder_ / "m.wav", sound, 44100, WordFormat::pcm16);
    const auto other = run(Clip::open(master), {{{"type", "converter"}, {"rate_hz", 48000}, {"by", "libsoxr"}}});
    return explained_null_of(master, save(folder_ / "r.wav", done(samples_of(*other)), 48000, WordFormat::pcm16));
  }
  NullReport told_of(const Planar& master, const Planar& ret, int rate, WordFormat word = WordFormat::pcm24) {
    return test::told_of(folder_, master, ret, rate, word);
  }
};

SHARED_MAIN(TestToldRight)
#include "test_told_right.moc"
