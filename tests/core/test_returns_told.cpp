// Returns as they come from outside, and what is told of each: kind, fit, causes and findings together.
#include <QProcess>
#include <QStandardPaths>
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

bool finds(const NullReport& r, const std::string& code) {
  return std::any_of(r.findings.begin(), r.findings.end(), [&](const Finding& f) { return f.code == code; });
}

}  // namespace

class TestReturnsTold : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  /// Bass that a wide all-pass holds back is most of the energy: still no delay, and no channel is another.
  void a_phase_turn_is_no_delay_and_no_swap() {
    for (const char* name : {"dense", "wide", "drums"}) {
      const Planar sound = programme(name, 44100, 8, 7);
      const auto r = told_of(sound, filtered(sound, 44100, "all pass", 700, 0.7), 44100);
      QCOMPARE(name_of(r.kind), "linear");
      QVERIFY2(tells(r, "phase") && !tells(r, "delay") && !tells(r, "swap"), qPrintable(told(r)));
      QCOMPARE(r.fit.delay_samples, 0.0);
    }
  }

  /// Laid a little later here and sooner there, drums that an all-pass turned fit a little better: they do not jump.
  /// What is cut out of a rise from silence does, though little of all there is lies before it.
  void only_what_jumps_is_laid_anew() {
    const Planar drums = programme("drums", 44100, 8, 11);
    for (const double hz : {250, 400, 620}) {
      const auto r = told_of(drums, filtered(drums, 44100, "all pass", hz, 0.7), 44100);
      for (const char* wrong : {"insert", "splice", "repeat"}) QVERIFY2(!tells(r, wrong), qPrintable(told(r)));
    }
    const Planar rise = programme("from_silence", 44100, 8, 100);
    const Planar turned = filtered(rise, 44100, "high shelf", 4200, 0.7, -3.9);
    constexpr int64_t at = 131000, gone = 20289;
    Planar cut(2, turned.frames() - gone);
    for (int c = 0; c < 2; ++c) {
      std::copy_n(turned.channel(c).begin(), at, cut.channel(c).begin());
      std::copy(turned.channel(c).begin() + at + gone, turned.channel(c).end(), cut.channel(c).begin() + at);
    }
    const auto r = told_of(rise, cut, 44100);
    QVERIFY2(is_near(number(cause(r, "splice"), "jump_samples"), -gone, 1) && tells(r, "eq"), qPrintable(told(r)));
    QVERIFY2(!tells(r, "fade") && !tells(r, "other_programme"), qPrintable(told(r)));
  }

  /// The least-squares gain is pulled far by bells where most of the programme is; the flat part is none.
  void bells_where_the_programme_is_pull_no_gain() {
    for (const char* name : {"piano", "bass", "choir"}) {
      const Planar sound = programme(name, 48000, 10, 9);
      const auto r =
          told_of(sound, filtered(filtered(sound, 48000, "bell", 120, 1.2, -3), 48000, "bell", 3200, 2, 2.5), 48000);
      QVERIFY2(std::abs(r.fit.gain_db) < 0.03, qPrintable(QString("%1: %2").arg(name).arg(r.fit.gain_db)));
      QVERIFY2(tells(r, "eq") && !finds(r, "gain"), qPrintable(told(r)));
    }
  }

  void what_comes_down_at_times_is_no_gain() {
    const Planar sound = programme("drums", 44100, 8, 3);
    dsp::Noise chance(4);
    const auto r = told_of(sound, treatment("limiter").run(sound, 44100, chance), 44100);
    QVERIFY2(tells(r, "limiter") && !tells(r, "gain") && !finds(r, "gain"), qPrintable(told(r)));
    QVERIFY2(std::abs(r.fit.gain_db) < 0.002, qPrintable(QString::number(r.fit.gain_db)));
  }

  /// Exact gains leave nothing but rounding on either side of a step.
  void a_step_is_one_step_and_what_was_before_it_is_as_it_was() {
    const Planar sound = programme("wide", 48000, 10, 2);
    const auto r =
        told_of(sound, gained(sound, [](size_t n) { return n < 4 * 48000 ? 1.0 : 0.8; }), 48000, WordFormat::float64);
    QCOMPARE(r.fit.gain_db, 0.0);
    const Cause* step = cause(r, "gain_step");
    QVERIFY2(step && r.causes.size() == 1, qPrintable(told(r)));
    QCOMPARE(step->values["count"].get<int>(), 1);
    QVERIFY(std::abs(step->values["at_s"].get<double>() - 4) < 1e-3);
    QVERIFY(std::abs(step->values["step_db"].get<double>() - 20 * std::log10(0.8)) < 0.001);
  }

  void a_mono_master_in_two_channels_is_told_as_that() {
    const Planar both = programme("choir", 44100, 5, 2);
    Planar mono(1, both.frames()), two(2, both.frames());
    for (size_t n = 0; n < size_t(both.frames()); ++n)
      mono.channel(0)[n] = two.channel(0)[n] = two.channel(1)[n] = both.channel(0)[n];
    const auto r = told_of(mono, two, 44100);
    QVERIFY2(tells(r, "copied_channel"), qPrintable(told(r)));
    QCOMPARE(name_of(r.kind), "linear");
    QVERIFY(!finds(r, "shifted"));
    two.channel(1)[3000] += 0.01;  // now they differ
    QVERIFY(!tells(told_of(mono, two, 44100), "copied_channel"));
  }

  /// Pauses of the programme within a mute are no dropouts of their own.
  void a_mute_over_pauses_is_one_thing() {
    const Planar sound = programme("speech", 44100, 10, 5);
    const auto r =
        told_of(sound, gained(sound, [](size_t n) { return n < 3 * 44100 || n > 6 * 44100 ? 1.0 : 0.0; }), 44100);
    QVERIFY2(tells(r, "mute") && !finds(r, "dropout"), qPrintable(told(r)));
    QVERIFY2(r.findings.front().text.find("breaks") == std::string::npos, r.findings.front().text.c_str());
  }

  void a_dropout_beside_a_mute_is_told_too() {
    const Planar sound = programme("dense", 44100, 10, 5);
    const auto r =
        told_of(sound,
                gained(sound,
                       [](size_t n) {
                         return (n > 3 * 44100 && n < 5 * 44100) || (n > 7 * 44100 && n < 7 * 44100 + 3000) ? 0.0 : 1.0;
                       }),
                44100);
    QVERIFY2(tells(r, "mute"), qPrintable(told(r)));
    int dropouts = 0;
    for (const Finding& f : r.findings) {
      if (f.code != "dropout") continue;
      ++dropouts;
      QVERIFY(std::abs(f.at_s.value_or(0) - 7) < 0.02);
    }
    QCOMPARE(dropouts, 1);
  }

  void a_gain_of_the_same_word_length_is_the_level_alone() {
    const Planar sound = requantised(programme("dense", 44100, 6, 5), 16, true);
    const auto r = told_of(sound, requantised(scaled(sound, 0.7), 16, true), 44100, WordFormat::pcm16);
    QCOMPARE(name_of(r.kind), "level");
    QVERIFY2(r.findings.front().text.starts_with("Only the level differs"), r.findings.front().text.c_str());
  }

  void a_high_pass_is_named_as_it_was_set() {
    for (const double hz : {30.0, 40.0, 75.0}) {
      const Planar sound = programme("dense", 48000, 10, 8);
      const auto r = told_of(sound, filtered(sound, 48000, "high pass", hz, std::sqrt(0.5)), 48000);
      const Cause* eq = cause(r, "eq");
      QVERIFY2(eq && eq->values["sections"].size() == 1, qPrintable(told(r)));
      QCOMPARE(eq->values["sections"][0]["type"].get<std::string>(), std::string("high_pass"));
      QVERIFY2(std::abs(eq->values["sections"][0]["hz"].get<double>() / hz - 1) < 0.05, qPrintable(told(r)));
    }
  }

  /// THD of a few thousandths of a percent, at the level that it is told at; what the curve is not known better at its
  /// ends is no click.
  void a_slight_bend_is_told_by_itself() {
    const Planar sound = programme("dense", 44100, 8, 3);
    for (const auto& [even, odd] : {std::pair{0.0, 3e-4}, {0.0, 1.6e-3}, {1.5e-4, 0.0}}) {
      Planar ret = sound;
      for (int c = 0; c < 2; ++c)
        for (double& x : ret.channel(c)) x += even * x * x - odd * x * x * x;
      const auto r = told_of(sound, ret, 44100);
      QCOMPARE(name_of(r.kind), "limited");
      const Cause* bend = cause(r, "distortion");
      QVERIFY2(bend && !tells(r, "clicks"), qPrintable(told(r)));
      // at the peak few samples tell of the curve: it is read inside of it
      const double at = std::pow(10, bend->values["at_dbfs"].get<double>() / 20), peak = peak_of(sound);
      QVERIFY2(at > 0.6 * peak && at <= peak, qPrintable(QString("%1 of %2").arg(at).arg(peak)));
      const double thd = 100 * (even * at / 2 + odd * at * at / 4), percent = bend->values["thd_percent"].get<double>();
      QVERIFY2(percent > 0.8 * thd && percent < 1.1 * thd, qPrintable(QString("%1 for %2").arg(percent).arg(thd)));
    }
  }

  /// The level differs, and the samples were cut: both are told, at any weight of the second.
  void a_gain_written_to_fewer_bits_is_not_the_gain_alone() {
    const Planar sound = programme("piano", 44100, 6, 2);
    for (const auto& [bits, kind] : {std::pair{16, "level"}, {8, "word_length"}}) {
      const auto r = told_of(sound, requantised(scaled(sound, 0.9), bits, true), 44100);
      QCOMPARE(name_of(r.kind), kind);
      QVERIFY2(tells(r, "gain") && tells(r, "word_length") && finds(r, "gain") && finds(r, "word_length"),
               qPrintable(told(r)));
      QVERIFY2(r.findings.front().text.find("Only the level") == std::string::npos, r.findings.front().text.c_str());
      QVERIFY(r.findings.front().detail.find("nothing else differs") == std::string::npos);
    }
  }

  void a_cut_beneath_other_causes_has_a_finding() {
    const Planar sound = programme("dense", 44100, 6, 2);
    const auto r = told_of(sound, requantised(filtered(sound, 44100, "bell", 900, 1, 4), 16, false), 44100);
    QVERIFY2(tells(r, "eq") && tells(r, "word_length"), qPrintable(told(r)));
    QVERIFY2(finds(r, "word_length"), qPrintable(told(r)));
  }

  void programs_from_elsewhere() {
    if (QStandardPaths::findExecutable("sox").isEmpty()) QSKIP("sox");
    const auto master = save(folder_ / "m.wav", programme("piano", 96000, 8, 6), 96000, WordFormat::pcm24);
    const auto by = [&](const QStringList& effects) {
      QStringList words{"-D", QString::fromStdString(master.string())};
      QProcess::execute("sox", words + effects);
      return explained_null_of(master, folder_ / "r.wav");
    };
    const QString to = QString::fromStdString((folder_ / "r.wav").string());
    const auto delivered = by({"-b", "16", "-r", "44100", to, "rate", "-v", "dither", "-s"});
    QCOMPARE(name_of(delivered.kind), "converted");
    const Cause* cut = cause(delivered, "word_length");
    QVERIFY2(cut && cut->values["bits"] == 16 && !tells(delivered, "noise"), qPrintable(told(delivered)));
    const auto limited = by({to, "sinc", "-9000"});
    const Cause* limit = cause(limited, "band_limit");
    QVERIFY2(limit && std::abs(limit->values["hz"].get<double>() / 9000 - 1) < 0.04, qPrintable(told(limited)));
    const auto fast = by({to, "speed", "1.00005"});
    QCOMPARE(name_of(fast.kind), "shifted");
    QVERIFY2(tells(fast, "drift") && !tells(fast, "wow") && !tells(fast, "delay"), qPrintable(told(fast)));
  }

  /// What a converter's filter takes off the very top, of which little is seen, is no EQ.
  void the_top_that_a_converter_takes_is_its_own() {
    if (QStandardPaths::findExecutable("sox").isEmpty()) QSKIP("sox");
    const auto master = save(folder_ / "m.wav", programme("drums", 44100, 12, 6), 44100, WordFormat::pcm24);
    const auto ret = folder_ / "r.wav";
    for (const QStringList& way : {QStringList{"speed", "1.0005"}, QStringList{"rate", "48000", "rate", "44100"}}) {
      std::filesystem::remove(ret);
      const QStringList files{"-D", QString::fromStdString(master.string()), QString::fromStdString(ret.string())};
      QCOMPARE(QProcess::execute("sox", files + way), 0);
      const auto r = explained_null_of(master, ret);
      QVERIFY2(tells(r, "band_limit") && !tells(r, "eq"), qPrintable(told(r)));
    }
  }

  /// A loop's bins all keep company with one another; that makes no alias.
  void a_loop_brought_to_another_rate_folds_nothing() {
    if (QStandardPaths::findExecutable("sox").isEmpty()) QSKIP("sox");
    const auto master = save(folder_ / "m.wav", programme("loop", 96000, 12, 6), 96000, WordFormat::pcm24);
    QProcess::execute("sox", {"-D", QString::fromStdString(master.string()), "-r", "44100",
                              QString::fromStdString((folder_ / "r.wav").string()), "rate", "-v"});
    const auto r = explained_null_of(master, folder_ / "r.wav");
    QVERIFY2(!tells(r, "alias") && !finds(r, "alias") && !finds(r, "image"), qPrintable(told(r)));
  }

 private:
  NullReport told_of(const Planar& master, const Planar& ret, int rate, WordFormat word = WordFormat::pcm24) {
    return test::told_of(folder_, master, ret, rate, word);
  }
  Folder folder_;
};

SHARED_MAIN(TestReturnsTold)
#include "test_returns_told.moc"
