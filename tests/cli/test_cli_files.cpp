// What the command line does to files, and with files that are bad, many, or none: inputs stay, nothing is replaced
// unasked, nothing runs unallowed, a bad file costs only its own entry.
#include <sys/stat.h>
#include <QtTest>

#include "tests/support/cli.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

class TestCliFiles : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() {
    qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str()));
    qputenv("XDG_CONFIG_HOME", QByteArray((folder_ / "config").c_str()));
    const auto sound = requantised(Programme(3, 1).render(48000), 16, true);
    master_ = QString::fromStdString(save(folder_ / "m.wav", sound, 48000, WordFormat::pcm24).string());
    ret_ = QString::fromStdString(save(folder_ / "r.wav", scaled(sound, 0.5), 48000, WordFormat::pcm24).string());
    gain_ = written("gain.json", R"({"stages":[{"type":"gain","gain_db":-1}]})");
    link_ = path("link.wav");
    QVERIFY(QFile::link(master_, link_));
    hard_ = path("hard.wav");
    std::filesystem::create_hard_link(master_.toStdString(), hard_.toStdString());
  }

  /// Every verb that writes, over its input by every name, forced or not.
  void an_input_is_never_written_over_data() {
    QTest::addColumn<QStringList>("words");
    QTest::addColumn<bool>("only_wav");
    QTest::newRow("pass") << QStringList{"pass", master_, "--chain", gain_, "-o"} << true;
    QTest::newRow("null, master") << QStringList{"null", master_, ret_, "--residual"} << true;
    QTest::newRow("null, return") << QStringList{"null", ret_, master_, "--residual"} << true;
    QTest::newRow("measure") << QStringList{"measure", master_, "--csv"} << false;
    QTest::newRow("outlets") << QStringList{"outlets", master_, "--csv"} << false;
    QTest::newRow("spectrum") << QStringList{"spectrum", master_, "--csv"} << false;
    QTest::newRow("matrix") << QStringList{"matrix", master_, "--chains", gain_, "--csv"} << false;
    QTest::newRow("read") << QStringList{"read", "tone", master_, "--csv"} << false;
    QTest::newRow("converters") << QStringList{"converters", master_, "--only", "quick", "--csv"} << false;
  }
  void an_input_is_never_written_over() {
    QFETCH(QStringList, words);
    QFETCH(bool, only_wav);
    const auto before = content(master_);
    for (const QString& name : {master_, link_, hard_, QString(path("sub/../m.wav"))})
      for (const bool force : {false, true}) {
        QDir().mkpath(path("sub"));
        const auto answer = call(words + QStringList{name} + (force ? QStringList{"--force"} : QStringList{}));
        QCOMPARE(answer.status, 2);
        QVERIFY(answer.out.isEmpty() && answer.err.count('\n') == 1);
        QVERIFY(content(master_) == before);
      }
    if (only_wav) return;
    const auto chain = content(gain_);  // a chain is an input, too
    QCOMPARE(call({"matrix", master_, "--chains", gain_, "--csv", gain_, "--force"}).status, 2);
    QVERIFY(content(gain_) == chain);
  }

  void a_file_that_is_there_is_replaced_only_by_force() {
    const QString out = written("old.wav", "old");
    QCOMPARE(call({"pass", master_, "--chain", gain_, "-o", out}).status, 2);
    QCOMPARE(call({"probe", "tone", "-o", out}).status, 2);
    QCOMPARE(call({"null", master_, ret_, "--residual", out}).status, 2);
    QCOMPARE(content(out), QByteArray("old"));
    QCOMPARE(call({"pass", master_, "--chain", gain_, "-o", out, "--force"}).status, 0);
    QVERIFY(content(out).startsWith("RIFF"));
    const QString made = path("new/folder/out.wav");
    QCOMPARE(call({"pass", master_, "--chain", gain_, "-o", made}).status, 0);
    QVERIFY(QFile::exists(made));
    const auto level = call({"level", master_, ret_, "-o", path("levelled"), "--target", "-30"});
    QCOMPARE(level.status, 0);
    const auto again = call({"level", master_, ret_, "-o", path("levelled"), "--target", "-20"});
    QCOMPARE(again.status, 2);
  }

  void stages_need_leave() {
    const QString touched = path("touched");
    const QString runs = written("runs.json", R"({"stages":[{"type":"external","command":"sh -c 'touch )" +
                                                  touched.toUtf8() + R"(; cp {in} {out}'"}]})");
    const QString chains = written("many.json", "{\"chains\":[" + content(runs) + "]}");
    for (const QStringList& words : {QStringList{"pass", master_, "--chain", runs, "-o", path("never.wav")},
                                     {"matrix", master_, "--chains", chains},
                                     {"ceiling", master_, "--chains", chains}}) {
      const auto refused = call(words + QStringList{"--allow", "keep,lv2"});
      QCOMPARE(refused.status, 2);
      QVERIFY(refused.err.contains("--allow external") && refused.err.contains("touch"));
      QVERIFY(!QFile::exists(touched) && !QFile::exists(path("never.wav")));
    }
    QCOMPARE(call({"pass", master_, "--chain", runs, "-o", path("ran.wav"), "--allow", "external"}).status, 0);
    QVERIFY(QFile::exists(touched));
    const QString keeps = written("keeps.json", R"({"stages":[{"type":"codec","codec":"mp3","keep":"kept.mp3"}]})");
    QCOMPARE(call({"pass", master_, "--chain", keeps, "-o", path("k1.wav")}).status, 2);
    QCOMPARE(call({"pass", master_, "--chain", keeps, "-o", path("k1.wav"), "--allow", "keep"}).status, 0);
    QVERIFY(QFile::exists(path("kept.mp3")));
    QFile::resize(path("kept.mp3"), 10);
    QCOMPARE(call({"pass", master_, "--chain", keeps, "-o", path("k2.wav"), "--allow", "keep"}).status, 2);
    QCOMPARE(QFileInfo(path("kept.mp3")).size(), 10);
    QVERIFY(!QFile::exists(path("k2.wav")));
    const QString over = written("over.json", R"({"stages":[{"type":"codec","codec":"adpcm_ima","keep":"m.wav"}]})");
    const auto before = content(master_);
    QCOMPARE(call({"pass", master_, "--chain", over, "-o", path("k3.wav"), "--allow", "keep", "--force"}).status, 2);
    QVERIFY(content(master_) == before);
  }

  void a_bad_file_costs_its_own_entry() {
    const QString broken = written("broken.wav", "RIFF....WAVE and no more"), gone = path("gone.wav");
    for (const QStringList& words :
         {QStringList{"facts"}, {"measure"}, {"spectrum"}, {"outlets", "--outlet", "ebu-r128"}}) {
      const auto answer = call(words + QStringList{master_, broken, gone, ret_, "--json"});
      QCOMPARE(answer.status, 1);
      const auto files = answer.json()["files"].toArray();
      QCOMPARE(files.size(), 4);
      for (int n = 0; n < 4; ++n) {
        const auto entry = files[n].toObject();
        QCOMPARE(entry["path"].toString(), (QStringList{master_, broken, gone, ret_})[n]);
        QCOMPARE(entry.contains("error"), n == 1 || n == 2);
        if (entry.contains("error")) QCOMPARE(entry.size(), 2);
      }
      QCOMPARE(answer.err.count('\n'), 2);
      QVERIFY(answer.err.contains("broken.wav") && answer.err.contains("gone.wav"));
      const auto lines = call(words + QStringList{master_, gone, ret_, "--jsonl"});
      QCOMPARE(lines.status, 1);
      QCOMPARE(lines.out.count('\n'), 3);
      for (const auto& line : lines.out.trimmed().split('\n')) QVERIFY(QJsonDocument::fromJson(line).isObject());
    }
    const auto cells = call({"matrix", master_, gone, "--chains", gain_, "--jsonl"});
    QVERIFY(cells.status == 1 && cells.out.count('\n') == 2 && cells.err.contains("gone.wav"));
    const auto album = call({"measure", master_, gone, "--album", "--json"});
    QVERIFY(album.status == 1 && album.json()["album"].isNull());  // a part of an album is not the album
    const auto copies = call({"level", master_, broken, "-o", path("some"), "--target", "-30", "--json"});
    QVERIFY(copies.status == 1 && QFile::exists(path("some/m.wav")));
    QVERIFY(copies.json()["copies"].toArray()[1].toObject().contains("error"));
    const auto none = call({"level", master_, broken, "-o", path("none"), "--album", "--json"});
    QVERIFY(none.status == 1 && !QFile::exists(path("none/m.wav")));
  }

  void lists_parts_and_streams() {
    const QString list = written("list.txt", (master_ + "\n\n" + ret_ + "\r\n" + master_ + "\n").toUtf8());
    QCOMPARE(paths(call({"facts", "--from-file", list, "--json"})), (QStringList{master_, ret_, master_}));
    QCOMPARE(paths(call({"facts", ret_, "--from-file", "-", "--json"}, master_.toUtf8())),
             (QStringList{ret_, master_}));
    QCOMPARE(paths(call({"facts", "--from-file", list, "--part", "2/2", "--json"})), QStringList{ret_});
    QCOMPARE(paths(call({"facts", "--from-file", list, "--part", "1/2", "--json"})), (QStringList{master_, master_}));
    for (const char* part : {"0/2", "3/2", "1", "1/", "a/b", "1/2/3", "-1/2"})
      QCOMPARE(call({"facts", master_, "--part", part}).status, 2);
    QCOMPARE(call({"facts", "--from-file", path("no list")}).status, 1);
    const auto streamed = call({"measure", "-", "--json"}, content(master_));
    QCOMPARE(streamed.status, 0);
    const auto entry = streamed.json()["files"].toArray()[0].toObject();
    QCOMPARE(entry["path"].toString(), QString("-"));
    QCOMPARE(entry["frames"].toInt(), 3 * 48000);
    QCOMPARE(call({"null", "-", "-"}, content(master_)).status, 2);
    const auto rubbish = call({"facts", "-"}, "no audio");
    QVERIFY(rubbish.status == 1 && rubbish.err.startsWith("heathmist-cli: -: "));
    const auto piped = call({"pass", master_, "--chain", gain_, "-o", "-"});
    QVERIFY(piped.status == 0 && piped.out.startsWith("RIFF") && piped.out.size() > 1000000);
    QCOMPARE(call({"pass", master_, "--chain", gain_, "-o", "-", "--json"}).status, 2);
    const auto table = call({"measure", master_, "-q", "--csv", "-"});
    QVERIFY(table.status == 0 && table.out.count('\n') == 2 && table.out.startsWith("path,"));
    QVERIFY(call({"measure", master_, "-q"}).out.isEmpty());
    QVERIFY(call_program("sh", {"-c", QString("%1 facts %2 >/dev/full").arg(HEATHMIST_CLI, master_)}).status == 1);
  }

  /// On a terminal: progress only rises; with NO_COLOR no escape sequence is sent; with --no-progress nothing is.
  void progress_only_rises() {
    const auto on_a_terminal = [&](const QString& options, const QStringList& variables) {
      return call_program(
          "script", {"-qec", QString("%1 null %2 %3 %4 2>&1").arg(HEATHMIST_CLI, master_, ret_, options), "/dev/null"},
          {}, variables);
    };
    if (on_a_terminal("", {}).status == -2) QSKIP("THERE IS NO script (bsdutils): PROGRESS IS NOT TESTED");
    const auto shown = on_a_terminal("", {"NO_COLOR="});
    QCOMPARE(shown.status, 0);
    QVERIFY(shown.out.contains('\x1b'));
    int last = -1, seen = 0;
    auto found = QRegularExpression("null (\\d+) %").globalMatch(QString::fromUtf8(shown.out));
    while (found.hasNext()) {
      const int percent = found.next().captured(1).toInt();
      QVERIFY(percent > last);
      last = percent, ++seen;
    }
    QVERIFY(seen > 5 && last == 100);
    const auto plain = on_a_terminal("", {"NO_COLOR=1"});
    QVERIFY(plain.out.contains(" %") && !plain.out.contains('\x1b'));
    QVERIFY(!on_a_terminal("--no-progress", {}).out.contains(" %"));
    QVERIFY(on_a_terminal("-q", {}).out.trimmed().isEmpty());
  }

  void tables_have_their_heads_and_all_their_columns() {
    QCOMPARE(call({"measure", master_, "--csv", path("m.csv")}).status, 0);
    const auto lines = content(path("m.csv")).split('\n');
    QVERIFY(lines[0].contains("dc_offset_1,dc_offset_2"));
    QCOMPARE(lines[0].count(','), lines[1].count(','));
    const QString silent =
        QString::fromStdString(save(folder_ / "silent.wav", Planar(1, 96000), 48000, WordFormat::pcm16).string());
    QCOMPARE(call({"spectrum", silent, "--csv", path("none.csv")}).status, 0);
    QVERIFY(content(path("none.csv")).startsWith("path,kind,hz,dbfs"));
  }

  void words_that_are_off_end_with_2_and_say_how() {
    const std::vector<std::pair<QStringList, const char*>> calls{
        {{"mesure", master_}, "did you mean 'measure'?"},
        {{"measure", master_, "--albun"}, "did you mean '--album'?"},
        {{"level", master_, "-o", path("x"), "--target", "-16LUFS"}, "takes -50 to 0 LUFS, not '-16LUFS'"},
        {{"measure", master_, "--from", "10", "--to", "2"}, "not after --from"},
        {{"spectrum", master_, "--from", "2", "--to", "2"}, "not after --from"},
        {{"spectrum", master_, "--fft", "1000"}, "1024 is the next"},
        {{"facts"}, "name a file"},
        {{"facts", master_, "--json", "--jsonl"}, "exclude each other"},
        {{"pass", master_, "--chain", gain_, "-o", path("x.wav"), "--allow", "kep"}, "--allow"}};
    for (const auto& [words, says] : calls) {
      const auto answer = call(words);
      QCOMPARE(answer.status, 2);
      QVERIFY2(answer.err.contains(says) && answer.err.count('\n') == 1 && answer.out.isEmpty(), answer.err);
    }
    const auto late = call({"measure", master_, "--from", "100", "--json"});
    QVERIFY(late.status == 1 && late.err.contains("lasts 3.00 s"));
    QCOMPARE(call({"outlets", "--outlet", "ebu-r128", master_}).status, 0);  // the file is no second key
    QCOMPARE(call({"outlets", master_, "--outlet", "ebu-r128", "--outlet", "ebu-r128-s1", "--json"})
                 .json()["files"]
                 .toArray()[0]
                 .toObject()["outlets"]
                 .toArray()
                 .size(),
             2);
    QCOMPARE(call({"matrix", "--chains", gain_, "--probes", "tone_997", "--json"})
                 .json()["cells"]
                 .toArray()[0]
                 .toObject()["thd_n_db"]
                 .isDouble(),
             true);  // by its old name
  }

  void names_are_harmless_on_a_terminal() {
    const QString nasty = path("a\x1b[31m\nb.wav");
    const auto answer = call({"facts", nasty});
    QCOMPARE(answer.status, 1);
    QVERIFY(answer.err.count('\n') == 1 && !answer.err.contains('\x1b') && answer.err.contains("a\\x1b[31m\\nb.wav"));
    QVERIFY(QFile::copy(master_, nasty));
    const auto table = call({"facts", nasty});
    QVERIFY(table.status == 0 && table.out.count('\n') == 1 && !table.out.contains('\x1b'));
    const QByteArray latin = QByteArray((folder_ / "caf").c_str()) + "\xe9.wav";
    const auto json = call_program("sh", {"-c", "cp \"$1\" \"$2\"; exec \"$0\" facts \"$2\" --json", HEATHMIST_CLI,
                                          master_, QString::fromLatin1(latin)});
    QVERIFY(!json.out.isEmpty());
    const auto raw = call_program(
        "sh", {"-c", QString("cd %1; cp m.wav $(printf 'caf\\351.wav'); exec %2 facts $(printf 'caf\\351.wav') --json")
                         .arg(QString::fromStdString((folder_ / "").string()), HEATHMIST_CLI)});
    QCOMPARE(raw.status, 0);
    QCOMPARE(raw.json()["files"].toArray()[0].toObject()["path"].toString(), QString("caf\uFFFD.wav"));
  }

  void pipes_and_odd_headers_end_at_once() {
    const QString pipe = path("pipe.wav");
    QCOMPARE(::mkfifo(pipe.toUtf8().constData(), 0600), 0);
    for (const QString& file : {pipe, QString("/dev/zero"), path("")}) {
      QElapsedTimer since;
      since.start();
      for (const QStringList& words : {QStringList{"facts", file},
                                       {"null", master_, file},
                                       {"pass", master_, "--chain", file, "-o", path("x.wav")}})
        QCOMPARE(call(words).status, 1);
      QVERIFY(since.elapsed() < 20000);
    }
    for (const int rate : {1, 2, 7, 999, 2000000}) {
      QByteArray wav = content(master_);
      const auto at = wav.indexOf("fmt ") + 12;
      for (int n = 0; n < 4; ++n) wav[at + n] = char(rate >> (8 * n));
      const auto answer = call({"null", master_, written("rate.wav", wav)});
      QCOMPARE(answer.status, 1);
      QVERIFY2(answer.err.contains("rate.wav") && answer.err.count('\n') == 1, answer.err);
    }
    Planar bad = Programme(2, 1).render(48000);
    for (const double value : {std::nan(""), 1e300, 3e38}) {
      bad.channel(0)[5000] = value;
      const auto file = QString::fromStdString(save(folder_ / "bad.wav", bad, 48000, WordFormat::float64).string());
      for (const char* verb : {"facts", "measure", "spectrum"}) QCOMPARE(call({verb, file, "--json"}).status, 1);
      QCOMPARE(call({"null", master_, file}).status, 1);
      QCOMPARE(call({"pass", file, "--chain", gain_, "-o", path("bad out.wav")}).status, 1);
      QVERIFY(!QFile::exists(path("bad out.wav")));
    }
  }

  void temporary_folders_that_are_none_are_one_sentence() {
    const auto mp3 = written("c.json", R"({"stages":[{"type":"codec","codec":"mp3"}]})");
    const auto answer = call({"pass", master_, "--chain", mp3, "-o", path("t.wav")}, {}, {"TMPDIR=/nowhere"});
    QVERIFY(answer.status == 1 && answer.err.count('\n') == 1);
    QVERIFY2(answer.err.contains("/nowhere") && answer.err.contains("TMPDIR"), answer.err);
  }

  /// A run that was killed leaves something behind until the next one comes by; the file itself is never half there.
  void a_killed_run_leaves_no_half_file_and_is_swept_after() {
    QDir().mkpath(path("kill"));
    const QString out = path("kill/out.wav");
    int caught = 0;
    for (int n = 0; n < 40 && caught < 3; ++n) {
      QProcess process;
      process.start(HEATHMIST_CLI, {"probe", "levels", "--rate", "192000", "--bits", "32f", "-o", out});
      process.waitForStarted();
      for (int wait = 0; wait < 2000 && leftovers().isEmpty() && process.state() == QProcess::Running; ++wait)
        QTest::qSleep(1);
      process.kill();
      process.waitForFinished();
      caught += !leftovers().isEmpty();
      if (QFile::exists(out)) QVERIFY(Clip::open(out.toStdString())->format().frames > 0 && QFile::remove(out));
    }
    QVERIFY(caught > 0);
    QCOMPARE(call({"probe", "tone", "-o", path("kill/other.wav")}).status, 0);
    QVERIFY(leftovers().isEmpty());
  }

  /// Set-up on a machine where installing would take something else off: one sentence, and nothing is done.
  void set_up_removes_no_package() {
    const QString bin = path("fake bin"), log = path("apt.log");
    QDir().mkpath(bin);
    const auto program = [&](const char* name, const QByteArray& text) {
      const QString file = written((std::string("fake bin/") + name).c_str(), "#!/bin/sh\n" + text);
      QFile::setPermissions(file, QFile::ReadOwner | QFile::WriteOwner | QFile::ExeOwner);
    };
    program("dpkg-query", "exit 1\n");
    program("sudo", "exec \"$@\"\n");
    const QByteArray noting = "echo \"$*\" >> '" + log.toUtf8() + "'\n";
    const QStringList with{"PATH=" + bin + ":" + qEnvironmentVariable("PATH")};
    program("apt-get", noting + "case \"$*\" in *' -s '*) echo 'Remv jackd2 [1.9]';; esac\n");
    const auto refused = call_program(HEATHMIST_SETUP, {}, {}, with);
    QVERIFY2(refused.status == 1 && refused.err.contains("jackd2") && refused.err.contains("nothing was done"),
             refused.err);
    QVERIFY(!content(log).contains("install -y"));
    program("apt-get", noting);
    QCOMPARE(call_program(HEATHMIST_SETUP, {}, {}, with).status, 0);
    const auto asked = content(log);
    QVERIFY(asked.contains("install -y -q --no-remove") && !asked.contains("clang\n") && !asked.contains(" clang "));
    QVERIFY(asked.indexOf("libjack-jackd2-dev") < asked.indexOf("librtaudio-dev"));
  }

  void the_window_answers_help_without_a_display() {
    const QStringList none{"DISPLAY=", "WAYLAND_DISPLAY=", "QT_QPA_PLATFORM="};
    for (const char* word : {"--help", "--version", "-h", "-v"}) {
      const auto answer = call_program(HEATHMIST_APP, {word}, {}, none);
      QVERIFY2(answer.status == 0 && answer.out.toLower().contains("heathmist"), answer.err);
    }
    const auto window = call_program(HEATHMIST_APP, {}, {}, none);
    QVERIFY(window.status == 1 && window.err.count('\n') == 1);
  }

 private:
  QString path(const char* name) const { return QString::fromStdString((folder_ / name).string()); }
  QString written(const char* name, const QByteArray& text) const {
    QFile file(path(name));
    if (file.open(QFile::WriteOnly | QFile::Truncate)) file.write(text);
    return path(name);
  }
  static QByteArray content(const QString& name) {
    QFile file(name);
    return file.open(QFile::ReadOnly) ? file.readAll() : QByteArray();
  }
  static QStringList paths(const Answer& answer) {
    QStringList list;
    for (const auto& file : answer.json()["files"].toArray()) list << file.toObject()["path"].toString();
    return list;
  }
  QStringList leftovers() const { return QDir(path("kill")).entryList({".heathmist-*"}, QDir::Files | QDir::Hidden); }
  Folder folder_;
  QString master_, ret_, gain_, link_, hard_;
};

SHARED_MAIN(TestCliFiles)
#include "test_cli_files.moc"
