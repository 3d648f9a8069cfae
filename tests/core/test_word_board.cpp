// Word lengths against theory: what rounding and dither leave, and how true low levels stay.
#include "core/boards/word_board.hpp"
#include "core/measure/lines.hpp"
#include "tests/support/stages.hpp"

using namespace heathmist;
using namespace heathmist::test;

class TestWordBoard : public StageTest {
  Q_OBJECT

  const WordRow& row_of(int bits, const QString& dither) {  // each is read once
    const auto key = std::pair{bits, dither};
    if (!rows_.contains(key)) rows_[key] = read_word_cut({bits, dither.toStdString()});
    return rows_[key];
  }
  std::map<std::pair<int, QString>, WordRow> rows_;

 private slots:
  /// Noise densities within 0.1 dB of theory, over every octave, at every word length, with every dither that makes
  /// noise of the error.
  void noise_lies_where_theory_has_it_data() {
    QTest::addColumn<int>("bits");
    QTest::addColumn<QString>("dither");
    for (const WordCut& cut : board_cuts())
      if (cut.dither != "none") QTest::newRow(label_of(cut).c_str()) << cut.bits << QString::fromStdString(cut.dither);
  }
  void noise_lies_where_theory_has_it() {
    QFETCH(int, bits);
    QFETCH(QString, dither);
    const WordRow& row = row_of(bits, dither);
    QVERIFY2(std::abs(row.noise_dbfs - row.theory_dbfs) < (dither == "rectangular" ? 0.15 : 0.1),
             qPrintable(QString("%1 against %2").arg(row.noise_dbfs).arg(row.theory_dbfs)));
    if (dither == "rectangular") return;  // its noise moves with the signal: only its power is told
    const Spectrum& s = row.error.average;
    for (double low = 1500; low < 24000; low *= 2) {
      double power = 0, theory = 0;
      for (size_t k = size_t(low / s.bin_hz); double(k) * s.bin_hz < low * 2 && k < s.power.size(); ++k)
        power += s.power[k],
            theory += std::pow(10, theory_per_root_hz(row.cut, double(k) * s.bin_hz, 48000) / 10) * s.bin_hz / 2;
      QVERIFY2(std::abs(10 * std::log10(power / theory)) < 0.1,
               qPrintable(QString("%1 Hz: %2 dB").arg(low).arg(10 * std::log10(power / theory))));
    }
  }

  /// A tone keeps its level however far under a step, where the dither's density allows it, within what noise lets be
  /// read; without dither it goes the way of theory, down to nothing.
  void low_levels_go_the_way_of_theory_data() {
    QTest::addColumn<int>("bits");
    QTest::addColumn<QString>("dither");
    for (const WordCut& cut : board_cuts())
      QTest::newRow(label_of(cut).c_str()) << cut.bits << QString::fromStdString(cut.dither);
  }
  void low_levels_go_the_way_of_theory() {
    QFETCH(int, bits);
    QFETCH(QString, dither);
    const WordRow& row = row_of(bits, dither);
    QCOMPARE(row.levels.size(), size_t(15));
    int read = 0;
    for (const LevelPoint& p : row.levels) {
      const auto words = QString("in %1, out %2, theory %3, error %4")
                             .arg(p.in_dbfs)
                             .arg(p.out_dbfs.value_or(-999))
                             .arg(p.theory_dbfs.value_or(-999))
                             .arg(p.error_db);
      if (!p.theory_dbfs) {
        QVERIFY2(!p.out_dbfs && dither == "none", qPrintable(words));
        continue;
      }
      if (!p.out_dbfs || p.error_db > 0.5) continue;
      ++read;
      QVERIFY2(std::abs(*p.out_dbfs - *p.theory_dbfs) < 0.01 + 4 * p.error_db, qPrintable(words));
      if (dither.startsWith("tri") || dither == "rectangular")
        QVERIFY2(std::abs(*p.out_dbfs - p.in_dbfs) < 0.01 + 4 * p.error_db, qPrintable(words));
    }
    QVERIFY(read >= (bits == 8 ? 5 : 8));
    if (bits == 24 && dither == "triangular") QVERIFY(row.levels.back().error_db < 0.5);  // -140 dBFS is read
  }

  /// Rounding by itself, summed without any formula: the theory's witness.
  void theory_agrees_with_plain_rounding() {
    for (const double steps : {0.3, 0.51, 0.7, 1.4, 3.3, 20.2}) {
      double sum = 0;
      constexpr int count = 200000;
      for (int n = 0; n < count; ++n) {
        const double wave = std::sin(2 * pi * (n + 0.5) / count);
        sum += std::floor(steps * wave + 0.5) * wave;
      }
      const double amplitude = 2 * sum / count, step = std::ldexp(1.0, -15);
      const auto theory = theory_level_dbfs({16, "none"}, 20 * std::log10(steps * step));
      QCOMPARE(theory.has_value(), steps > 0.5);
      if (theory) QVERIFY(std::abs(*theory - 20 * std::log10(amplitude * step)) < 0.002);
    }
    for (const double steps : {0.2, 0.6, 1.3}) {  // the mean of rounding over a Gaussian of half a step
      double sum = 0;
      constexpr int waves = 2000, values = 2000;
      for (int n = 0; n < waves; ++n) {
        const double wave = std::sin(2 * pi * (n + 0.5) / waves);
        double mean = 0, weight = 0;
        for (int v = 0; v < values; ++v) {
          const double d = -4 + 8 * (v + 0.5) / values, w = std::exp(-d * d / (2 * 0.25));
          mean += w * std::floor(steps * wave + d + 0.5), weight += w;
        }
        sum += mean / weight * wave;
      }
      const double step = std::ldexp(1.0, -15);
      const auto theory = theory_level_dbfs({16, "gaussian"}, 20 * std::log10(steps * step));
      QVERIFY2(std::abs(*theory - 20 * std::log10(2 * sum / waves * step)) < 0.005, qPrintable(QString::number(steps)));
    }
  }

  void without_dither_the_error_is_distortion_and_with_it_noise() {
    auto lines = [](const WordRow& row) {
      const auto r = read_lines(row.error.average);
      return std::count_if(r.lines.begin(), r.lines.end(), [](const auto& l) { return l.hz > 1500; });
    };
    const WordRow &bare = row_of(8, "none"), &dithered = row_of(8, "triangular");
    QVERIFY(lines(bare) > 10);
    QCOMPARE(lines(dithered), 0);
    QVERIFY(label_of(bare).find("moves with the programme") != std::string::npos);
    QVERIFY(label_of(bare).find("nothing comes back") != std::string::npos);
    // a quarter of a step squared, of full scale 2^7 steps, as a sine's level, over 20 of 24 kHz
    const double theory = 10 * std::log10(2 * 0.25 / (128 * 128) * 19980 / 24000);
    QVERIFY(std::abs(dithered.noise_dbfs - theory) < 0.1);
    QVERIFY(label_of(dithered).starts_with("noise at −46.0 dBFS"));
    QCOMPARE(word_line(bare)["bits"], 8);
    QCOMPARE(label_of(WordCut{16, "triangular"}), std::string("16 bit TPDF"));
  }

  /// A fade is heard at one level for every word length; after its last step nothing is left of it without dither, and
  /// the chord itself, under noise, with it.
  void a_fade_ends_in_silence_or_in_noise() {
    for (const int bits : {8, 16, 24}) {
      const Fade bare = fade_through({bits, "none"}), dithered = fade_through({bits, "triangular"});
      QCOMPARE(bare.after->format().frames, bare.before->format().frames);
      QVERIFY(std::abs(bare.raised_db - std::max(0.0, -54 - 20 * std::log10(std::ldexp(1.0, 1 - bits)))) < 1e-9);
      const int64_t rate = 48000, late = 10 * rate;
      QCOMPARE(mean_square(samples_of(*bare.after, late, rate).channel(0)), 0.0);
      const auto end = samples_of(*dithered.after, 7 * rate, 2 * rate),
                 truth = samples_of(*dithered.before, 7 * rate, 2 * rate);
      QVERIFY(mean_square(end.channel(0)) > 2 * mean_square(truth.channel(0)));
      QVERIFY(std::abs(tone_db(end.channel(0), 220, 48000) - tone_db(truth.channel(0), 220, 48000)) < 2);
      const double loud = 10 * std::log10(mean_square(samples_of(*bare.before, rate / 10, rate / 5).channel(0)));
      if (bits > 8) QVERIFY2(std::abs(loud + 26.5) < 3, qPrintable(QString::number(loud)));
    }
  }

  void what_is_asked_to_stop_stops() {
    std::stop_source stop;
    stop.request_stop();
    QVERIFY_EXCEPTION_THROWN(read_word_cut({16, "triangular"}, 48000, Job{stop.get_token()}), Cancelled);
  }
};

QTEST_GUILESS_MAIN(TestWordBoard)
#include "test_word_board.moc"
