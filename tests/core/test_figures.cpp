// The table of what the benchmarks measured, and its file.
#include <QtTest>
#include <fstream>

#include "benchmarks/figures.hpp"
#include "benchmarks/slopes.hpp"
#include "core/audio/clip.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::bench;
using namespace heathmist::test;

class TestFigures : public QObject {
  Q_OBJECT

 private slots:
  void a_bound_is_met_on_its_own_side() {
    QVERIFY((Figure{"null", "plain", 0.5, "", 0.5}.is_met()));
    QVERIFY((!Figure{"null", "plain", 0.51, "", 0.5}.is_met()));
    QVERIFY((Figure{"meter", "witness", 40, "", 40, true}.is_met()));
    QVERIFY((!Figure{"meter", "witness", 39, "", 40, true}.is_met()));
    QVERIFY((Figure{"pages", "", 1e9}.is_met()));
  }
  void what_is_kept_comes_back() {
    const Folder folder;
    const std::vector<Figure> all{{"null", "plain", 0.25, "", 0.5},
                                  {"meter", "witness", 41.5, "", 40, true},
                                  {"memory", "", 321, "MiB", {}},
                                  {"left out", "", std::nan(""), "s", 2}};
    write_figures(all, folder / "run.json");
    const auto back = read_figures(folder / "run.json");
    QCOMPARE(back.size(), all.size());
    for (size_t n = 0; n < all.size(); ++n) {
      QCOMPARE(back[n].what, all[n].what);
      QCOMPARE(back[n].unit, all[n].unit);
      QVERIFY(back[n].to_reach == all[n].to_reach && back[n].more_is_better == all[n].more_is_better);
      QVERIFY(back[n].value == all[n].value || (std::isnan(back[n].value) && std::isnan(all[n].value)));
    }
    QVERIFY_EXCEPTION_THROWN(write_figures({}, folder / "run.json"), OutputRefused);  // not even one of its own
    QCOMPARE(read_figures(folder / "run.json").size(), all.size());
  }
  void what_is_none_is_named() {
    const Folder folder;
    for (const char* text : {"", "{", "[]", "{\"figures\": [{\"what\": 3}]}", "{\"figures\": 7}"}) {
      std::ofstream(folder / "none.json") << text;
      try {
        read_figures(folder / "none.json");
        QFAIL(text);
      } catch (const InputError& error) {
        QVERIFY2(std::string(error.what()).find("none.json") != std::string::npos, error.what());
      }
    }
    QVERIFY_EXCEPTION_THROWN(read_figures(folder / "gone.json"), InputError);
  }
  void two_runs_are_set_side_by_side() {
    const std::vector<Figure> before{{"null", "plain", 0.5, "", 0.5},
                                     {"memory", "", 100, "MiB", {}},
                                     {"wrong pairs", "", 0, "", 0},
                                     {"left out", "", std::nan(""), "s", {}}},
        now{{"null", "plain", 0.6, "", 0.5}, {"new", "", 2, "s", {}},     {"memory", "", 50, "MiB", {}},
            {"wrong pairs", "", 1, "", 0},   {"left out", "", 3, "s", 4}, {"not now", "", std::nan(""), "s", 4}};
    const auto table = QString::fromStdString(table_of(now, before));
    const auto lines = table.split('\n');
    QCOMPARE(lines.size(), 8);
    QVERIFY2(!table.contains("nan") && !table.contains("inf"), qPrintable(table));
    QVERIFY2(lines[4].contains("missed") && lines[4].endsWith("0.000"), qPrintable(lines[4]));
    QVERIFY2(lines[5].contains("met") && lines[5].endsWith("not measured"), qPrintable(lines[5]));
    QVERIFY2(lines[6].contains("not measured") && !lines[6].contains(" met"), qPrintable(lines[6]));
    QVERIFY2(lines[1].contains("null / plain") && lines[1].contains("missed") && lines[1].contains("0.500 (+20 %)"),
             qPrintable(lines[1]));
    QVERIFY2(!lines[2].contains('%') && !lines[2].contains("met"), qPrintable(lines[2]));
    QVERIFY2(lines[3].contains("100 MiB (-50 %)"), qPrintable(lines[3]));
  }

  /// What a power of the size costs has that power for its slope, whatever there is to start with.
  void a_slope_is_the_power_that_cost_grows_by() {
    for (const double power : {0.0, 0.5, 1.0, 1.5}) {
      Course c{"null", "seconds", {}};
      for (const double size : {1.0, 10.0, 100.0, 1000.0, 10000.0, 100000.0})
        c.points.push_back({size, 0.02 * std::pow(size, power), 40 + 0.5 * std::pow(size, power)});
      QVERIFY(std::abs(time_slope(c) - power) < 1e-9);
      QVERIFY(std::abs(memory_slope(c) - power) < (power == 0 ? 1e-9 : 0.25));
      QVERIFY(QString::fromStdString(table_of({c})).contains(" !") == (power > 1));
      QCOMPARE(json_of({c})["courses"][0]["points"].size(), c.points.size());
    }
    QVERIFY(std::isnan(time_slope({"null", "seconds", {{10, 1, 1}}})));
  }

  /// Within its frame, in powers of ten.
  void each_verb_has_its_charts() {
    const std::vector<Course> courses{{"null", "seconds", {{10, 0.5, 40}, {100, 9, 1400}}},
                                      {"null", "channels", {{1, 1, 40}, {64, 70, 900}}},
                                      {"facts", "seconds", {{10, 1, 40}}}};  // one point is no course
    const auto report = report_of(courses);
    QCOMPARE(report.blocks.size(), size_t(2));
    for (size_t n = 0; n < 2; ++n) {
      const auto& chart = std::get<Chart>(report.blocks[n]);
      QVERIFY(chart.is_logarithmic && chart.lines.size() == 2 && chart.title.find("null") == 0);
      for (size_t k = 0; k < 2; ++k) {
        QCOMPARE(chart.lines[0].y[k], std::log10(courses[n].points[k].time_s));
        QCOMPARE(chart.lines[1].y[k], std::log10(courses[n].points[k].memory_mib));
        for (const ChartLine& line : chart.lines)
          QVERIFY(line.x[k] >= chart.low_x && line.x[k] <= chart.high_x && line.y[k] >= chart.low_y &&
                  line.y[k] <= chart.high_y);
      }
    }
  }
};

QTEST_GUILESS_MAIN(TestFigures)
#include "test_figures.moc"
