// The document: saved and opened again, refused when broken, files found and missed.
#include <QtTest>
#include <fstream>
#include <set>

#include "core/audio/cache.hpp"
#include "core/audio/fingerprint.hpp"
#include "core/bench/document.hpp"
#include "core/bench/summary.hpp"
#include "tests/support/signals.hpp"
#include "tests/support/small_disk.hpp"

using namespace heathmist;
using namespace heathmist::test;

class TestBench : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  void what_is_saved_comes_back() {
    const auto audio = save(folder_ / "a.wav", Planar(1, 100), 48000);
    Bench bench;
    bench.name = "Curlew Hours";
    bench.masters.push_back({fresh_id(), "Mill Race", {audio, fingerprint(audio)}, {}});
    Trial trial{fresh_id(), "Back", {audio, fingerprint(audio)}, {}};
    trial.hold.delay_samples = -12.5;
    trial.hold.inverted = true;
    bench.masters[0].trials.push_back(trial);
    bench.settings["lift_db"] = 24;
    save_bench(bench, folder_ / "x.heathmist");
    QVERIFY(load_bench(folder_ / "x.heathmist") == bench);
    std::ifstream in(folder_ / "x.heathmist");
    const std::string text((std::istreambuf_iterator<char>(in)), {});
    QVERIFY2(text.find("\"a.wav\"") != std::string::npos, "files stand relative to the bench");
  }

  void a_bench_moves_with_its_folder() {
    const auto from = folder_ / "from", to = folder_ / "to";
    std::filesystem::create_directories(from);
    const auto audio = save(from / "a.wav", Programme(1, 2).render(48000), 48000);
    Bench bench;
    bench.masters.push_back({"m", "Mill Race", {audio, fingerprint(audio)}, {}});
    save_bench(bench, from / "x.heathmist");
    std::filesystem::copy(from, to);
    std::filesystem::remove_all(from);
    const auto moved = load_bench(to / "x.heathmist");
    QCOMPARE(state_of(moved.masters[0].audio), FileState::present);
    save(to / "a.wav", Programme(1, 3).render(48000), 48000);
    QCOMPARE(state_of(moved.masters[0].audio), FileState::changed);
    std::filesystem::remove(to / "a.wav");
    QCOMPARE(state_of(moved.masters[0].audio), FileState::missing);
  }

  void broken_and_newer_benches_are_refused_data() {
    QTest::addColumn<QString>("text");
    QTest::addColumn<QString>("says");
    QTest::newRow("empty") << ""
                           << "empty";
    QTest::newRow("half") << "{\"heathmist_bench\": 1, \"name\": \"x\", \"mas"
                          << "broken";
    QTest::newRow("other json") << "{\"a\": 1}"
                                << "no bench";
    for (const char* version : {"1e30", "-5", "0", "1.5", "\"2\"", "true", "null"})
      QTest::newRow(version) << QString("{\"heathmist_bench\": %1, \"name\": \"\", \"masters\": []}").arg(version)
                             << "heathmist_bench must be";
    for (const char* settings : {"[]", "true", "1", "\"x\"", "null"})
      QTest::newRow(settings)
          << QString("{\"heathmist_bench\": 2, \"name\": \"\", \"masters\": [], \"settings\": %1}").arg(settings)
          << "settings must be an object";
    QTest::newRow("hold")
        << R"({"heathmist_bench": 2, "name": "x", "masters": [{"id": "1", "name": "y", "audio": {"file": "a"},
      "trials": [{"id": "2", "name": "", "return": {"file": "b"}, "hold": {"gain_db": "loud"}}]}]})"
        << "masters[0].trials[0].hold.gain_db must be a number";
    QTest::newRow("list") << "[1]"
                          << "no bench";
    QTest::newRow("wrong types") << R"({"heathmist_bench": 1, "name": 3, "masters": {}})"
                                 << "broken";
    QTest::newRow("no file")
        << R"({"heathmist_bench": 1, "name": "x", "masters": [{"id": "1", "name": "y", "audio": {"file": ""}, "trials": []}]})"
        << "broken";
    QTest::newRow("newer") << R"({"heathmist_bench": 99})"
                           << "newer";
  }
  void broken_and_newer_benches_are_refused() {
    QFETCH(QString, text);
    QFETCH(QString, says);
    std::ofstream(folder_ / "bad.heathmist") << text.toStdString();
    try {
      load_bench(folder_ / "bad.heathmist");
      QFAIL("it was taken");
    } catch (const InputError& error) {
      QVERIFY2(QString(error.what()).contains(says), error.what());
    }
  }

  void a_save_that_fails_leaves_the_old_bench() {
    Bench bench;
    bench.name = "old";
    const auto file = folder_ / "keep.heathmist";
    save_bench(bench, file);
    bench.name = "new";
    {
      const SmallDisk full(40);
      QVERIFY_EXCEPTION_THROWN(save_bench(bench, file), InputError);
    }
    QCOMPARE(load_bench(file).name, std::string("old"));
  }

  void a_bench_is_never_saved_over_what_it_holds() {
    const auto audio = save(folder_ / "held.wav", Planar(1, 100), 48000);
    const auto before = std::filesystem::file_size(audio);
    Bench bench;
    bench.masters.push_back({"m", "Mill Race", {audio, ""}, {}});
    QVERIFY_EXCEPTION_THROWN(save_bench(bench, audio), OutputRefused);
    QCOMPARE(std::filesystem::file_size(audio), before);
  }

  /// Results are known by id: no two entries may have one.
  void entries_of_one_id_are_told_apart_and_said() {
    std::ofstream(folder_ / "twins.heathmist") << R"({"heathmist_bench": 2, "name": "x", "masters": [
      {"id": "a", "name": "y", "audio": {"file": "y.wav"}, "trials": [
        {"id": "a", "name": "1", "return": {"file": "1.wav"}}, {"id": "b", "name": "2", "return": {"file": "2.wav"}},
        {"id": "b", "name": "3", "return": {"file": "3.wav"}}, {"id": "", "name": "4", "return": {"file": "4.wav"}}]}]})";
    std::vector<std::string> notes;
    const Bench bench = load_bench(folder_ / "twins.heathmist", &notes);
    std::set<std::string> ids{bench.masters[0].id};
    for (const Trial& t : bench.masters[0].trials) ids.insert(t.id);
    QCOMPARE(ids.size(), size_t(5));
    QCOMPARE(bench.masters[0].id, std::string("a"));
    QVERIFY(notes.size() == 1 && notes[0].starts_with("3 of its entries"));
    load_bench(folder_ / "x.heathmist", &notes);
    QCOMPARE(notes.size(), size_t(1));
  }

  /// A name that is no UTF-8 comes back byte for byte, though JSON cannot hold it.
  void names_in_latin_1_come_back() {
    Bench bench;
    bench.masters.push_back({"m", "Caf\xe9", {folder_ / "caf\xe9.wav", "1-" + std::string(32, '2')}, {}});
    save_bench(bench, folder_ / "latin.heathmist");
    const Bench back = load_bench(folder_ / "latin.heathmist");
    QVERIFY(back.masters[0].audio == bench.masters[0].audio);
    bench.masters[0].audio.fingerprint =
        "1-2";  // as an earlier version kept them: it says too little to be held against
    save_bench(bench, folder_ / "latin.heathmist");
    QCOMPARE(load_bench(folder_ / "latin.heathmist").masters[0].audio.fingerprint, std::string());
  }

  void held_values_take_the_place_of_measured_ones() {
    Fit fit;
    fit.delay_samples = 3;
    fit.pairs = plain_pairs(2, 2);
    FitHold hold;
    hold.gain_db = -1;
    hold.swapped = true;
    const Fit held = with_hold(fit, hold);
    QCOMPARE(held.delay_samples, 3.0);
    QCOMPARE(held.gain_db, -1.0);
    QVERIFY(held.swapped());
  }

  void summaries_are_kept_by_content() {
    const auto a = save(folder_ / "a.wav", Programme(2, 1).render(48000), 48000),
               b = save(folder_ / "b.wav", Programme(2, 1).render(48000, 5), 48000);
    const FileRef from{a, fingerprint(a)};
    const Trial to{"t", "", {b, fingerprint(b)}, {}};
    QVERIFY(!kept_summary(from, to));
    keep_summary(from, to, summary_of(null_of(a, b)));
    const auto kept = kept_summary(from, to);
    QVERIFY(kept && kept->kind == "shifted" && kept->trusted);
    Trial other = to;
    other.hold.gain_db = 1;
    Trial made = to;
    made.chain = Chain{"", {{"gain"}}, 1};
    QVERIFY(!kept_summary(from, made));
    QVERIFY(!kept_summary(from, other));
  }

  /// Another program's rules, or an earlier one's, may have told something else of the same files.
  void what_other_rules_kept_is_not_looked_at() {
    const auto a = save(folder_ / "c.wav", Programme(2, 2).render(48000), 48000),  // no other test's content
        b = save(folder_ / "d.wav", Programme(2, 2).render(48000, 5), 48000);
    const FileRef from{a, fingerprint(a)};
    const Trial to{"t", "", {b, fingerprint(b)}, {}};
    keep_summary(from, to, summary_of(null_of(a, b)));
    QVERIFY(kept_summary(from, to));
    std::vector<std::filesystem::path> kept;  // all of them first: a renamed one may come round again
    for (const auto& entry : std::filesystem::directory_iterator(cache_folder()))
      if (entry.path().extension() == ".trial" && entry.path().filename().string().starts_with(from.fingerprint))
        kept.push_back(entry.path());
    QCOMPARE(kept.size(), size_t(1));
    const std::string name = kept[0].filename().string();
    std::filesystem::rename(kept[0], cache_folder() / (name.substr(0, name.rfind('-') + 1) + "0123456789ab.trial"));
    QVERIFY(!kept_summary(from, to));
  }

  /// A rule that changes is another fingerprint; one that does not builds nothing anew.
  void rules_have_a_fingerprint_of_their_sources() {
    const auto put = [&](const char* name, const char* text) {
      std::ofstream(folder_ / name) << text;
      return (folder_ / name).string();
    };
    const auto one = put("one.cpp", "constexpr int most = 3;"), two = put("two.cpp", "constexpr int least = 1;");
    const auto header = QString::fromStdString((folder_ / "rules.hpp").string());
    const auto made = [&] {
      const QString sources = QString::fromStdString("-DSOURCES=" + one + ";" + two);
      if (QProcess::execute(HEATHMIST_CMAKE, {sources, "-DRULES=" + header, "-P", HEATHMIST_RULES}) != 0)
        return QByteArray();
      QFile file(header);
      return file.open(QIODevice::ReadOnly) ? file.readAll() : QByteArray();
    };
    const auto before = made();
    QVERIFY(before.contains("rules_fingerprint[] = \""));
    const auto written = std::filesystem::last_write_time(folder_ / "rules.hpp");
    QCOMPARE(made(), before);
    QCOMPARE(std::filesystem::last_write_time(folder_ / "rules.hpp"), written);
    put("two.cpp", "constexpr int least = 2;");
    QVERIFY(made() != before);
  }

  void chains_are_kept_and_a_broken_one_takes_nothing_with_it() {
    Bench bench;
    bench.name = "Curlew Hours";
    Trial made{"t1", "", {}, {}};
    made.chain = Chain{
        "", {{"codec", {{"codec", "mp3"}}}, {"convolution", {{"response", (folder_ / "ir.wav").string()}}, false}}, 2};
    bench.masters.push_back({"m1", "Mill Race", {folder_ / "a.wav", ""}, {made}});
    bench.chains.push_back(Chain{"Small", {{"gain", {{"gain_db", -3}}}}, 1});
    save_bench(bench, folder_ / "c.heathmist");
    QVERIFY(load_bench(folder_ / "c.heathmist") == bench);
    bench.masters[0].trials[0].chain->stages.push_back({"nonsense"});
    bench.masters[0].trials[0].chain->stages[0].values["bit_rate_kbps"] = 1e9;
    save_bench(bench, folder_ / "c.heathmist");
    const Bench again = load_bench(folder_ / "c.heathmist");
    QCOMPARE(again.masters.size(), size_t(1));
    QVERIFY_EXCEPTION_THROWN(check(*again.masters[0].trials[0].chain), ChainError);
    QCOMPARE(label_of(again.masters[0].trials[0].chain->stages.back()), std::string("nonsense"));
  }

 private:
  Folder folder_;
};

QTEST_GUILESS_MAIN(TestBench)
#include "test_bench.moc"
