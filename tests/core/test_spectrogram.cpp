// Spectrograms: every thing in its cell, at its level.
#include "core/measure/spectrogram_tiles.hpp"
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
      if (!here) QVERIFY2(s.at(column, 15) < -250, qPrintable(QString("%1: %2").arg(column).arg(s.at(column, 15))));
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

  /// Tiles are the same cells as those of one piece, whatever view they were made for, and are made once.
  void tiles_are_the_cells_of_one_piece_and_serve_every_view() {
    const auto file = clip(with_noise(tone(3000, 0.1, 20, 48000, 2), 1e-3, 3));
    for (const bool sharp : {false, true}) {
      SpectrogramTiles tiles;
      SpectrogramOptions o;
      o.first_s = 3.1, o.last_s = 9.7, o.columns = 300, o.rows = 60, o.fft_size = 1024, o.blocks = 2,
      o.reassigned = sharp;
      const auto view = tiles.cells(*file, "a", o);
      QVERIFY(view.first_s <= 3.1 && view.last_s >= 9.7 && view.columns % SpectrogramTiles::tile_columns == 0);
      const double column_s = (view.last_s - view.first_s) / view.columns;
      QVERIFY(std::abs(std::log2(column_s) - std::round(std::log2(column_s))) < 1e-9);
      QVERIFY((o.last_s - o.first_s) / column_s >= o.columns);
      SpectrogramOptions whole = o;
      whole.first_s = view.first_s, whole.last_s = view.last_s, whole.columns = view.columns;
      const auto piece = spectrogram_of(*file, whole);
      if (sharp) {  // energy that is moved across a tile's edge is counted there: nothing is lost
        double a = 0, b = 0;
        for (const float db : view.db) a += std::pow(10, double(db) / 10);
        for (const float db : piece.db) b += std::pow(10, double(db) / 10);
        QVERIFY2(std::abs(a / b - 1) < 0.02, qPrintable(QString::number(a / b)));
      } else {
        QCOMPARE(view.db, piece.db);
      }
      QVERIFY(tiles.at_hand(*file, "a", o) && !tiles.at_hand(*file, "b", o));
      const int64_t made = tiles.made();
      o.first_s = 3.6, o.last_s = 10.2;  // panned: only what came into view is new
      tiles.cells(*file, "a", o);
      QVERIFY2(tiles.made() - made <= 1, qPrintable(QString::number(tiles.made() - made)));
      o.blocks = 1;  // finer ones are at hand
      const int64_t fine = tiles.made();
      tiles.cells(*file, "a", o);
      QCOMPARE(tiles.made(), fine);
      o.blocks = 8;
      tiles.cells(*file, "a", o);
      QVERIFY(tiles.made() > fine);
      const int64_t before = tiles.made();
      tiles.cells(*file, "another", o);
      QVERIFY(tiles.made() > before);
    }
  }

  void tiles_are_given_up_where_room_ends() {
    const auto file = clip(tone(3000, 0.1, 20, 48000));
    SpectrogramTiles tiles(2 * 128 * 50);
    SpectrogramOptions o;
    o.columns = 1000, o.rows = 50, o.fft_size = 512;
    const auto first = tiles.cells(*file, "a", o), again = tiles.cells(*file, "a", o);
    QCOMPARE(first.db, again.db);
    QVERIFY(tiles.made() > 8);  // most had to be made twice
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
    o.columns = 10, o.listen = Listen::one, o.channel = 1;
    QVERIFY_EXCEPTION_THROWN(spectrogram_of(*file, o), std::invalid_argument);
    o.listen = Listen::all, o.fft_size = 3;
    QVERIFY_EXCEPTION_THROWN(spectrogram_of(*file, o), std::invalid_argument);
  }
};

QTEST_GUILESS_MAIN(TestSpectrogram)
#include "test_spectrogram.moc"
