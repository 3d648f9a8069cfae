// Causes as sound: what each put into the return, so that together they are the residual.
#include <QtTest>
#include <cmath>

#include "core/compare/audition.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"
#include "tests/support/treatments.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

/// All of a clip, read in blocks of an odd size.
Planar all_of(const Clip& clip, int64_t block_frames = 7001) {
  Planar all(clip.format().channels, clip.format().frames), block;
  const auto reader = clip.reader();
  for (int64_t at = 0; at < all.frames(); at += block_frames) {
    const int64_t count = std::min(block_frames, all.frames() - at);
    reader->read(at, count, block);
    for (int c = 0; c < all.channels(); ++c)
      std::copy_n(block.channel(c).begin(), count, all.channel(c).begin() + long(at));
  }
  return all;
}

double power_of(const Planar& sound) {
  double sum = 0;
  for (int c = 0; c < sound.channels(); ++c)
    for (const double x : sound.channel(c)) sum += x * x;
  return sum;
}

void take(Planar& from, const Planar& part) {
  for (int c = 0; c < from.channels(); ++c)
    for (size_t n = 0; n < size_t(from.frames()); ++n) from.channel(c)[n] -= part.channel(c)[n];
}

}  // namespace

class TestAudition : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  void parts_leave_what_the_budget_says_data() {
    QTest::addColumn<QStringList>("names");
    QTest::addColumn<QString>("on");
    QTest::newRow("bell, then cut to 12 or 16 bits") << QStringList{"bell", "truncated"} << "dense";
    QTest::newRow("one louder, then an EQ") << QStringList{"one louder", "high shelf"} << "wide";
    QTest::newRow("echo") << QStringList{"echo"} << "choir";
    QTest::newRow("fade and hum") << QStringList{"fade out", "hum"} << "dense";
    QTest::newRow("limiter") << QStringList{"limiter"} << "drums";
    QTest::newRow("clicks and gain") << QStringList{"gain", "clicks"} << "piano";
    QTest::newRow("one late, and clipped") << QStringList{"one channel late", "clip"} << "wide";
    QTest::newRow("a mute") << QStringList{"mute"} << "bass";
    QTest::newRow("ride") << QStringList{"ride"} << "choir";
    QTest::newRow("inverted, DC") << QStringList{"inverted", "dc"} << "dense";
    QTest::newRow("a piece is missing") << QStringList{"splice"} << "dense";
  }
  void parts_leave_what_the_budget_says() {
    QFETCH(QStringList, names);
    QFETCH(QString, on);
    constexpr int rate = 48000;
    const Planar sound = programme(on.toStdString(), rate, 7, 3);
    Planar ret = sound;
    dsp::Noise chance(11);
    WordFormat word = WordFormat::pcm24;
    for (const QString& name : names) {
      const Treatment& t = treatment(name.toStdString());
      ret = t.run(std::move(ret), rate, chance), word = t.word;
    }
    const auto all = explained_pair_of(save(folder_ / "m.wav", sound, rate, WordFormat::pcm24),
                                       save(folder_ / "r.wav", ret, rate, word));
    const auto layers = std::make_shared<const Layers>(all.why.layers);
    Planar left = all_of(*residual_clip(all.pair, all.report.fit));
    take(left, scaled(sound, std::pow(10, layers->gain_db / 20) - 1));  // the fit's gain, as it is known by now
    const double master = power_of(sound);
    int parts = 0;
    CausePart::What last = CausePart::none;
    for (const Cause& c : all.report.causes) {
      if (c.part.what == CausePart::none || (c.part.what == CausePart::jumps && last == CausePart::jumps)) continue;
      last = c.part.what, ++parts;
      const auto clip = cause_clip(all.pair, all.report.fit, layers, c.part);
      const Planar part = all_of(*clip);
      QVERIFY(power_of(part) > 0);
      take(left, part);
      if (c.part.what == CausePart::jumps) continue;  // the budget does not count the seam itself
      if (c.part.what == CausePart::own_delays) leave_out_ends(left);
      const double level = 10 * std::log10(power_of(left) / master + 1e-20), told = db(c.after_db);
      QVERIFY2(level < -120 ? told < -110 : std::abs(level - told) < (last == CausePart::own_delays ? 1 : 0.3),
               qPrintable(QString("%1: %2 for %3; %4").arg(c.code.c_str()).arg(level).arg(told).arg(told_of(all))));
    }
    QVERIFY2(parts >= 1, qPrintable(told_of(all)));
    // What is read elsewhere first, and in other blocks, is the same.
    const auto first = std::find_if(all.report.causes.begin(), all.report.causes.end(),
                                    [](const Cause& c) { return c.part.what != CausePart::none; });
    const auto clip = cause_clip(all.pair, all.report.fit, layers, first->part);
    const Planar whole = all_of(*clip), other = all_of(*clip, 100'000);
    Planar middle;
    clip->reader()->read(3 * rate, 500, middle);
    for (int c = 0; c < whole.channels(); ++c)
      for (size_t n = 0; n < 500; ++n) {
        QVERIFY(std::abs(whole.channel(c)[3 * rate + n] - middle.channel(c)[n]) < 1e-12);
        QVERIFY(std::abs(whole.channel(c)[3 * rate + n] - other.channel(c)[3 * rate + n]) < 1e-12);
      }
  }

  /// What is told second may have happened first: the parts still sum up to the residual, as told.
  void parts_are_put_in_as_they_happened() {
    const Planar sound = programme("drums", 48000, 1, 5);
    save(folder_ / "m.wav", sound, 48000, WordFormat::float64);
    const auto square = [](const causes::Places&, Planar& m) {
      for (int c = 0; c < m.channels(); ++c)
        for (double& x : m.channel(c)) x *= x;
    };
    const auto halve = [](const causes::Places&, Planar& m) { m = scaled(std::move(m), 0.5); };
    const auto clip = Clip::open(folder_ / "m.wav");
    Fit fit;
    fit.pairs = plain_pairs(2, 2);
    set_overlap(fit, sound.frames(), sound.frames());
    Layers told;  // a square, then a half: told the other way round
    told.layers = {{causes::Stands::in_programme, halve, 0, 1}, {causes::Stands::in_programme, square, 0, 0}};
    const auto layers = std::make_shared<const Layers>(told);
    const auto part = [&](size_t n) { return all_of(*cause_clip({clip, clip}, fit, layers, {CausePart::layer, n})); };
    const Planar first = part(0), second = part(1);
    for (int c = 0; c < 2; ++c)
      for (size_t n = 0; n < size_t(sound.frames()); ++n) {
        const double x = sound.channel(c)[n];
        QVERIFY(std::abs(first.channel(c)[n] - (x / 2 - x)) < 1e-6);
        QVERIFY(std::abs(second.channel(c)[n] - (x * x / 2 - x / 2)) < 1e-6);
      }
  }

  /// Of a long pair only stretches are looked at; a filter is heard all the way through.
  void a_filter_is_heard_over_all_of_a_long_pair() {
    constexpr int rate = 44100;
    const Planar sound = programme("dense", rate, 45, 4);
    dsp::Noise chance(2);
    const auto all =
        explained_pair_of(save(folder_ / "m.wav", sound, rate, WordFormat::pcm24),
                          save(folder_ / "r.wav", treatment("bell").run(sound, rate, chance), rate, WordFormat::pcm24));
    const auto eq =
        std::find_if(all.report.causes.begin(), all.report.causes.end(), [](const Cause& c) { return c.code == "eq"; });
    QVERIFY2(eq != all.report.causes.end(), qPrintable(told_of(all)));
    Planar left = all_of(*residual_clip(all.pair, all.report.fit));
    const double before = power_of(left);
    take(left, all_of(*cause_clip(all.pair, all.report.fit, std::make_shared<const Layers>(all.why.layers), eq->part)));
    QVERIFY2(power_of(left) < 1e-3 * before, qPrintable(QString::number(10 * std::log10(power_of(left) / before))));
  }

  void what_the_fit_takes_out_is_no_part() {
    constexpr int rate = 44100;
    const Planar sound = programme("piano", rate, 4, 4);
    const auto all =
        explained_pair_of(save(folder_ / "m.wav", sound, rate), save(folder_ / "r.wav", scaled(sound, 0.5), rate));
    QCOMPARE(all.report.causes.size(), 1u);
    QVERIFY(!cause_clip(all.pair, all.report.fit, std::make_shared<const Layers>(all.why.layers),
                        all.report.causes[0].part));
  }

 private:
  /// What a late channel lacks at the ends is in no part, and in no budget.
  static void leave_out_ends(Planar& left) {
    constexpr size_t most_late = 64;
    for (int c = 0; c < left.channels(); ++c) {
      std::fill_n(left.channel(c).begin(), most_late, 0.0);
      std::fill_n(left.channel(c).end() - long(most_late), most_late, 0.0);
    }
  }
  static QString told_of(const Explained& all) { return told(all.report); }
  Folder folder_;
};

SHARED_MAIN(TestAudition)
#include "test_audition.moc"
