// A master that is exported anew: what came back of the one before is out of date, the two have a null of their own,
// and a bench keeps all of it.
#include <QtTest>

#include "core/bench/versions.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

Bench bench_with_trials() {
  Bench bench;
  bench.masters.push_back({"m", "Mill Race", {"/a/mill-race.wav", {}}, {}});
  bench.masters[0].trials.push_back({"t", "from the desk", {"/a/desk.wav", {}}, {}});
  bench.masters[0].trials.push_back({"c", "", {}, {}, Chain{"", {{"gain", {{"gain_db", -1.0}}}}, 1}});
  return bench;
}

}  // namespace

class TestVersions : public QObject {
  Q_OBJECT

 private slots:
  void what_came_back_before_is_out_of_date() {
    Bench bench = bench_with_trials();
    Master& m = bench.masters[0];
    for (const Trial& t : m.trials) QVERIFY(!is_out_of_date(m, t) && !finding_of_version(m, t));
    const auto null = take_new_version(m, {"/a/mill-race v2.wav", {}});
    QCOMPARE(version_of(m), 2);
    QCOMPARE(m.audio.file, std::filesystem::path("/a/mill-race v2.wav"));
    QVERIFY(is_out_of_date(m, m.trials[0]));
    QVERIFY(!is_out_of_date(m, m.trials[1]));  // a chain runs again
    const Trial& before = *bench.trial(null);
    QCOMPARE(before.ret.file, std::filesystem::path("/a/mill-race.wav"));
    QVERIFY(!is_out_of_date(m, before));
    const auto finding = finding_of_version(m, m.trials[0]);
    QVERIFY(finding && finding->text.find("version 1") != std::string::npos);
    m.trials.push_back({"new", "", {"/a/desk again.wav", {}}, {}, {}, version_of(m)});
    QVERIFY(!is_out_of_date(m, m.trials.back()));
    take_new_version(m, {"/a/mill-race v3.wav", {}});
    QVERIFY(is_out_of_date(m, *bench.trial("new")) && is_out_of_date(m, *bench.trial("t")));
    QVERIFY(finding_of_version(m, *bench.trial("new"))->text.find("version 2") != std::string::npos);
    const auto files = files_of(bench);  // none of them is ever an output
    for (const char* file : {"/a/mill-race.wav", "/a/mill-race v2.wav", "/a/mill-race v3.wav", "/a/desk again.wav"})
      QVERIFY2(std::ranges::count(files, std::filesystem::path(file)) > 0, file);
  }
  void a_bench_keeps_them() {
    Bench bench = bench_with_trials();
    QCOMPARE(bench_json(bench, "/a")["heathmist_bench"].get<int>(), 2);  // older programs read it
    take_new_version(bench.masters[0], {"/a/mill-race v2.wav", {}});
    const Json json = bench_json(bench, "/a");
    QCOMPARE(json["heathmist_bench"].get<int>(), 4);
    QCOMPARE(json["masters"][0]["earlier"][0]["file"].get<std::string>(), std::string("mill-race.wav"));
    QVERIFY(bench_from_json(json, "/a", "x") == bench);
    Json broken = json;
    broken["masters"][0]["trials"][0]["version"] = 0;
    QVERIFY_EXCEPTION_THROWN(bench_from_json(broken, "/a", "x"), InputError);
    broken = json;
    broken["masters"][0]["earlier"] = "v1.wav";
    QVERIFY_EXCEPTION_THROWN(bench_from_json(broken, "/a", "x"), InputError);
  }
};

QTEST_GUILESS_MAIN(TestVersions)
#include "test_versions.moc"
