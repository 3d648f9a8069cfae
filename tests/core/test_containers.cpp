// Priming, padding and timelines of containers as another program writes them: samples count, the timeline is told.
#include <QProcess>
#include <QStandardPaths>
#include <QtTest>

#include "core/audio/write.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

class TestContainers : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() {
    qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str()));
    if (QStandardPaths::findExecutable("ffmpeg").isEmpty()) QSKIP("ffmpeg");
    const Planar whole = Programme(11, 4).render(48000);
    Planar odd(2, whole.frames() - 1237);  // fills no block of any coder, and no millisecond
    for (int c = 0; c < 2; ++c) std::copy_n(whole.channel(c).begin(), odd.frames(), odd.channel(c).begin());
    master_ = save(folder_ / "m.wav", odd, 48000, WordFormat::pcm16);
  }

  void what_is_declared_is_taken_off_and_nothing_else_data() {
    QTest::addColumn<QString>("file");
    QTest::addColumn<QStringList>("words");
    QTest::addColumn<double>("starts_s");  // of the timeline; -1: there is none
    QTest::newRow("aac in m4a") << "a.m4a" << QStringList{"-c:a", "aac", "-b:a", "192k"} << 0.0;
    QTest::newRow("alac in m4a") << "b.m4a" << QStringList{"-c:a", "alac"} << 0.0;
    QTest::newRow("opus") << "c.opus" << QStringList{"-c:a", "libopus", "-b:a", "160k"} << -1.0;
    QTest::newRow("opus in mkv") << "d.mkv" << QStringList{"-c:a", "libopus", "-b:a", "160k"} << 0.0;
    QTest::newRow("opus in webm") << "e.webm" << QStringList{"-c:a", "libopus", "-b:a", "160k"} << 0.0;
    QTest::newRow("mp3") << "f.mp3" << QStringList{"-c:a", "libmp3lame", "-b:a", "192k"} << -1.0;
    QTest::newRow("vorbis") << "g.ogg" << QStringList{"-c:a", "libvorbis", "-q:a", "6"} << -1.0;
    QTest::newRow("flac in mkv") << "h.mkv" << QStringList{"-c:a", "flac"} << 0.0;
  }
  void what_is_declared_is_taken_off_and_nothing_else() {
    QFETCH(QString, file);
    QFETCH(QStringList, words);
    QFETCH(double, starts_s);
    const auto ret = made(words, file);
    const auto whole = Clip::open(master_)->format(), format = Clip::open(ret)->format();
    QVERIFY2(std::abs(format.frames - whole.frames) <= 1, qPrintable(QString("%1 frames, priming %2, padding %3")
                                                                         .arg(format.frames - whole.frames)
                                                                         .arg(format.timeline.priming_frames)
                                                                         .arg(format.timeline.padding_frames)));
    if (starts_s < 0)
      QVERIFY(!format.timeline.start_s);
    else
      QVERIFY2(format.timeline.start_s && std::abs(*format.timeline.start_s - starts_s) < 0.0011,
               qPrintable(QString::number(format.timeline.start_s.value_or(99))));
    const auto report = null_of(master_, ret);
    QVERIFY2(std::abs(report.fit.delay_samples) < 0.05, qPrintable(QString::number(report.fit.delay_samples)));
    for (const Finding& f : report.findings) QVERIFY2(f.code != "timeline", f.text.c_str());
  }

  void a_timeline_that_starts_elsewhere_is_a_note_data() {
    QTest::addColumn<QString>("file");
    QTest::addColumn<QStringList>("words");
    QTest::newRow("empty edit of an mp4") << "s.mp4" << QStringList{"-c:a", "alac"};
    QTest::newRow("mkv") << "t.mkv" << QStringList{"-c:a", "flac"};
    QTest::newRow("mov") << "u.mov" << QStringList{"-c:a", "pcm_s16le"};
  }
  void a_timeline_that_starts_elsewhere_is_a_note() {
    QFETCH(QString, file);
    QFETCH(QStringList, words);
    const auto ret = made(words, file, {"-itsoffset", "0.25"}, {"-copyts"});
    const auto report = null_of(master_, ret);
    QVERIFY2(std::abs(report.fit.delay_samples) < 0.05, qPrintable(QString::number(report.fit.delay_samples)));
    const auto note = std::find_if(report.findings.begin(), report.findings.end(),
                                   [](const Finding& f) { return f.code == "timeline"; });
    QVERIFY(note != report.findings.end());
    QVERIFY2(std::abs(note->value.value() - 250) < 1.1, qPrintable(QString::number(note->value.value())));
    QVERIFY(note->severity == Severity::note);
    const auto back = null_of(ret, master_);  // the other way round it is earlier
    const auto other =
        std::find_if(back.findings.begin(), back.findings.end(), [](const Finding& f) { return f.code == "timeline"; });
    QVERIFY(other != back.findings.end() && std::abs(other->value.value() + 250) < 1.1);
  }

 private:
  std::filesystem::path made(const QStringList& words, const QString& file, const QStringList& before = {},
                             const QStringList& after = {}) {
    const auto to = folder_ / file.toStdString();
    QStringList all{"-y", "-loglevel", "error"};
    all += before;
    all += {"-i", QString::fromStdString(master_.string())};
    all += words + after;
    all << QString::fromStdString(to.string());
    if (QProcess::execute("ffmpeg", all) != 0) throw std::runtime_error(("ffmpeg " + all.join(' ')).toStdString());
    return to;
  }
  QTemporaryDir temporary_;
  std::filesystem::path folder_{temporary_.path().toStdString()}, master_;
};

QTEST_GUILESS_MAIN(TestContainers)
#include "test_containers.moc"
