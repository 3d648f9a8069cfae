// The command line as scripts see it: keys, exit status, one object on standard output, one line on standard error.
#include <QJsonArray>
#include <QJsonDocument>
#include <QJsonObject>
#include <QProcess>
#include <QtTest>

#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

struct Answer {
  int status;
  QByteArray out, err;
  QJsonObject json() const { return QJsonDocument::fromJson(out).object(); }
};

Answer call(const QStringList& words) {
  QProcess process;
  process.start(HEATHMIST_CLI, words);
  process.waitForFinished(120000);
  return {process.exitCode(), process.readAllStandardOutput(), process.readAllStandardError()};
}

}  // namespace

class TestCli : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() {
    qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str()));
    const auto sound = requantised(Programme(4, 1).render(48000), 16, true);
    master_ = QString::fromStdString(save(folder_ / "m.wav", sound, 48000, WordFormat::pcm24).string());
    ret_ = QString::fromStdString(save(folder_ / "r.wav", scaled(sound, 0.5), 48000, WordFormat::pcm24).string());
  }

  void facts_have_every_key() {
    const auto answer = call({"facts", master_, ret_, "--json"});
    QCOMPARE(answer.status, 0);
    QVERIFY(answer.err.isEmpty());
    const auto files = answer.json()["files"].toArray();
    QCOMPARE(files.size(), 2);
    const auto facts = files[0].toObject();
    for (const char* key : {"path", "codec", "sample_rate_hz", "channels", "frames", "container_bits", "sample_format",
                            "bits_used", "bandwidth_hz", "bit_rate_bps", "duration_s"})
      QVERIFY2(facts.contains(key), key);
    QCOMPARE(facts["path"].toString(), master_);
    QCOMPARE(facts["codec"].toString(), QString("pcm"));
    QCOMPARE(facts["container_bits"].toInt(), 24);
    QCOMPARE(facts["bits_used"].toInt(), 16);
    QCOMPARE(facts["frames"].toInt(), 4 * 48000);
    QCOMPARE(facts["bit_rate_bps"].toInt(), 48000 * 48);
  }

  void null_has_every_key() {
    const auto answer = call({"null", master_, ret_, "--json"});
    QCOMPARE(answer.status, 0);
    const auto null = answer.json();
    for (const char* key :
         {"identical", "kind", "delay_samples", "drift_ppm", "gain_db", "polarity", "overlap_s", "master_rms_dbfs",
          "residual_rms_dbfs", "residual_peak_dbfs", "residual_relative_db", "residual_integrated_lufs",
          "remainder_relative_db", "bandwidth_hz", "channels", "findings"})
      QVERIFY2(null.contains(key), key);
    QCOMPARE(null["kind"].toString(), QString("level"));
    QVERIFY(std::abs(null["gain_db"].toDouble() + 6.0206) < 0.002);
    QVERIFY(null["residual_relative_db"].isNull());  // halving 16 bits in 24 loses nothing
    const auto channel = null["channels"].toArray()[1].toObject();
    for (const char* key :
         {"master", "return", "delay_samples", "gain_db", "polarity", "residual_rms_dbfs", "residual_relative_db"})
      QVERIFY2(channel.contains(key), key);
    const auto finding = null["findings"].toArray()[0].toObject();
    for (const char* key : {"code", "severity", "text", "value", "unit", "at_s"}) QVERIFY2(finding.contains(key), key);
    QCOMPARE(finding["code"].toString(), QString("level"));
  }

  void options_hold_the_fit() {
    const auto null =
        call({"null", master_, ret_, "--align", "none", "--gain", "none", "--drift", "none", "--json"}).json();
    QCOMPARE(null["gain_db"].toDouble(), 0.0);
    QVERIFY(std::abs(null["residual_relative_db"].toDouble() + 6.0206) < 0.01);
    QCOMPARE(call({"null", master_, ret_, "--align", "-12.5", "--json"}).json()["delay_samples"].toDouble(), -12.5);
  }

  void the_residual_is_written_as_float() {
    const auto file = folder_ / "e.wav";
    QCOMPARE(
        call({"null", master_, ret_, "--gain", "none", "--residual", QString::fromStdString(file.string()), "--json"})
            .status,
        0);
    const auto clip = Clip::open(file);
    QCOMPARE(clip->format().sample_format, SampleFormat::real);
    QCOMPARE(clip->format().container_bits.value(), 32);
    Planar e, m;
    clip->reader()->read(1000, 2000, e);
    Clip::open(master_.toStdString())->reader()->read(1000, 2000, m);
    for (size_t n = 0; n < 2000; ++n) QVERIFY(std::abs(e.channel(0)[n] + 0.5 * m.channel(0)[n]) < 1e-7);
  }

  void bad_words_end_with_2() {
    for (const QStringList& words : {QStringList{},
                                     {"nul"},
                                     {"null", master_},
                                     {"null", master_, ret_, "--align", "soon"},
                                     {"null", master_, ret_, "--drift", "3"},
                                     {"null", master_, ret_, "--gain", "nan"},
                                     {"facts", master_, "--what"},
                                     {"null", master_, ret_, "--residual", "e.mp3"}}) {
      const auto answer = call(words);
      QCOMPARE(answer.status, 2);
      QVERIFY(answer.out.isEmpty());
      QVERIFY(!answer.err.isEmpty());
    }
  }

  void bad_files_end_with_1_and_one_line() {
    const QString out = QString::fromStdString((folder_ / "never.wav").string());
    const auto answer = call({"null", master_, "/nowhere/at-all.wav", "--json", "--residual", out});
    QCOMPARE(answer.status, 1);
    QVERIFY(answer.out.isEmpty());
    QCOMPARE(answer.err.count('\n'), 1);
    QVERIFY(answer.err.contains("/nowhere/at-all.wav"));
    QVERIFY(!QFile::exists(out));
  }

 private:
  Folder folder_;
  QString master_, ret_;
};

QTEST_GUILESS_MAIN(TestCli)
#include "test_cli.moc"
