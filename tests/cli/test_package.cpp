// What is installed: all of it where it belongs, and it runs from there.
#include <unistd.h>

#include <QtTest>
#include <fstream>

#include "core/bench/document.hpp"
#include "tests/support/cli.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

class TestPackage : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() {
    const Answer a = call_program(HEATHMIST_CMAKE, {"--install", HEATHMIST_BUILD, "--prefix", at("")});
    QVERIFY2(a.status == 0, a.err);
    const Answer help = call_program(at("bin/heathmist-cli"), {"--help"});
    QCOMPARE(help.status, 0);
    const QString text = QString::fromUtf8(help.out);
    static const QRegularExpression verb("^  ([a-z][a-z-]*) ", QRegularExpression::MultilineOption);
    for (auto it = verb.globalMatch(text.mid(text.indexOf("Subcommands:"))); it.hasNext();)
      verbs_ << it.next().captured(1);
    QVERIFY(verbs_.size() > 20 && verbs_.contains("null"));
  }

  void everything_is_in_its_place() {
    for (const char* file :
         {"bin/heathmist", "bin/heathmist-cli", "share/applications/heathmist.desktop",
          "share/mime/packages/heathmist.xml", "share/metainfo/org.heathmist.heathmist.metainfo.xml",
          "share/icons/hicolor/scalable/apps/heathmist.svg", "share/man/man1/heathmist.1",
          "share/man/man1/heathmist-cli.1", "share/bash-completion/completions/heathmist",
          "share/bash-completion/completions/heathmist-cli", "share/zsh/vendor-completions/_heathmist-cli",
          "share/fish/vendor_completions.d/heathmist-cli.fish", "share/doc/heathmist/copyright",
          "share/doc/heathmist/Lato-licence.txt"})
      QVERIFY2(QFileInfo(at(file)).size() > 0, file);
    for (const int size : {16, 22, 24, 32, 48, 64, 128, 256, 512}) {
      const auto where = QString("share/icons/hicolor/%1x%1/apps/heathmist.png").arg(size);
      QFile file(at(where));
      QVERIFY2(file.open(QIODevice::ReadOnly), qPrintable(where));
      const QByteArray head = file.read(24);  // the width stands in the first chunk
      QCOMPARE(int(uchar(head[18])) * 256 + uchar(head[19]), size);
    }
    QByteArray metainfo = read("share/metainfo/org.heathmist.heathmist.metainfo.xml");
    QVERIFY(!metainfo.contains('@') && metainfo.contains("version=\"" HEATHMIST_VERSION "\""));
    for (const char* text : {"bin", "share"}) QVERIFY(QFileInfo(at(text)).isDir());
    QCOMPARE(QDir(at("")).entryList(QDir::AllEntries | QDir::NoDotAndDotDot).size(), 2);  // and nothing else
  }
  void the_menu_entry_is_valid() {
    if (QStandardPaths::findExecutable("desktop-file-validate").isEmpty()) QSKIP("desktop-file-validate is not there");
    const Answer a = call_program("desktop-file-validate", {at("share/applications/heathmist.desktop")});
    QVERIFY2(a.status == 0 && a.out.isEmpty() && a.err.isEmpty(), a.out + a.err);
    // a bench says what it is, to who looks at its name and to who looks into it
    const QByteArray mime = read("share/mime/packages/heathmist.xml");
    QVERIFY(mime.contains("*.heathmist") && read("share/applications/heathmist.desktop").contains("x-heathmist-bench"));
    Bench bench;
    save_bench(bench, folder_ / "some.heathmist");
    std::ifstream in(folder_ / "some.heathmist");
    std::string head(80, 0);
    in.read(head.data(), 80);
    const auto magic = head.find("\"heathmist_bench\"");
    QVERIFY(magic != std::string::npos && magic >= 1 && magic <= 64);
  }
  void the_manual_names_every_verb() {
    const QByteArray manual = read("share/man/man1/heathmist-cli.1");
    for (const QString& verb : verbs_) QVERIFY2(manual.contains(".SS " + verb.toUtf8() + "\n"), qPrintable(verb));
    QVERIFY(manual.contains("\\-\\-from\\-file") && !manual.contains("\n'"));
  }
  void words_are_completed() {
    if (QStandardPaths::findExecutable("bash").isEmpty()) QSKIP("bash is not there");
    const auto complete = [&](const QString& words, int at_word, const char* program, const char* function) {
      const QString script = QString("source '%1'; COMP_WORDS=(%2); COMP_CWORD=%3; %4; echo \"${COMPREPLY[@]}\"")
                                 .arg(at(QString("share/bash-completion/completions/") + program), words)
                                 .arg(at_word)
                                 .arg(function);
      const Answer a =
          call_program("bash", {"-c", script}, {}, {"PATH=" + at("bin") + ":" + qEnvironmentVariable("PATH")});
      return QString::fromUtf8(a.out).split(QRegularExpression("\\s+"), Qt::SkipEmptyParts);
    };
    QCOMPARE(complete("heathmist-cli nu", 1, "heathmist-cli", "_heathmist_cli"), QStringList{"null"});
    QVERIFY(complete("heathmist-cli ''", 1, "heathmist-cli", "_heathmist_cli").size() >= verbs_.size());
    QVERIFY(complete("heathmist-cli null --al", 2, "heathmist-cli", "_heathmist_cli").contains("--align"));
    QVERIFY(complete("heathmist re", 1, "heathmist", "_heathmist").contains("report"));
  }
  void words_are_completed_in_the_other_shells() {
    if (QStandardPaths::findExecutable("fish").isEmpty()) QSKIP("fish is not there");
    const auto complete = [&](const QString& words) {
      const QString script = QString("source '%1'; complete -C '%2'")
                                 .arg(at("share/fish/vendor_completions.d/heathmist-cli.fish"), words);
      return call_program("fish", {"--no-config", "-c", script}, {},
                          {"PATH=" + at("bin") + ":" + qEnvironmentVariable("PATH")})
          .out;
    };
    QVERIFY2(complete("heathmist-cli nu").startsWith("null\t"), complete("heathmist-cli nu"));
    QVERIFY(complete("heathmist-cli null --al").contains("--align"));
  }
  void it_runs_from_there() {
    const auto music = scaled(programme("dense", 44100, 3, 9), 0.5);
    save(folder_ / "m.wav", music, 44100, WordFormat::pcm24),
        save(folder_ / "r.wav", scaled(music, 0.5), 44100, WordFormat::pcm24);
    Bench bench;
    bench.masters.push_back({"m", "M", {folder_ / "m.wav", {}}, {{"r", "R", {folder_ / "r.wav", {}}, {}}}});
    save_bench(bench, folder_ / "b.heathmist");
    const QString b = QString::fromStdString((folder_ / "b.heathmist").string()),
                  out = QString::fromStdString((folder_ / "b.pdf").string());
    const QStringList bare{"DISPLAY=", "WAYLAND_DISPLAY=", "QT_QPA_PLATFORM="};
    QCOMPARE(call_program(at("bin/heathmist"), {"--version"}, {}, bare).status, 0);
    const Answer a = call_program(at("bin/heathmist"), {"report", b, "-o", out}, {}, bare);
    QVERIFY2(a.status == 0, a.err);
    QVERIFY(QFileInfo(out).size() > 10000);
  }
  /// The package itself, installed into a root of its own, run there, and taken away without a trace.
  void the_package_is_built_and_installed() {
    const QString cpack = QFileInfo(HEATHMIST_CMAKE).path() + "/cpack";
    if (!QFileInfo::exists(cpack) || QStandardPaths::findExecutable("dpkg-deb").isEmpty()) QSKIP("no cpack or dpkg");
    const QString out = path("packages"), root = path("debian");
    const Answer made = call_program(cpack, {"--config", HEATHMIST_BUILD "/CPackConfig.cmake", "-B", out});
    QVERIFY2(made.status == 0, made.out + made.err);
    const QStringList packages = QDir(out).entryList({"heathmist_*.deb"});
    QCOMPARE(packages.size(), 1);
    const QString package = out + "/" + packages[0];
    const QByteArray about = call_program("dpkg-deb", {"--field", package, "Depends"}).out;
    for (const char* library : {"libqt6widgets6", "libsndfile1", "qt6-qpa-plugins", "libavcodec"})
      QVERIFY2(about.contains(library), about);
    const bool whole = geteuid() == 0;  // dpkg gives files to root
    for (const char* folder : {"var/lib/dpkg/info", "var/lib/dpkg/updates"}) QVERIFY(QDir().mkpath(root + "/" + folder));
    std::ofstream((root + "/var/lib/dpkg/status").toStdString());
    std::ofstream((root + "/var/lib/dpkg/available").toStdString());
    const QStringList dpkg{"--root=" + root, "--force-depends", "--log=/dev/null"};
    const Answer in = whole ? call_program("dpkg", dpkg + QStringList{"--install", package})
                            : call_program("dpkg-deb", {"--extract", package, root});
    QVERIFY2(in.status == 0, in.out + in.err);
    for (const char* file : {"usr/bin/heathmist", "usr/bin/heathmist-cli", "usr/share/applications/heathmist.desktop"})
      QVERIFY2(QFileInfo(root + "/" + file).size() > 0, file);
    const Answer run = call_program(root + "/usr/bin/heathmist", {"--version"}, {}, {"DISPLAY=", "QT_QPA_PLATFORM="});
    QVERIFY2(run.status == 0 && run.out.contains(HEATHMIST_VERSION), run.err);
    QCOMPARE(call_program(root + "/usr/bin/heathmist-cli", {"stages", "--json"}).status, 0);
    if (!whole) return;
    const Answer gone = call_program("dpkg", dpkg + QStringList{"--purge", "heathmist"});
    QVERIFY2(gone.status == 0, gone.out + gone.err);
    QDirIterator left(root, {"*heathmist*"}, QDir::AllEntries | QDir::NoDotAndDotDot, QDirIterator::Subdirectories);
    QVERIFY2(!left.hasNext(), qPrintable(left.next()));
    QVERIFY(!QFileInfo::exists(root + "/usr/bin"));
  }

 private:
  QString path(const char* name) const { return QString::fromStdString((folder_ / name).string()); }
  QString at(const QString& file) const { return QString::fromStdString((folder_ / "root").string()) + "/" + file; }
  QByteArray read(const char* name) const {
    QFile file(at(name));
    return file.open(QIODevice::ReadOnly) ? file.readAll() : QByteArray();
  }
  Folder folder_;
  QStringList verbs_;
};

QTEST_GUILESS_MAIN(TestPackage)
#include "test_package.moc"
