// Pairs too long to be read whole by every estimate: what is read of them, and that they are told as short ones are.
#include <QtTest>
#include <cmath>
#include <numbers>
#include <numeric>

#include "core/compare/causes/outline.hpp"
#include "core/compare/path.hpp"
#include "core/compare/segments.hpp"
#include "core/measure/loudness.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"
#include "tests/support/treatments.hpp"

using namespace heathmist;
using namespace heathmist::test;

class TestLongPairs : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  void segments_stand_for_all_and_hold_the_strongest() {
    dsp::Noise chance(5);
    for (int round = 0; round < 50; ++round) {
      const int64_t count = 1 + int64_t(chance.between(0, 200)), most = 3 + int64_t(chance.between(0, 30));
      constexpr int rate = 48000;
      const int64_t piece = loudness_piece_frames(rate) / 5, frames = 7 * piece;
      ResidualSums sums;
      size_t loudest = 0;
      for (int64_t n = 0; n < 7 * count; ++n) {
        sums.short_pieces.mm.push_back(0), sums.short_pieces.mr.push_back(0);
        sums.short_pieces.rr.push_back(float(chance.between(0, 1)));
        if (sums.short_pieces.rr.back() > sums.short_pieces.rr[loudest]) loudest = size_t(n);
      }
      sums.short_pieces.rr[loudest] = 100;
      const auto chosen = segments_of(sums, Fit{}, rate, count, frames, most);
      QCOMPARE(int64_t(chosen.size()), std::min(count, most));
      double weight = 0;
      bool holds = false;
      for (size_t n = 0; n < chosen.size(); ++n) {
        QVERIFY(chosen[n].index >= 0 && chosen[n].index < count && (n == 0 || chosen[n].index > chosen[n - 1].index));
        weight += chosen[n].weight;
        holds |= chosen[n].index == int64_t(loudest) / 7 && chosen[n].weight == 1;
      }
      QVERIFY(std::abs(weight - double(count)) < 1e-9);
      QVERIFY(holds);
    }
  }

  /// With an echo and noise, louder in the middle: the remainder is the noise's, loud and soft.
  void the_split_of_a_long_pair_is_that_of_all_of_it() {
    constexpr int rate = 8000;
    constexpr int64_t frames = 400 * rate;
    dsp::Noise chance(9);
    Planar master(1, frames), ret(1, frames);
    double left = 0;
    for (int64_t n = 0; n < frames; ++n) {
      const double x = 0.1 * chance.gaussian(), noise = (n / rate / 4 == 54 ? 0.02 : 1e-3) * chance.gaussian();
      master.channel(0)[size_t(n)] = x;
      ret.channel(0)[size_t(n)] = x + (n > 200 ? 0.05 * master.channel(0)[size_t(n - 200)] : 0) + noise;
      left += noise * noise;
    }
    const auto m = Clip::open(save(folder_ / "m.wav", master, rate)),
               r = Clip::open(save(folder_ / "r.wav", ret, rate));
    const auto report = null_test(m, r);
    const Split split = split_residual(*m, *r, report.fit, report.sums);
    QVERIFY(is_near(10 * std::log10(split.remainder_power / (left / frames)), 0, 0.1));
    QVERIFY(is_near(10 * std::log10(split.linear_power), 10 * std::log10(0.05 * 0.05 * 0.01), 0.1));
  }

  /// The start, the end, and what lies under them is what lies there in the whole.
  void an_outline_is_part_of_its_excerpt() {
    const Planar sound = programme("drums", 44100, 24, 3);
    dsp::Noise chance(2);
    const auto m = Clip::open(save(folder_ / "m.wav", sound, 44100)),
               r = Clip::open(save(folder_ / "r.wav", treatment("step").run(sound, 44100, chance), 44100));
    const auto report = null_test(m, r);
    const auto whole = causes::take_excerpt(*m, *r, report.fit, report.sums, {}, {}, 1 << 30);
    const auto outline = causes::outline_of(whole, 100000);
    QVERIFY(!outline.whole && outline.frames() * 2 <= 100000 && outline.frames() > 40000);
    QCOMPARE(outline.stretches.front().first, report.fit.first);
    QCOMPARE(outline.stretches.back().first + outline.stretches.back().frames, report.fit.last);
    for (int64_t n = 0; n < outline.frames(); n += 97) {
      const auto place = size_t(outline.time_of(n));
      QCOMPARE(outline.ret.channel(1)[size_t(n)], whole.ret.channel(1)[place]);
      QCOMPARE(outline.master->channel(0)[size_t(n)], whole.master->channel(0)[place]);
    }
  }

  /// However long it is: what is read of it begins and ends with the pair, in order and nowhere twice.
  void stretches_begin_and_end_with_the_pair() {
    constexpr int rate = 8000;
    const auto sound = programme("dense", rate, 61, 4);
    dsp::Noise chance(12);
    for (int round = 0; round < 30; ++round) {
      const auto frames = int64_t(chance.between(3.5, 60) * rate);
      Planar part(sound.channels(), frames);
      for (int c = 0; c < part.channels(); ++c) std::copy_n(sound.channel(c).begin(), frames, part.channel(c).begin());
      const auto m = Clip::open(save(folder_ / "m.wav", part, rate)),
                 r = Clip::open(save(folder_ / "r.wav", scaled(part, 0.5), rate));
      const auto report = null_test(m, r);
      const int64_t most = 3 * rate * part.channels();
      Continuity breaks;
      const double length = round % 2 ? 0.01 : chance.between(0.26, 3), duration = double(frames) / rate;
      breaks.breaks.push_back({BreakKind::dropout, chance.between(0, 1) * (duration - length), length});
      const auto e = causes::take_excerpt(*m, *r, report.fit, report.sums, breaks, {}, most);
      QVERIFY(e.whole ? e.frames() * e.pairs() <= most : e.frames() * e.pairs() <= most * 8 / 5);
      QCOMPARE(e.stretches.front().first, report.fit.first);
      QCOMPARE(e.stretches.back().first + e.stretches.back().frames, report.fit.last);
      for (size_t n = 1; n < e.stretches.size(); ++n)
        QVERIFY(e.stretches[n].first >= e.stretches[n - 1].first + e.stretches[n - 1].frames);
      for (const double end : {0.0, length}) {
        const auto broken = std::min(frames - 1, int64_t((breaks.breaks.front().at_s + end) * rate));
        QVERIFY2(std::any_of(e.stretches.begin(), e.stretches.end(),
                             [&](const auto& s) { return broken >= s.first && broken < s.first + s.frames; }),
                 qPrintable(QString("%1 of %2").arg(broken).arg(frames)));
      }
      for (const auto& s : e.stretches)
        for (int64_t n = 0; n < s.frames; n += 101)
          QCOMPARE(e.master->channel(0)[size_t(s.at + n)], part.channel(0)[size_t(s.first + n)]);
    }
  }

  /// A bass plays one note at a time, and each comes later or earlier by its own phase.
  void notes_that_a_filter_turns_are_no_jumps() {
    const Planar sound = programme("bass", 48000, 50, 8);
    const auto report = told_of(folder_, sound, filtered(sound, 48000, "all pass", 640, 0.7), 48000, WordFormat::pcm24);
    QVERIFY2(tells(report, "phase") && !tells(report, "insert") && !tells(report, "wow"), qPrintable(told(report)));
  }

  void what_is_added_in_part_has_a_name() {
    const Planar sound = programme("choir", 44100, 60, 9);
    dsp::Noise chance(3);
    Planar hum = sound, noise = sound;
    for (size_t n = 40 * 44100; n < size_t(sound.frames()); ++n)
      for (int c = 0; c < 2; ++c) {
        hum.channel(c)[n] += std::sqrt(2e-6) * std::sin(2 * std::numbers::pi * 60 * double(n) / 44100);
        noise.channel(c)[n] += 1e-3 * chance.gaussian();
      }
    const auto hummed = told_of(folder_, sound, hum, 44100, WordFormat::pcm24),
               noisy = told_of(folder_, sound, noise, 44100, WordFormat::pcm24);
    QVERIFY2(is_near(number(cause(hummed, "hum"), "level_dbfs"), -60, 0.3), qPrintable(told(hummed)));
    QVERIFY2(is_near(number(cause(noisy, "noise"), "level_dbfs"), -60, 0.3), qPrintable(told(noisy)));
  }

  /// The end of a song is where it fades.
  void a_fade_is_told_at_the_end_of_any_length_data() {
    QTest::addColumn<double>("seconds");
    for (const double seconds : {37.3, 44.0, 59.9}) QTest::addRow("%.1f s", seconds) << seconds;
  }
  void a_fade_is_told_at_the_end_of_any_length() {
    QFETCH(double, seconds);
    const Planar sound = programme("dense", 44100, seconds, 8);
    const double start = seconds - 2.5;
    const Planar faded =
        gained(sound, [&](size_t n) { return std::clamp((seconds - double(n) / 44100) / 2.5, 0.0, 1.0); });
    const auto report = told_of(folder_, sound, faded, 44100, WordFormat::pcm24);
    QVERIFY2(tells(report, "fade") && is_near(number(cause(report, "fade"), "start_s"), start, 0.05),
             qPrintable(told(report)));
  }

  /// However long: its ends are read, and that nothing came back between them.
  void a_mute_is_told_from_end_to_end_data() {
    QTest::addColumn<double>("from");
    QTest::addColumn<double>("length");
    for (const auto& [from, length] : {std::pair{20.1234, 0.7}, {13.3333, 3.1}, {9.777, 21.5}, {37.2, 12.25}})
      QTest::addRow("%.1f s", length) << from << length;
  }
  void a_mute_is_told_from_end_to_end() {
    QFETCH(double, from);
    QFETCH(double, length);
    const Planar sound = programme("wide", 44100, 60, 8);
    const auto report = told_of(folder_, sound,
                                gained(sound,
                                       [&](size_t n) {
                                         const double at = double(n) / 44100;
                                         return at >= from && at < from + length ? 0.0 : 1.0;
                                       }),
                                44100, WordFormat::pcm24);
    const Cause* mute = cause(report, "mute");
    QVERIFY2(mute && is_near(number(mute, "at_s"), from, 0.002) && is_near(number(mute, "length_s"), length, 0.003) &&
                 number(mute, "count") == 1,
             qPrintable(told(report)));
  }

  void two_causes_are_told_as_of_short_ones_data() {
    QTest::addColumn<QString>("first");
    QTest::addColumn<QString>("second");
    QTest::addColumn<QString>("name");
    for (const auto& [first, second, name] : std::vector<std::array<const char*, 3>>{{"bell", "noise", "choir"},
                                                                                     {"fade in", "step", "drums"},
                                                                                     {"compressor", "hum", "loop"},
                                                                                     {"clip", "noise", "loop"},
                                                                                     {"low shelf", "clicks", "speech"},
                                                                                     {"echo", "step", "piano"}})
      QTest::newRow(qPrintable(QString("%1 + %2 on %3").arg(first, second, name))) << first << second << name;
  }
  void two_causes_are_told_as_of_short_ones() {
    QFETCH(QString, first);
    QFETCH(QString, second);
    QFETCH(QString, name);
    const Treatment &one = treatment(first.toStdString()), &two = treatment(second.toStdString());
    const Planar sound = programme(name.toStdString(), 44100, 24, 11);
    dsp::Noise chance(6);
    const auto report =
        told_of(folder_, sound, two.run(one.run(sound, 44100, chance), 44100, chance), 44100, WordFormat::pcm24);
    QVERIFY2(tells(report, one.code) && tells(report, two.code), qPrintable(told(report)));
    QVERIFY2(report.kind == Kind::changed || name_of(report.kind) == one.kind || name_of(report.kind) == two.kind,
             qPrintable(told(report)));
  }

 private:
  Folder folder_;
};

SHARED_MAIN(TestLongPairs)
#include "test_long_pairs.moc"
