// Engines at the command line: probe, perform, engines and read as scripts call them.
#include <QtTest>
#include <cmath>

#include "tests/support/cli.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

class TestCliEngines : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() {
    qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str()));
    qputenv("XDG_CONFIG_HOME", QByteArray((folder_ / "config").c_str()));
  }

  void engines_are_listed_with_how_they_behave() {
    const auto answer = call({"engines", "--json"});
    QCOMPARE(answer.status, 0);
    const auto all = answer.json()["engines"].toArray();
    QVERIFY(all.size() >= 6);
    for (const auto& e : all)
      for (const char* key :
           {"key", "name", "what", "glide", "pan", "taper", "fade", "bus", "latency_samples", "writes_bits"})
        QVERIFY2(e.toObject().contains(key), key);
    QVERIFY(call({"engines"}).out.contains("alder"));
  }

  void every_kind_goes_from_probe_to_reading() {
    for (const QString kind : {"transit", "gain", "pan", "crossfade", "trim", "silence"}) {
      const auto written = call({"probe", kind, "-o", path(kind + ".wav"), "--rate", "44100", "--json"});
      QVERIFY2(written.status == 0, written.err);
      const auto files = written.json()["outputs"].toArray();
      QCOMPARE(files.size(), kind == "crossfade" ? 2 : 1);
      QStringList words{"perform", kind};
      for (const auto& f : files) words << f.toString();
      const auto performed = call(words + QStringList{"--engine", "alder", "-o", path(kind + "-r.wav"), "--json"});
      QVERIFY2(performed.status == 0, performed.err);
      QCOMPARE(performed.json()["sample_rate_hz"].toInt(), 44100);
      const auto read = call({"read", kind, path(kind + "-r.wav"), "--json", "--csv", path(kind + ".csv")});
      QVERIFY2(read.status == 0, read.err);
      const auto one = read.json()["returns"].toArray()[0].toObject();
      QVERIFY(one[kind].isObject());
      for (const char* key : {"delay_samples", "drift_ppm", "level_db", "polarity"}) QVERIFY2(one.contains(key), key);
      QVERIFY(std::abs(one["delay_samples"].toDouble()) < 0.01);
      QVERIFY(QFile(path(kind + ".csv")).size() > 50);
      if (kind != "silence") QVERIFY(!one["findings"].toArray().isEmpty());
    }
  }

  /// A control that is set by hand, and a render for each position.
  void renders_of_one_position_each_tell_a_law_together() {
    QCOMPARE(call({"probe", "pan", "-o", path("held.wav"), "--rate", "44100"}).status, 0);
    QStringList renders, positions;
    for (const int position : {-100, -50, 0, 50, 100}) {
      const QString score = path(QString("held%1.json").arg(position));
      QFile file(score);
      QVERIFY(file.open(QIODevice::WriteOnly));
      file.write(QString(R"({"moves": [{"from_s": 0, "until_s": 40, "position": %1}]})").arg(position).toUtf8());
      file.close();
      renders << path(QString("held%1.wav").arg(position));
      positions << QString::number(position);
      const auto made =
          call({"perform", "pan", path("held.wav"), "--engine", "alder", "--score", score, "-o", renders.last()});
      QVERIFY2(made.status == 0, made.err);
    }
    const auto whole = call({"read", "pan", path("pan-r.wav"), "--json"}).json()["returns"].toArray()[0].toObject();
    const auto read =
        call(QStringList{"read", "pan"} + renders + QStringList{"--positions=" + positions.join(","), "--json"});
    QVERIFY2(read.status == 0, read.err);
    QVERIFY(read.json()["returns"].toArray()[0].toObject()["pan"].toObject()["kind"].isNull());
    const auto pan = read.json()["together"].toObject()["pan"].toObject(), moved = whole["pan"].toObject();
    QCOMPARE(pan["kind"].toString(), QString("balance"));
    QCOMPARE(pan["taper"].toString(), moved["taper"].toString());
    QVERIFY(std::abs(pan["centre_db"].toDouble() - moved["centre_db"].toDouble()) < 0.02);
    QCOMPARE(pan["positions"].toArray().size(), 5);
    QCOMPARE(call(QStringList{"read", "pan"} + renders + QStringList{"--positions", "-100,0"}).status, 2);
    QCOMPARE(call({"read", "gain", path("gain-r.wav"), "--positions", "0"}).status, 2);
  }

  void readings_have_the_keys_that_are_promised() {
    const auto reading = [&](const QString& kind) {
      return call({"read", kind, path(kind + "-r.wav"), "--json"})
          .json()["returns"]
          .toArray()[0]
          .toObject()[kind]
          .toObject();
    };
    const auto has = [](const QJsonObject& o, std::initializer_list<const char*> keys) {
      for (const char* key : keys)
        if (!o.contains(key)) return QByteArray(key);
      return QByteArray();
    };
    const auto gain = reading("gain");
    QCOMPARE(has(gain, {"smoothing", "worst_deviation_db", "events", "curve"}), QByteArray());
    QCOMPARE(gain["smoothing"].toString(), QString("linear"));
    const auto event = gain["events"].toArray()[0].toObject();
    QCOMPARE(
        has(event, {"name", "late_ms", "rise_ms", "length_ms", "overshoot_db", "ripple_db", "stairs", "splash_dbfs"}),
        QByteArray());
    QVERIFY(std::abs(event["late_ms"].toDouble() - 2.5) < 0.05 && std::abs(event["rise_ms"].toDouble() - 4) < 0.05);
    QVERIFY(event["stairs"].isNull());
    const auto pan = reading("pan");
    QCOMPARE(has(pan, {"kind", "centre_db", "taper", "taper_fit_db", "width", "inverted", "positions", "course"}),
             QByteArray());
    QCOMPARE(pan["kind"].toString(), QString("balance"));
    QCOMPARE(pan["positions"].toArray()[0].toObject()["matrix"].toArray().size(), 2);
    const auto fade = reading("crossfade");
    QCOMPARE(has(fade, {"law", "law_fit_db", "from_s", "length_s", "middle_a_db", "middle_b_db", "unlike_db", "like_db",
                        "correlated_db", "corner", "curve"}),
             QByteArray());
    QCOMPARE(fade["law"].toString(), QString("linear"));
    QVERIFY(std::abs(fade["unlike_db"].toDouble() + 3.0103) < 0.05);
    QCOMPARE(
        has(reading("trim"), {"arithmetic", "bits", "floor_dbfs", "dithered", "clips", "clips_at_dbfs", "sections"}),
        QByteArray());
    QCOMPARE(has(reading("transit"), {"identical", "gain_db", "channel_map", "polarity", "latency_samples",
                                      "silence_dbfs", "word_bits", "dithered", "dc"}),
             QByteArray());
    QCOMPARE(has(reading("silence"), {"added_dbfs", "lines", "dithered"}), QByteArray());
    QVERIFY(reading("silence")["added_dbfs"].isNull());
  }

  void a_score_tells_what_is_to_be_done() {
    const auto score = [&](const QString& kind) {
      return call({"probe", kind, "-o", path("s-" + kind + ".wav"), "--json", "--force"}).json()["score"].toObject();
    };
    const auto gain = score("gain");
    QVERIFY(gain["points"].toArray().size() >= 4);
    bool silence = false;
    for (const auto& p : gain["points"].toArray()) silence |= p.toArray()[1].isNull();
    QVERIFY(silence);
    const auto event = gain["events"].toArray()[0].toObject();
    for (const char* key : {"name", "at_s", "from_db", "to_db", "length_s"}) QVERIFY2(event.contains(key), key);
    QVERIFY(score("pan")["moves"].toArray()[1].toObject().contains("position"));
    for (const char* key : {"a_at_s", "b_at_s", "fade_from_s", "fade_until_s"})
      QVERIFY2(score("crossfade").contains(key), key);
    QVERIFY(score("trim")["sections"].toArray()[1].toObject().contains("then_db"));
    QCOMPARE(call({"probe", "gain", "--score", path("g.json"), "--score-csv", path("g.csv"), "--score-midi",
                   path("g.mid"), "-q"})
                 .status,
             0);
    QFile midi(path("g.mid"));
    QVERIFY(midi.open(QIODevice::ReadOnly) && midi.read(4) == "MThd");
    const auto again = call({"read", "gain", path("gain-r.wav"), "--score", path("g.json"), "--json"});
    QVERIFY2(again.status == 0, again.err);
  }

  void probes_come_mono_and_at_every_rate_and_word() {
    for (const QString rate : {"44100", "48000", "88200", "96000", "176400", "192000"})
      for (const QString bits : {"16", "24", "32f"}) {
        const auto written =
            call({"probe", "transit", "-o", path("w.wav"), "--rate", rate, "--bits", bits, "--force", "--json"});
        QVERIFY2(written.status == 0, written.err);
        QVERIFY(written.json()["frames"].toDouble() < 40 * rate.toDouble());
        const auto read = call({"read", "transit", path("w.wav"), "--json"})
                              .json()["returns"]
                              .toArray()[0]
                              .toObject()["transit"]
                              .toObject();
        QVERIFY2(read["identical"].toBool(), qPrintable(rate + " " + bits));
      }
    QCOMPARE(call({"probe", "pan", "--mono", "-o", path("pm.wav"), "-q"}).status, 0);
    QCOMPARE(call({"perform", "pan", path("pm.wav"), "--engine", "rowan", "-o", path("pmr.wav"), "-q"}).status, 0);
    const auto pan =
        call({"read", "pan", path("pmr.wav"), "--json"}).json()["returns"].toArray()[0].toObject()["pan"].toObject();
    QCOMPARE(pan["taper"].toString(), QString("sine"));
    QVERIFY(std::abs(pan["centre_db"].toDouble() + 3.0103) < 0.05);
    QCOMPARE(call({"probe", "sweep", "--mono", "-o", path("no.wav")}).status, 2);
  }

  void nothing_is_written_over_and_words_are_checked() {
    QCOMPARE(call({"probe", "gain", "-o", path("gain.wav")}).status, 2);
    QCOMPARE(call({"probe", "crossfade", "-o", path("crossfade.wav")}).status, 2);  // its -a is there
    QCOMPARE(call({"perform", "gain", path("gain.wav"), "--engine", "alder", "-o", path("gain.wav"), "--force"}).status,
             2);
    const auto near = call({"perform", "gain", path("gain.wav"), "--engine", "aldr", "-o", path("x.wav")});
    QVERIFY(near.status == 2 && near.err.contains("alder"));
    QCOMPARE(call({"perform", "crossfade", path("crossfade-a.wav"), "--engine", "alder", "-o", path("x.wav")}).status,
             2);
    QCOMPARE(call({"probe", "trim", "--score-midi", path("t.mid")}).status, 2);
    QFile bad(path("bad.json"));
    QVERIFY(bad.open(QIODevice::WriteOnly) && bad.write(R"({"points": [[5, 0], [4, 0]]})") > 0);
    bad.close();
    const auto wrong = call({"read", "gain", path("gain-r.wav"), "--score", path("bad.json"), "--json"});
    QVERIFY(wrong.status == 1 && wrong.err.contains("bad.json") && wrong.err.contains("put them in order"));
    const auto other = call({"read", "gain", path("pan-r.wav"), "--json"});
    QVERIFY(other.status == 1 && other.err.count('\n') == 1 && other.err.contains("'pan'"));
    QVERIFY(!QFile::exists(path("x.wav")));
  }

 private:
  QString path(const QString& name) const { return QString::fromStdString((folder_ / name.toStdString()).string()); }
  Folder folder_;
};

QTEST_GUILESS_MAIN(TestCliEngines)
#include "test_cli_engines.moc"
