// docs/archives.md as it stands: its first recipe is run here by four workers, and gives what one run gives.
#include <QTemporaryDir>
#include <QtTest>
#include <fstream>

#include "core/json.hpp"
#include "tests/support/cli.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

class TestArchives : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() {
    for (const char* tool : {"parallel", "sqlite3"})
      if (QStandardPaths::findExecutable(tool).isEmpty()) QSKIP(tool);
    qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str()));
    std::filesystem::create_directories(folder_ / "archive" / "b side");
    for (int n = 0; n < 10; ++n) {
      const auto sound = scaled(programme(n % 2 ? "piano" : "speech", 44100, 2, unsigned(n)), n % 3 ? 0.3 : 1.5);
      const std::string name = (n < 5 ? "" : "b side/") + std::to_string(n) + (n % 4 ? ".wav" : ".flac");
      save(folder_ / "archive" / name, sound, 44100, WordFormat::pcm16);
    }
    std::ofstream(folder_ / "archive" / "broken, \"cut\".wav") << "RIFF";
    std::ofstream(folder_ / "archive" / "notes.txt") << "no audio";
    std::ofstream(folder_ / "rules.json") << R"({"true_peak_dbtp": {"max": -1}})";
  }

  void the_recipe_gives_what_one_run_gives() {
    const QByteArray recipe = recipe_with("--jobs");
    QVERIFY(recipe.contains("parallel") && recipe.contains("--part"));
    const QStringList variables{"ARCHIVE=" + path("archive"), "RULES=" + path("rules.json"), "JOBS=4",
                                "PATH=" + QFileInfo(HEATHMIST_CLI).path() + ":" + qEnvironmentVariable("PATH"),
                                "HOME=" + path(".")};
    const auto ran = call_program("sh", {"-e", "-c", "cd '" + path(".") + "'\n" + recipe}, {}, variables);
    QVERIFY2(ran.status == 0, ran.err);
    const auto alone = call({"check", "--rules", path("rules.json"), "--from-file", path("list.txt"), "--json"});
    QCOMPARE(alone.status, 1);  // one is broken
    std::map<std::string, Json> expected, merged;
    const Json whole = json_from(alone.out.toStdString());
    for (const Json& entry : whole["files"]) expected[entry["path"]] = entry;
    QCOMPARE(expected.size(), size_t(11));
    std::ifstream lines(folder_ / "all.jsonl");
    for (std::string line; std::getline(lines, line);)
      if (const Json entry = json_from(line); entry.contains("path")) merged[entry["path"]] = entry;
    QVERIFY(merged == expected);  // to the last digit, whoever worked on it
    QVERIFY(QFile::exists(path("parts/11.jsonl")) && QFile::exists(path("parts/16.jsonl")));

    const auto table = call_program("sqlite3", {"-json", path("sheet.db"), "SELECT * FROM sheet"});
    const Json rows = json_from(table.out.toStdString());
    QCOMPARE(rows.size(), expected.size());
    for (const Json& row : rows) {
      const Json& entry = expected.at(row["path"]);
      if (entry.contains("error")) {
        QCOMPARE(row["error"].get<std::string>(), entry["error"].get<std::string>());
        continue;
      }
      QCOMPARE(row["passes"].get<int>() != 0, entry["passes"].get<bool>());
      QCOMPARE(row["true_peak_dbtp"].get<double>(), entry["true_peak_dbtp"].get<double>());
    }
    QVERIFY(QFileInfo(path("sheet.csv")).size() > 0);
    // run again it does nothing twice, and changes nothing
    QFile::remove(path("sheet.db"));
    QCOMPARE(call_program("sh", {"-e", "-c", "cd '" + path(".") + "'\n" + recipe}, {}, variables).status, 0);
    QCOMPARE(call_program("sqlite3", {"-json", path("sheet.db"), "SELECT * FROM sheet"}).out, table.out);
  }
  /// The script of an array as its scheduler runs it: a task at a time, each told its number alone.
  void an_arrays_tasks_give_what_one_run_gives() {
    const QByteArray script = recipe_with("#SBATCH");
    QVERIFY(script.contains("--array=1-256") && script.contains("/256\""));
    std::filesystem::create_directories(folder_ / "array" / "parts");
    std::filesystem::copy_file(folder_ / "list.txt", folder_ / "array" / "list.txt");
    std::ofstream(folder_ / "array" / "check.sh", std::ios::binary) << script.toStdString();
    for (const int task : {1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 256}) {  // eleven files, and tasks that have none
      const auto ran = call_program(
          "sh", {"-c", "cd '" + path("array") + "' && sh check.sh"}, {},
          {"RULES=" + path("rules.json"), "SLURM_ARRAY_TASK_ID=" + QString::number(task),
           "PATH=" + QFileInfo(HEATHMIST_CLI).path() + ":" + qEnvironmentVariable("PATH"), "HOME=" + path(".")});
      QVERIFY2(ran.status == 0, ran.err);
    }
    std::map<std::string, Json> merged;
    for (const auto& part : std::filesystem::directory_iterator(folder_ / "array" / "parts")) {
      std::ifstream lines(part.path());
      for (std::string line; std::getline(lines, line);)
        if (const Json entry = json_from(line); entry.contains("path")) merged[entry["path"]] = entry;
    }
    const Json whole = json_from(
        call({"check", "--rules", path("rules.json"), "--from-file", path("list.txt"), "--json"}).out.toStdString());
    QCOMPARE(merged.size(), whole["files"].size());
    for (const Json& entry : whole["files"]) QVERIFY(merged.at(entry["path"]) == entry);
  }
  /// A pair has one line with its names.
  void a_null_is_one_line() {
    const auto a = call({"null", path("archive/1.wav"), path("archive/1.wav"), "--jsonl"});
    QVERIFY2(a.status == 0, a.err);
    QCOMPARE(a.out.count('\n'), qsizetype(1));
    QCOMPARE(a.json()["paths"].toObject()["return"].toString(), path("archive/1.wav"));
  }

 private:
  /// The first script of the document that has this in it.
  static QByteArray recipe_with(const char* word) {
    QFile file(HEATHMIST_ARCHIVES);
    if (!file.open(QIODevice::ReadOnly)) return {};
    const QByteArray text = file.readAll();
    for (qsizetype from = text.indexOf("```sh\n"); from >= 0; from = text.indexOf("```sh\n", from + 6)) {
      const QByteArray recipe = text.mid(from + 6, text.indexOf("```", from + 6) - from - 6);
      if (recipe.contains(word)) return recipe;
    }
    return {};
  }
  QString path(const char* name) const { return QString::fromStdString((folder_ / name).string()); }
  Folder folder_;
};

QTEST_GUILESS_MAIN(TestArchives)
#include "test_archives.moc"
