// Spectrograms: every thing in its cell, at its level.
#include "core/measure/spectrogram.hpp"
#include "tests/support/stages.hpp"

using namespace heathmist;
using namespace heathmist::test;

class TestSpectrogram : public StageTest {
  Q_OBJECT

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  void a_tone_lies_in_its_row_at_its_level_at_every_scale_and_zoom() {
    const auto file = clip(tone(3000, 0.1, 6, 48000, 2));
    for (const auto scale : {FrequencyScale::linear, FrequencyScale::logarithmic, FrequencyScale::mel})
      for (const auto& [from, to] : {std::pair{0.0, 6.0}, {2.0, 3.0}, {2.5, 2.501}}) {
        SpectrogramOptions o;
        o.scale = scale, o.first_s = from, o.last_s = to, o.columns = 60, o.rows = 120;
        const auto s = spectrogram_of(*file, o);
        QCOMPARE(s.db.size(), size_t(60 * 120));
        const int row = *row_at(s, 3000);
        for (int column = 2; column < 58; ++column) {
          QVERIFY2(std::abs(s.at(column, row) + 20) < 1.5,
                   qPrintable(QString("%1: %2").arg(column).arg(s.at(column, row))));
          QVERIFY(s.at(column, *row_at(s, 12000)) < -110);
        }
      }
  }

  void a_click_lies_in_its_column() {
    Planar sound(1, 48000 * 4);
    sound.channel(0)[96000] = 0.5;
    SpectrogramOptions o;
    o.columns = 400, o.rows = 20, o.fft_size = 256, o.blocks = 8;
    const auto s = spectrogram_of(*clip(sound), o);
    for (int column = 0; column < 400; ++column) {
      const bool here = column == 199 || column == 200;
      QVERIFY2((s.at(column, 15) > -60) == (here && s.at(column, 15) > -60) && (here || s.at(column, 15) < -250),
               qPrintable(QString("%1: %2").arg(column).arg(s.at(column, 15))));
    }
    QVERIFY(std::max(s.at(199, 15), s.at(200, 15)) > -60);
  }

  void threads_change_nothing() {
    const auto file = clip(Programme(5, 3).render(48000));
    for (const bool reassigned : {false, true}) {
      SpectrogramOptions o;
      o.columns = 90, o.rows = 64, o.blocks = 3, o.reassigned = reassigned;
      QVERIFY(spectrogram_of(*file, o, Job{{}, {}, 1}).db == spectrogram_of(*file, o, Job{{}, {}, 2}).db);
    }
  }

  /// Reassigned, the energy of a chirp lies on its line; plainly it lies about it.
  void reassignment_sharpens_a_chirp() {
    Planar sound(1, 48000 * 4);
    for (size_t n = 0; n < size_t(sound.frames()); ++n) {
      const double t = double(n) / 48000;
      sound.channel(0)[n] = 0.5 * std::sin(2 * pi * std::remainder(1000 * t + 0.5 * 2000 * t * t, 1.0));
    }
    const auto file = clip(sound);
    SpectrogramOptions o;
    o.scale = FrequencyScale::linear, o.columns = 200, o.rows = 480, o.blocks = 4, o.fft_size = 2048;
    double on_line[2] = {0, 0};
    for (const bool reassigned : {false, true}) {
      o.reassigned = reassigned;
      const auto s = spectrogram_of(*file, o);
      double near = 0, all = 0;
      for (int column = 20; column < 180; ++column)
        for (int row = 0; row < s.rows; ++row) {
          const double power = std::pow(10, s.at(column, row) / 10);
          all += power;
          near += std::abs(row_hz(s, row) - (1000 + 2000 * (column + 0.5) / 50)) < 60 ? power : 0;
        }
      on_line[reassigned] = near / all;
    }
    QVERIFY2(on_line[1] > 0.99 && on_line[0] < 0.95, qPrintable(QString("%1 %2").arg(on_line[0]).arg(on_line[1])));
  }

  void what_cannot_be_is_refused_and_what_is_not_there_is_empty() {
    const auto file = clip(Planar(1, 48000));
    SpectrogramOptions o;
    o.columns = 10, o.rows = 10;
    const auto s = spectrogram_of(*file, o);
    QVERIFY(std::all_of(s.db.begin(), s.db.end(), [](float db) { return db == -300; }));
    QVERIFY(!row_at(s, 5) && !row_at(s, 30000));
    o.columns = 0;
    QVERIFY_EXCEPTION_THROWN(spectrogram_of(*file, o), std::invalid_argument);
    o.columns = 10, o.listen = MeterOptions::Listen::mid;
    QVERIFY_EXCEPTION_THROWN(spectrogram_of(*file, o), std::invalid_argument);
    o.listen = MeterOptions::Listen::all, o.fft_size = 3;
    QVERIFY_EXCEPTION_THROWN(spectrogram_of(*file, o), std::invalid_argument);
  }
};

QTEST_GUILESS_MAIN(TestSpectrogram)
#include "test_spectrogram.moc"
