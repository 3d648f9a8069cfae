// Parts of the window on their own: words and units, drops, plates, the runner, the demo.
#include <QtTest>
#include <cmath>

#include "app/model/workspace.hpp"
#include "app/plots/depth_plate.hpp"
#include "app/plots/graph_plate.hpp"
#include "app/plots/lanes_plate.hpp"
#include "app/plots/spectrum_plate.hpp"
#include "app/theme/theme.hpp"
#include "demo/writer.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::app;
using namespace heathmist::test;

namespace {

Spectrum slope() {
  Spectrum s{10, {}};
  for (int k = 0; k < 2000; ++k) s.power.push_back(1e-4 / (1 + k));
  return s;
}

}  // namespace

class TestParts : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() {
    qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str()));
    Theme::instance().apply(false);
  }

  void numbers_and_clocks_are_written_well() {
    QCOMPARE(number(-0.0001, 2), QString("0.00"));
    QCOMPARE(number(-2.5, 1), QString(QChar(0x2212)) + "2.5");
    QCOMPARE(app::clock(61.5, 2), QString("1:01.50"));
    QCOMPARE(app::clock(59, 0), QString("0:59"));
    QVERIFY(in_other_units(-26).contains("0.0501"));
    QVERIFY(in_other_units(-26).contains("4.3 bits"));
    QCOMPARE(hertz(2830, false), QString("2.83 kHz"));
    QCOMPARE(hertz(10000, true), QString("10 k"));
  }

  void drops_are_sorted() {
    const auto pair = sort_drop({"back.mp3", "master.wav"}, false);
    QCOMPARE(pair.master, QString("master.wav"));
    QCOMPARE(pair.returns, QStringList{"back.mp3"});
    QCOMPARE(sort_drop({"a.wav", "b.wav"}, true).master, QString("a.wav"));
    const auto one = sort_drop({"b.wav"}, true);
    QVERIFY(one.master.isEmpty() && one.returns == QStringList{"b.wav"});
    QCOMPARE(sort_drop({"a.wav"}, false).master, QString("a.wav"));
    QCOMPARE(sort_drop({"m.flac", "x.opus", "y.wav"}, false).returns.size(), 2);
    QVERIFY(sort_drop({}, false).master.isEmpty());
  }

  void smoothing_keeps_the_mean() {
    const auto line = smoothed(slope(), 20, 19000, 300, true, 3);
    QCOMPARE(line.hz.size(), size_t(300));
    QVERIFY(std::abs(line.hz.back() - 19000) < 1);
    for (size_t n = 1; n < line.db.size(); ++n) QVERIFY(line.db[n] <= line.db[n - 1] + 0.01);
    const auto raw = smoothed(slope(), 0, 19000, 300, false, 0);
    QVERIFY(std::abs(raw.db.front() + 40) < 0.01);
  }

  void the_spectrum_plate_reads_and_writes_what_it_shows() {
    SpectrumPlate plate;
    plate.resize(400, 300);
    QVERIFY(plate.read_out(100).isEmpty());
    const auto line = smoothed(slope(), 20, 19000, 200, true, 12);
    auto quiet = line;
    for (double& db : quiet.db) db -= 60;
    for (const bool relative : {false, true}) {
      plate.show_spectra({line, line, quiet, line, quiet, true, relative, {}});
      QVERIFY(plate.read_out(1000).contains("60.0 dB under"));
    }
    QCOMPARE(plate.csv().count('\n'), 201);
    for (double& db : quiet.db) db = -300;
    plate.show_spectra({line, line, quiet, {}, {}, false, false, {}});
    QVERIFY(plate.read_out(1000).contains("nothing left"));
  }

  /// All curves at once, each by a point that was read and nothing between them.
  void the_graph_reads_every_curve_under_the_cursor() {
    GraphPlate plate("graph", "a graph");
    plate.resize(500, 300);
    plate.set_axes("gain, dB", "peak, dBTP");
    QVERIFY(plate.read_out(0, 0).isEmpty());
    plate.show_series([] {
      return std::vector<Series>{{"low", {-6, -3, 0}, {-7, -4, -1}}, {"high", {-6, -2.9, 0}, {-5, -2, 1}}};
    });
    const QString both = plate.read_out(-3, 30);  // however far above
    QCOMPARE(both, QString::fromUtf8(
                       "peak, dBTP, by gain, dB\nlow: \u22124.00 at \u22123.00\nhigh: \u22122.00 at \u22122.90"));
    QVERIFY(plate.read_out(-1.5, -3).isEmpty());  // nothing was read there
    plate.show_series([] {
      Series points{"points", {-6, -3, 0}, {-7, -4, -1}, {"a", "b", "c"}};
      points.joined = false;
      return std::vector<Series>{points};
    });
    QVERIFY(plate.read_out(-3, -4).startsWith("b, points\n") && plate.read_out(-3, 4).isEmpty());
  }

  void the_depth_plate_shows_cells_and_silence() {
    DepthCells cells;
    cells.column_s = 0.1;
    cells.band_edges_hz = {100, 200, 400};
    cells.master = {1, 1, 1, 0};
    cells.residual = {0.001f, 0, 1, 0};
    const auto db = depth_db(cells);
    QVERIFY(std::abs(db[0] + 30) < 0.01f);
    QCOMPARE(db[1], -200.0f);
    QCOMPARE(db[2], 0.0f);
    QVERIFY(std::isnan(db[3]));
    DepthPlate plate;
    plate.resize(300, 200);
    plate.show_cells(cells);
    QCOMPARE(plate.csv().count('\n'), 5);
    QVERIFY(plate.xAxis->label().contains("dBr") && plate.xAxis->label().contains("bright"));
    QCOMPARE(plate.findChildren<QCPColorScale*>().size(), 1);
    QVERIFY(plate.findChild<QCPColorScale*>()->visible());
    std::fill(cells.residual.begin(), cells.residual.end(), 0.0f);
    plate.show_cells(cells);
    QVERIFY(!plate.said_instead().isEmpty() && plate.xAxis->label().isEmpty());
    QVERIFY(!plate.findChild<QCPColorScale*>()->visible());  // nothing is left that a colour would stand for
    plate.show_cells({});
    QVERIFY(!plate.grab().isNull());
  }

  void of_columns_together_the_greatest_counts() {
    const float none = std::numeric_limits<float>::quiet_NaN();
    const std::vector<float> db{-10, none, -30, -5, -20, none, none, none, -7, -8};  // five columns of two bands
    const auto most = greatest_of(db, 2, 2);
    QCOMPARE(most.size(), size_t(6));
    QVERIFY(most[0] == -10 && most[1] == -5 && most[2] == -20 && std::isnan(most[3]) && most[4] == -7 && most[5] == -8);
    const auto each = greatest_of(db, 2, 1);
    for (size_t n = 0; n < db.size(); ++n) QVERIFY(each[n] == db[n] || (std::isnan(each[n]) && std::isnan(db[n])));
    QVERIFY(greatest_of({}, 0, 3).empty());
  }

  /// Of thousands of columns each is drawn on few pixels: one that is bright is seen wherever it stands.
  void the_depth_plate_shows_every_short_event() {
    constexpr int columns = 7000, bands = 4;
    for (const int at : {150, 1201, 3333, 5002, 6850}) {
      DepthCells cells;
      cells.column_s = 0.01;
      cells.band_edges_hz = {100, 200, 400, 800, 1600};
      cells.master.assign(size_t(columns * bands), 1);
      cells.residual.assign(size_t(columns * bands), 1e-9f);
      for (int band = 0; band < bands; ++band) cells.residual[size_t(at * bands + band)] = 1;
      DepthPlate plate;
      plate.resize(300, 200);
      plate.set_range(0, columns * cells.column_s);
      plate.show_cells(cells);
      plate.grab();  // lays it out
      plate.set_range(0, columns * cells.column_s);
      const QImage picture = plate.grab().toImage();
      const QRect map = plate.axisRect()->rect();
      const int x = int(plate.xAxis->coordToPixel((at + 0.5) * cells.column_s));
      int most = 0, beside = 0;
      for (int k = map.left() + 2; k < map.right() - 2; ++k) {
        const int light = qGray(picture.pixel(k, map.center().y()));
        (std::abs(k - x) < 3 ? most : beside) = std::max(std::abs(k - x) < 3 ? most : beside, light);
      }
      QVERIFY2(most > beside + 100, qPrintable(QString("%1: %2, %3").arg(at).arg(most).arg(beside)));
    }
  }

  void lanes_stay_inside_their_length() {
    LanesPlate plate;
    plate.resize(700, 300);
    plate.set_length(100);
    plate.set_range(-50, 20);
    QCOMPARE(plate.from_s(), 0.0);
    QCOMPARE(plate.to_s(), 70.0);
    plate.set_range(95, 130);
    QCOMPARE(plate.to_s(), 100.0);
    plate.zoom(0.1, 90);
    QVERIFY(plate.from_s() <= 90 && plate.to_s() >= 90);
    plate.zoom(1e9, 50);
    QCOMPARE(plate.to_s() - plate.from_s(), 100.0);
    plate.set_selection(std::pair{10.0, 20.0});
    QCOMPARE(plate.selection()->second, 20.0);
  }

  void the_desk_edits_are_undone() {
    Workspace workspace;
    const auto a = QString::fromStdString((folder_ / "a.wav").string()),
               b = QString::fromStdString((folder_ / "b.wav").string());
    workspace.add_files({a, b});
    auto& model = workspace.model();
    const auto trial = model.bench().masters[0].trials[0].id;
    workspace.rename(trial, "Back from Plover");
    QCOMPARE(workspace.name_of(trial), QString("Back from Plover"));
    workspace.exchange(trial);
    QCOMPARE(model.bench().masters[0].name, std::string("Back from Plover"));
    model.undo_stack().undo();
    model.undo_stack().undo();
    QCOMPARE(workspace.name_of(trial), QString("b"));
    workspace.remove(trial);
    QVERIFY(model.bench().masters[0].trials.empty());
    model.undo_stack().undo();
    QCOMPARE(model.bench().masters[0].trials.size(), size_t(1));
    workspace.cancel();
  }

  void the_demo_tells_the_truth_it_was_made_with() {
    const auto file = demo::write_demo(folder_ / "demo");
    const auto bench = load_bench(file);
    QVERIFY(bench.masters.size() >= 4);
    const std::map<std::string, Kind> truths{{"trial-mill-race-archive", Kind::identical},
                                             {"trial-mill-race-bounce", Kind::level},
                                             {"trial-mill-race-pushed", Kind::limited},
                                             {"trial-slack-water-16", Kind::word_length},
                                             {"trial-slack-water-swapped", Kind::level},
                                             {"trial-lantern-walk-96", Kind::lossy},
                                             {"trial-lantern-walk-take-2", Kind::unrelated},
                                             {"trial-spoken-tide-turned", Kind::level},
                                             {"trial-spoken-tide-transformer", Kind::linear},
                                             {"trial-spoken-tide-stream", Kind::changed},
                                             {"trial-mill-race-small", Kind::lossy},
                                             {"trial-slack-water-cut", Kind::word_length},
                                             {"trial-weir-fine", Kind::converted},
                                             {"trial-weir-detour", Kind::changed}};
    size_t seen = 0;
    for (const auto& m : bench.masters)
      for (const auto& t : m.trials) {
        const auto master = Clip::open(m.audio.file),
                   ret = t.chain ? pass(master, *t.chain).ret : Clip::open(t.ret.file);
        const auto pair = comparable(master, ret);
        auto report = null_test(*master, *ret, pair, {});
        explain(*master, *ret, pair, report);
        QVERIFY(truths.count(t.id));
        QVERIFY2(report.kind == truths.at(t.id),
                 qPrintable(QString::fromStdString(t.id + ": " + name_of(report.kind))));
        if (t.id == "trial-mill-race-bounce") {
          QVERIFY(std::abs(report.fit.delay_samples - 2713.37) < 0.002);
          QVERIFY(std::abs(report.fit.gain_db + 2.3) < 0.002);
        }
        if (t.id == "trial-spoken-tide-transformer")
          for (const char* code : {"eq", "hum", "noise"}) QVERIFY2(test::tells(report, code), code);
        const auto alias = std::find_if(report.findings.begin(), report.findings.end(),
                                        [](const Finding& f) { return f.code == "alias" || f.code == "image"; });
        QVERIFY2((alias != report.findings.end()) == (t.id == "trial-weir-detour"),
                 qPrintable(QString::fromStdString(t.id)));
        if (t.id == "trial-weir-detour") QVERIFY(alias->text.starts_with("16.7 kHz is 27.4 kHz folded at 44.1 kHz"));
        ++seen;
      }
    QCOMPARE(seen, truths.size());
  }

 private:
  Folder folder_;
};

SHARED_WINDOW_MAIN(TestParts)
#include "test_parts.moc"
