// Findings that were put aside: they stay so as long as they say the same, are kept with the bench, and are told apart
// in a report.
#include <QtTest>
#include <fstream>

#include "core/bench/document.hpp"
#include "core/bench/put_aside.hpp"
#include "core/compare/finding_place.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

Finding finding(const std::string& code, const std::string& text, const std::string& detail = {}) {
  Finding f;
  f.code = code, f.text = text, f.detail = detail;
  return f;
}

Bench bench_in(const std::filesystem::path& folder) {
  Bench bench{"Curlew Hours", {}, {}};
  Master master{"m1", "Tide", {folder / "tide.wav", {}}, {}};
  master.trials.push_back({"t1", "Back", {folder / "back.wav", {}}, {}});
  bench.masters.push_back(master);
  return bench;
}

int format_written(const std::filesystem::path& file) {
  std::ifstream in(file);
  return Json::parse(in)["heathmist_bench"].get<int>();
}

}  // namespace

class TestPutAside : public QObject {
  Q_OBJECT
  Folder folder_;

 private slots:
  void it_comes_back_when_its_numbers_change() {
    Trial trial{"t", "x", {}, {}};
    const auto hum = finding("hum", "50 Hz hum at -93.9 dBFS.", "From -70.5 to -78.3 dBr.");
    put_aside(trial, hum, "the old desk");
    QVERIFY(aside_of(trial, hum) && aside_of(trial, hum)->reason == "the old desk");
    QVERIFY(!aside_of(trial, finding("hum", "50 Hz hum at -90.1 dBFS.", hum.detail)));
    QVERIFY(!aside_of(trial, finding("hum", hum.text, "From -60 to -78.3 dBr.")));
    QVERIFY(!aside_of(trial, finding("tone", hum.text, hum.detail)));
    put_aside(trial, hum, "meant");
    QCOMPARE(trial.aside.size(), size_t(1));
    QCOMPARE(trial.aside.front().reason, std::string("meant"));
    bring_back(trial, hum);
    QVERIFY(!aside_of(trial, hum) && trial.aside.empty());
  }

  void it_is_kept_with_the_bench_in_the_oldest_format_that_holds_it() {
    Bench bench = bench_in((folder_ / "x").parent_path());
    const auto file = folder_ / "bench.heathmist";
    save_bench(bench, file);
    QCOMPARE(format_written(file), 2);
    put_aside(bench.masters.front().trials.front(), finding("dc_offset", "DC at \u221248 dBFS.", "\u201cquoted\u201d"),
              "known, \"as ever\"\nsince the mill");
    save_bench(bench, file);
    QCOMPARE(format_written(file), 5);
    const Bench back = load_bench(file);
    QVERIFY(back.masters.front().trials.front().aside == bench.masters.front().trials.front().aside);
  }

  void a_broken_one_is_refused_with_its_place() {
    Bench bench = bench_in((folder_ / "x").parent_path());
    put_aside(bench.masters.front().trials.front(), finding("hum", "Hum."), "known");
    Json json = bench_json(bench, (folder_ / "x").parent_path());
    json["masters"][0]["trials"][0]["aside"][0]["reason"] = 7;
    try {
      bench_from_json(json, (folder_ / "x").parent_path(), "b.heathmist");
      QFAIL("it was taken");
    } catch (const InputError& error) {
      QVERIFY2(std::string(error.what()).find("aside") != std::string::npos, error.what());
    }
  }

  void the_technical_line_says_what_where_and_how_much() {
    Finding f = finding("eq", "EQ: \u22121.9 dB at 21 Hz.");
    f.severity = Severity::caution, f.value = -1.9, f.unit = "dB";
    QCOMPARE(technical_line(f), std::string("eq, caution; -1.9 dB"));
    f.at_s = 62.5, f.band_hz = std::pair{22.1, 88.4};
    QCOMPARE(technical_line(f), std::string("eq, caution; -1.9 dB; 1:02.50; 22 Hz to 88 Hz"));
    f.when_s = std::pair{62.0, 64.0};
    QVERIFY(technical_line(f).find("1:02.00 to 1:04.00") != std::string::npos);
  }
};

QTEST_MAIN(TestPutAside)
#include "test_put_aside.moc"
