// Killed at any moment: a bench, its unsaved copy, what is kept of trials, levelled copies, returns and recordings are
// what they were or what they were to be, and nothing in between. HEATHMIST_KILLS: how many of each kind (40).
#include <sys/wait.h>
#include <unistd.h>

#include <QtTest>
#include <csignal>
#include <limits>
#include <random>

#include "core/audio/clip.hpp"
#include "core/bench/document.hpp"
#include "core/bench/summary.hpp"
#include "core/bench/unsaved.hpp"
#include "tests/support/cli.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

int kills() {
  return qEnvironmentVariableIntValue("HEATHMIST_KILLS") ? qEnvironmentVariableIntValue("HEATHMIST_KILLS") : 40;
}

std::mt19937_64& chance() {
  static std::mt19937_64 engine(9);
  return engine;
}
int between(int low, int high) { return std::uniform_int_distribution<int>(low, high)(chance()); }

/// How long a work takes on this machine now: the longest of three.
template <class Work>
int microseconds_of(Work work) {
  qint64 longest = 0;
  for (int round = 0; round < 3; ++round) {
    QElapsedTimer since;
    since.start();
    work(round);
    longest = std::max(longest, since.nsecsElapsed() / 1000);
  }
  return int(longest) + 1000;
}

/// Does its work over and over in a process of its own, until that is killed after so many microseconds.
template <class Work>
void killed_after(int microseconds, Work work) {
  const pid_t child = fork();
  if (child == 0) {
    try {
      for (int round = 0;; ++round) work(round);
    } catch (...) {
    }
    _exit(3);  // it is not to end by itself
  }
  usleep(useconds_t(microseconds));
  kill(child, SIGKILL);
  int status = 0;
  waitpid(child, &status, 0);
  QVERIFY2(WIFSIGNALED(status), "the work failed");
}

Bench bench_of(const std::string& name, int masters) {
  Bench bench;
  bench.name = name;
  for (int n = 0; n < masters; ++n) {
    Master m{name + std::to_string(n), "Master " + std::to_string(n), {"/music/" + std::to_string(n) + ".wav", {}}, {}};
    for (int t = 0; t < 5; ++t)
      m.trials.push_back({m.id + "t" + std::to_string(t), std::string(200, 'x'), {"/music/back.wav", {}}, {}});
    bench.masters.push_back(m);
  }
  return bench;
}

}  // namespace

class TestKills : public QObject {
  Q_OBJECT

  QString path(const char* name) { return QString::fromStdString((folder_ / name).string()); }
  /// Calls the program and kills it after so many milliseconds; true: it was quicker.
  bool was_quicker(const QStringList& words, int milliseconds) {
    QProcess process;
    process.start(HEATHMIST_CLI, words);
    if (process.waitForFinished(milliseconds)) return true;
    process.kill();
    process.waitForFinished();
    return false;
  }
  /// How long it takes when it is let, at its quickest of three: a kill before that meets it at work.
  int milliseconds_of(const QStringList& words) {
    int quickest = std::numeric_limits<int>::max();
    for (int n = 0; n < 3; ++n) {
      QElapsedTimer since;
      since.start();
      if (call(words).status != 0) return -1;
      quickest = std::min(quickest, int(since.elapsed()));
    }
    return quickest;
  }

 private slots:
  void initTestCase() {
    qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str()));
    qputenv("HEATHMIST_AUDIO", "simulated");
    save(folder_ / "tide.wav", Programme(6, 1).render(48000), 48000, WordFormat::pcm24);
  }

  void a_bench_is_the_old_one_or_the_new_one() {
    const auto file = folder_ / "bench.heathmist";
    const Bench one = bench_of("one", 80), other = bench_of("other", 120);
    save_bench(one, file);
    std::map<std::string, int> seen;
    const auto save_one = [&](int round) { save_bench(round % 2 ? one : other, file); };
    const int took_us = microseconds_of(save_one);
    for (int n = 0; n < kills(); ++n) {
      killed_after(between(0, 6 * took_us), save_one);
      const Bench now = load_bench(file);
      QVERIFY(now == one || now == other);
      ++seen[now.name];
    }
    QVERIFY(kills() < 20 || seen.size() == 2);  // it was met in both
    save_bench(one, file);
    QVERIFY(load_bench(file) == one);
  }

  void what_was_not_saved_is_found_whole() {
    const auto place = folder_ / "unsaved";
    const Bench one = bench_of("one", 60), other = bench_of("other", 90);
    int found = 0;
    const auto keep_in = [&](UnsavedCopy& copy, int round) { copy.keep(round % 2 ? one : other, {}); };
    UnsavedCopy timed(place);
    const int took_us = microseconds_of([&](int round) { keep_in(timed, round); });
    timed.drop();
    for (int n = 0; n < kills(); ++n) {
      killed_after(between(0, 6 * took_us), [&](int round) {
        static UnsavedCopy copy(place);
        keep_in(copy, round);
      });
      for (UnsavedCopy& copy : UnsavedCopy::left_behind(place)) {
        if (!copy.exists()) continue;
        const Bench now = copy.read().bench;
        QVERIFY(now == one || now == other);
        ++found;
        copy.drop();
      }
    }
    QVERIFY2(found > kills() / 4, qPrintable(QString::number(found)));
  }

  void what_is_kept_of_a_trial_is_right_or_is_not_there() {
    const FileRef master{"/music/tide.wav", "aaaa"};
    Trial trial{"t", "x", {"/music/back.wav", "bbbb"}, {}};
    TrialSummary one, other;
    one.kind = "linear", one.residual_relative_db = -20, one.band_db = std::vector<double>(400, -1.25);
    other.kind = "lossy", other.residual_relative_db = -40, other.band_db = std::vector<double>(600, -2.5);
    one.band_hz = one.band_db, other.band_hz = other.band_db;
    const auto keep_one = [&](int round) { keep_summary(master, trial, round % 2 ? one : other); };
    const int took_us = microseconds_of(keep_one);
    for (int n = 0; n < kills(); ++n) {
      killed_after(between(0, 6 * took_us), keep_one);
      if (const auto now = kept_summary(master, trial)) {
        QVERIFY(now->kind == "linear" || now->kind == "lossy");
        QCOMPARE(now->band_db.size(), now->kind == "linear" ? size_t(400) : size_t(600));
      }
    }
  }

  void copies_and_returns_are_whole_or_not_there_data() {
    QTest::addColumn<QStringList>("words");
    QTest::addColumn<QString>("written");
    QTest::newRow("levelled copy") << QStringList{"level", path("tide.wav"), "-o", path("copies"), "--force"}
                                   << path("copies/tide.wav");
    QFile chain(path("chain.json"));
    QVERIFY(chain.open(QIODevice::WriteOnly) &&
            chain.write("{\"stages\":[{\"type\":\"word_length\",\"bits\":16}]}") > 0);
    QTest::newRow("return") << QStringList{"pass", path("tide.wav"),   "--chain", path("chain.json"),
                                           "-o",   path("return.wav"), "--force"}
                            << path("return.wav");
    QTest::newRow("probe") << QStringList{"probe", "log_sweep", "-o", path("probe.wav"), "--force"}
                           << path("probe.wav");
  }
  void copies_and_returns_are_whole_or_not_there() {
    QFETCH(QStringList, words);
    QFETCH(QString, written);
    const int whole_ms = milliseconds_of(words);
    QVERIFY2(whole_ms > 0, qPrintable(call(words).err));
    const QString actual = QFile::exists(written)
                               ? written
                               : QDir(QFileInfo(written).path()).entryInfoList(QDir::Files).first().filePath();
    const auto frames = Clip::open(actual.toStdString())->format().frames;
    int killed = 0;
    for (int n = 0; n < kills(); ++n) {
      if (n % 4 == 0) QFile::remove(actual);  // the first of its name, else in place of one
      const bool was_there = QFile::exists(actual);
      killed += !was_quicker(words, between(1, whole_ms));
      QVERIFY(!was_there || QFile::exists(actual));
      if (QFile::exists(actual)) QCOMPARE(Clip::open(actual.toStdString())->format().frames, frames);
    }
    QVERIFY(killed > kills() / 3);
    QCOMPARE(call(words).status, 0);  // what was left behind is in nobody's way
    const auto left = QDir(QFileInfo(actual).path()).entryList({".heathmist-*"}, QDir::Files | QDir::Hidden);
    QVERIFY2(left.isEmpty(), qPrintable(left.join(' ')));
  }

  /// What was recorded until then can be heard.
  void a_recording_is_readable_to_where_it_was_killed() {
    int read = 0;
    for (int n = 0; n < kills() / 4; ++n) {
      const QString file = path(qPrintable(QString("take%1.wav").arg(n)));
      was_quicker({"capture", "--stand-in", "", "-o", file, "--seconds", "20"}, between(300, 2500));
      if (!QFile::exists(file)) continue;
      const auto clip = Clip::open(file.toStdString());
      QVERIFY(clip->format().frames >= 0);
      read += clip->format().frames > 0;
    }
    qInfo("%d recordings of %d could be read", read, kills() / 4);
    QVERIFY(read > kills() / 8);
  }

 private:
  Folder folder_;
};

SHARED_MAIN(TestKills)
#include "test_kills.moc"
