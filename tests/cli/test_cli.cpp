// The command line as scripts see it: keys, exit status, one object on standard output, one line on standard error.
#include <QtTest>

#include "tests/support/cli.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

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

  void measure_has_every_key_and_null_for_what_is_not() {
    const QString silent =
        QString::fromStdString(save(folder_ / "s.wav", Planar(2, 48000), 48000, WordFormat::pcm16).string());
    const auto answer = call({"measure", master_, ret_, silent, "--album", "--csv", path("m.csv"), "--json"});
    QCOMPARE(answer.status, 0);
    QVERIFY(answer.err.isEmpty());
    const auto files = answer.json()["files"].toArray();
    for (const auto& file : files)
      for (const char* key : {"path",
                              "codec",
                              "sample_rate_hz",
                              "channels",
                              "frames",
                              "container_bits",
                              "sample_format",
                              "bits_used",
                              "bandwidth_hz",
                              "bit_rate_bps",
                              "duration_s",
                              "integrated_lufs",
                              "momentary_max_lufs",
                              "short_term_max_lufs",
                              "loudness_range_lu",
                              "true_peak_dbtp",
                              "true_peak_at_s",
                              "sample_peak_dbfs",
                              "rms_dbfs",
                              "crest_db",
                              "plr_db",
                              "psr_min_db",
                              "clipped_runs",
                              "true_peak_overs",
                              "dc_offset"})
        QVERIFY2(file.toObject().contains(key), key);
    const auto loud = files[0].toObject(), quiet = files[1].toObject(), none = files[2].toObject();
    QVERIFY(std::abs(loud["integrated_lufs"].toDouble() - quiet["integrated_lufs"].toDouble() - 6.0206) < 0.001);
    QVERIFY(std::abs(loud["crest_db"].toDouble() - loud["sample_peak_dbfs"].toDouble() + loud["rms_dbfs"].toDouble()) <
            1e-9);
    QCOMPARE(loud["dc_offset"].toArray().size(), 2);
    for (const char* key : {"integrated_lufs", "true_peak_dbtp", "true_peak_at_s", "plr_db", "rms_dbfs", "psr_min_db"})
      QVERIFY2(none[key].isNull(), key);
    QCOMPARE(none["clipped_runs"].toInt(-1), 0);
    const auto album = answer.json()["album"].toObject();
    for (const char* key : {"integrated_lufs", "loudness_range_lu", "true_peak_dbtp"})
      QVERIFY2(album.contains(key), key);
    QCOMPARE(album["true_peak_dbtp"].toDouble(), loud["true_peak_dbtp"].toDouble());
    QVERIFY(!call({"measure", master_, "--json"}).json().contains("album"));
    QFile csv(path("m.csv"));
    QVERIFY(csv.open(QFile::ReadOnly));
    QCOMPARE(csv.readAll().count('\n'), 4);
    const auto mid = call({"measure", master_, "--listen", "mid", "--from", "1", "--to", "3", "--json"});
    QVERIFY(mid.status == 0 && mid.json()["files"].toArray()[0].toObject()["integrated_lufs"].isDouble());
    QCOMPARE(call({"measure", master_, "--listen", "3"}).status, 1);
    QCOMPARE(call({"measure", master_, "--listen", "left"}).status, 2);
    QCOMPARE(call({"measure", path("gone.wav")}).status, 1);
  }

  void outlets_and_level_answer() {
    const auto listed = call({"outlets", "--json"}).json()["outlets"].toArray();
    QVERIFY(listed.size() >= 14 && listed[0].toObject().contains("target_lufs"));
    const auto answer = call({"outlets", master_, "--outlet", "ebu-r128,stand-in-video-site", "--encode", "--json"});
    QCOMPARE(answer.status, 0);
    const auto told = answer.json()["files"].toArray()[0].toObject()["outlets"].toArray();
    QCOMPARE(told.size(), 2);
    QCOMPARE(told[0].toObject()["player_gain_db"].toDouble(), 0.0);
    QVERIFY(told[0].toObject()["file_change_db"].isDouble() && !told[0].toObject()["after_encode"].toBool());
    QVERIFY(told[1].toObject()["after_encode"].toBool());
    QCOMPARE(call({"outlets", master_, "--outlet", "nowhere"}).status, 2);
    const auto by_dialogue = [&](const QStringList& more) {
      return call(QStringList{"outlets", master_, "--outlet", "atsc-a85", "--json"} + more)
          .json()["files"]
          .toArray()[0]
          .toObject()["outlets"]
          .toArray()[0]
          .toObject();
    };
    const auto whole = by_dialogue({}), named = by_dialogue({"--dialogue-from", "1", "--dialogue-to", "3"});
    QVERIFY(whole["anchor_lufs"].isNull() && whole["note"].toString().contains("name a stretch"));
    QVERIFY(whole["edition"].toString().contains("2013") && whole["anchor"].toString() == "dialogue");
    QVERIFY(named["anchor_lufs"].isDouble() && named["note"].toString().contains("was named"));
    QVERIFY(std::abs(named["file_change_db"].toDouble() - (-24 - named["anchor_lufs"].toDouble())) < 1e-9);
    QCOMPARE(call({"outlets", master_, "--dialogue-from", "3", "--dialogue-to", "1"}).status, 2);
    const auto level =
        call({"level", master_, ret_, "-o", path("copies"), "--target", "-30", "--format", "flac", "--json"});
    QCOMPARE(level.status, 0);
    for (const auto& copy : level.json()["copies"].toArray()) {
      QVERIFY(copy.toObject()["verified"].toBool());
      QVERIFY(std::abs(copy.toObject()["integrated_lufs"].toDouble() + 30) < 0.05);
    }
    QCOMPARE(call({"level", master_, "-o", path("copies"), "--bits", "12"}).status, 2);
    QCOMPARE(call({"level", master_, "-o", master_}).status, 1);
    QCOMPARE(call({"level", master_, "-o", QFileInfo(master_).path(), "--format", "wav", "--force"}).status, 2);
  }

  void pass_writes_a_return_or_nothing() {
    const QString chain =
        written("chain.json", R"({"stages":[{"type":"codec","codec":"mp3"},{"type":"word_length","bits":16}]})");
    const QString out = path("out.wav");
    const auto answer = call({"pass", master_, "--chain", chain, "-o", out, "--json"});
    QCOMPARE(answer.status, 0);
    const auto json = answer.json();
    for (const char* key : {"output", "frames", "sample_rate_hz", "stages"}) QVERIFY2(json.contains(key), key);
    const auto stages = json["stages"].toArray();
    QCOMPARE(stages.size(), 2);
    QVERIFY(stages[0].toObject()["encoded_bytes"].toInt() > 30000);
    QVERIFY(std::abs(stages[0].toObject()["bit_rate_bps"].toInt() - 128000) < 5000);
    const auto facts = call({"facts", out, "--json"}).json()["files"].toArray()[0].toObject();
    QCOMPARE(facts["container_bits"].toInt(), 16);
    QCOMPARE(facts["frames"].toInt(), json["frames"].toInt());
    QFile::remove(out);
    for (const char* broken : {R"({"stages":[{"type":"nothing"}]})", R"({"stages":[{"type":"gain","gain_db":1000}]})",
                               "no json", R"({"stages":[{"type":"codec","codec":"g722"}]})", R"([1])"}) {
      const auto refused = call({"pass", master_, "--chain", written("broken.json", broken), "-o", out, "--json"});
      QCOMPARE(refused.status, 1);
      QVERIFY(refused.out.isEmpty());
      QCOMPARE(refused.err.count('\n'), 1);
      QVERIFY2(refused.err.contains("broken.json"), refused.err);
      QVERIFY(!QFile::exists(out));
    }
    QCOMPARE(call({"pass", master_, "--chain", chain, "-o", path("out.mp3")}).status, 2);
    QCOMPARE(call({"pass", master_, "-o", out}).status, 2);
    QCOMPARE(call({"pass", path("gone.wav"), "--chain", chain, "-o", out}).status, 1);
  }

  void stages_are_listed_with_ranges() {
    const auto stages = call({"stages", "--json"}).json()["stages"].toArray();
    QVERIFY(stages.size() >= 18);
    for (const auto& s : stages) {
      QVERIFY(s.toObject().contains("type"));
      for (const auto& p : s.toObject()["parameters"].toArray()) {
        for (const char* key : {"key", "kind", "unit", "default", "what"}) QVERIFY2(p.toObject().contains(key), key);
        if (p.toObject()["kind"] == "number") QVERIFY(p.toObject()["min"].toDouble() < p.toObject()["max"].toDouble());
      }
    }
  }

  void matrix_and_ceiling_answer_in_json_and_csv() {
    const QString chains = written(
        "chains.json", R"({"chains":[{"name":"Small","stages":[{"type":"codec","codec":"mp3","bit_rate_kbps":64}]},
      {"stages":[{"type":"word_length","bits":12}]}]})");
    const auto answer = call(
        {"matrix", master_, "--chains", chains, "--probes", "tone,silence", "--csv", path("matrix.csv"), "--json"});
    QCOMPARE(answer.status, 0);
    const auto cells = answer.json()["cells"].toArray();
    QCOMPARE(cells.size(), 6);
    QCOMPARE(cells[0].toObject()["chain"].toString(), QString("Small"));
    QVERIFY(cells[2].toObject()["thd_n_db"].toDouble() < -40);
    QVERIFY(cells[0].toObject()["thd_n_db"].isNull());
    QFile csv(path("matrix.csv"));
    QVERIFY(csv.open(QFile::ReadOnly));
    QCOMPARE(csv.readAll().count('\n'), 7);
    QCOMPARE(call({"matrix", "--chains", chains, "--probes", "nothing"}).status, 2);
    QCOMPARE(call({"matrix", "--chains", path("gone.json"), "--probes", "all"}).status, 1);
    const auto search = call({"ceiling", master_, "--chains", chains, "--limit", "-3", "--json"});
    QCOMPARE(search.status, 0);
    QCOMPARE(search.json()["answers"].toArray().size(), 2);
    QVERIFY(search.json()["for_all_db"].isDouble());
  }

  void probes_are_written_and_read_back() {
    const auto list = call({"probe", "--list", "--json"});
    QCOMPARE(list.status, 0);
    QVERIFY(list.json()["probes"].toArray().size() >= 8);
    const auto made = call({"probe", "sweep", "-o", path("sweep.wav"), "--rate", "96000", "--bits", "32f", "--json"});
    QCOMPARE(made.status, 0);
    for (const char* key : {"output", "kind", "rate_hz", "bits", "frames", "instructions", "score"})
      QVERIFY2(made.json().contains(key), key);
    QVERIFY(made.json()["instructions"].toArray().size() >= 3);
    const QString chain = written("c.json", R"({"stages":[{"type":"delay","delay_samples":1234.5},
      {"type":"converter","rate_hz":44100,"by":"linear"}]})");
    QCOMPARE(call({"pass", path("sweep.wav"), "--chain", chain, "-o", path("back.wav"), "--json"}).status, 0);
    const auto answer = call({"read", "sweep", path("back.wav"), "--csv", path("points.csv"), "--json"});
    QCOMPARE(answer.status, 0);
    const auto ret = answer.json()["returns"].toArray()[0].toObject();
    QCOMPARE(ret["probe_rate_hz"].toInt(), 96000);
    QCOMPARE(ret["return_rate_hz"].toInt(), 44100);
    QVERIFY(std::abs(ret["delay_samples"].toDouble() - 1234.5 * 44.1 / 96) < 0.05);
    const auto sweep = ret["sweep"].toObject();
    QVERIFY(sweep["worst_alias"].toObject()["db"].toDouble() > -10);
    QCOMPARE(sweep["grade"].toString(), QString("poor"));
    QFile csv(path("points.csv"));
    QVERIFY(csv.open(QFile::ReadOnly));
    QCOMPARE(csv.readAll().count('\n'), sweep["points"].toArray().size() + 1);

    QCOMPARE(call({"probe", "warble", "-o", path("no.wav")}).status, 2);
    QCOMPARE(call({"probe", "sweep", "-o", path("no.wav"), "--rate", "47999"}).status, 2);
    QCOMPARE(call({"probe", "sweep", "-o", path("no.mp3")}).status, 2);
    QVERIFY(!QFile::exists(path("no.wav")));
    QCOMPARE(call({"read", "warble", path("back.wav")}).status, 2);
    const auto wrong = call({"read", "sweep", master_, "--json"});
    QCOMPARE(wrong.status, 1);
    QVERIFY(wrong.err.contains("m.wav") && wrong.err.count('\n') == 1);
    QVERIFY(wrong.json()["returns"].toArray()[0].toObject()["error"].toString().contains("m.wav"));
  }

  void steady_probes_read_what_went_in() {
    QCOMPARE(call({"probe", "levels", "-o", path("levels.wav"), "--bits", "24", "--json"}).status, 0);
    const auto levels =
        call({"read", "levels", path("levels.wav"), "--json"}).json()["returns"].toArray()[0].toObject();
    const auto steps = levels["steps"].toArray();
    QCOMPARE(steps.size(), 15);
    for (int n = 0; n < 13; ++n)  // to -120 dBFS in dithered 24 bits
      QVERIFY2(std::abs(steps[n].toObject()["gain_db"].toDouble()) < (n < 10 ? 0.02 : 0.6),
               qPrintable(QString("%1 %2").arg(n).arg(steps[n].toObject()["gain_db"].toDouble())));
    QCOMPARE(call({"probe", "silence", "-o", path("silence.wav"), "--bits", "16", "--json"}).status, 0);
    const auto silence =
        call({"read", "silence", path("silence.wav"), "--json"}).json()["returns"].toArray()[0].toObject();
    const double noise = silence["steps"].toArray()[0].toObject()["noise_dbfs"].toDouble();
    const double truth =
        20 * std::log10(std::ldexp(1.0, -15)) + 10 * std::log10(0.5 * 19980 / 24000);  // TPDF: 3/12 steps
    QVERIFY2(std::abs(noise - truth) < 0.1, qPrintable(QString("%1 %2").arg(noise).arg(truth)));
    QCOMPARE(call({"probe", "impulse", "-o", path("impulse.wav"), "--bits", "32f", "--json"}).status, 0);
    const auto impulse =
        call({"read", "impulse", path("impulse.wav"), "--json"}).json()["returns"].toArray()[0].toObject();
    QVERIFY(std::abs(impulse["impulse"].toObject()["peak_dbfs"].toDouble() + 3) < 0.01);
  }

  void spectrum_and_converters_answer() {
    QCOMPARE(call({"probe", "ultrasonic", "-o", path("u.wav"), "--rate", "96000", "--bits", "32f"}).status, 0);
    const QString chain = written("down.json", R"({"stages":[{"type":"converter","rate_hz":44100,"by":"hold"}]})");
    QCOMPARE(call({"pass", path("u.wav"), "--chain", chain, "-o", path("d.wav")}).status, 0);
    const auto answer = call({"spectrum", path("d.wav"), "--from", "2.5", "--to", "7.5", "--source", "27400",
                              "--source-rate", "96000", "--curve", "100", "--csv", path("lines.csv"), "--json"});
    QCOMPARE(answer.status, 0);
    const auto file = answer.json()["files"].toArray()[0].toObject();
    const auto line = file["lines"].toArray()[0].toObject();
    QCOMPARE(line["kind"].toString(), QString("alias"));
    QVERIFY(std::abs(line["hz"].toDouble() - 16700) < 0.1);
    QCOMPARE(line["name"].toString(), QString("27.4 kHz folded at 44.1 kHz"));
    QCOMPARE(file["curve"].toObject()["hz"].toArray().size(), 100);
    QCOMPARE(call({"spectrum", master_, "--listen", "9"}).status, 2);
    const auto board =
        call({"converters", "--from", "96000", "--to", "44100", "--only", "quick", "--csv", path("b.csv"), "--json"});
    QCOMPARE(board.status, 0);
    QCOMPARE(board.json()["converters"].toArray().size(), 1);
    QCOMPARE(call({"converters", "--from", "44100", "--to", "44100"}).status, 2);
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

  /// What folds in a return is told with its frequencies, level and sentence; what does not is an empty list.
  void null_tells_aliases() {
    Planar sound = Programme(6, 2, 15000).render(96000);
    for (int c = 0; c < 2; ++c)
      for (size_t n = 0; n < size_t(sound.frames()); ++n)
        sound.channel(c)[n] += 0.03 * std::sin(2 * 3.14159265358979 * std::remainder(30000.0 * double(n) / 96000, 1.0));
    const auto master = QString::fromStdString(save(folder_ / "high.wav", sound, 96000, WordFormat::pcm24).string());
    QFile chain(path("poor.json"));
    QVERIFY(chain.open(QIODevice::WriteOnly));
    chain.write(R"({"stages": [{"type": "converter", "rate_hz": 48000, "by": "hold"}]})");
    chain.close();
    QCOMPARE(call({"pass", master, "--chain", path("poor.json"), "-o", path("poor.wav")}).status, 0);
    const auto answer = call({"null", master, path("poor.wav"), "--json"});
    QCOMPARE(answer.status, 0);
    const auto aliases = answer.json()["explanation"].toObject()["aliases"].toArray();
    QVERIFY(!aliases.isEmpty());
    const auto alias = aliases[0].toObject();
    QVERIFY(std::abs(alias["in_low_hz"].toDouble() - 30000) < 0.1);
    QVERIFY(std::abs(alias["out_low_hz"].toDouble() - 18000) < 0.1);
    QVERIFY(alias["is_line"].toBool());
    bool told = false;
    for (const auto& f : answer.json()["findings"].toArray())
      told = told || (f.toObject()["code"] == "alias" && f.toObject()["unit"] == "dB" &&
                      f.toObject()["text"].toString().startsWith("18.0 kHz is 30.0 kHz folded at 48.0 kHz"));
    QVERIFY(told);
    const auto clean = call({"null", master_, ret_, "--json"}).json()["explanation"].toObject();
    QVERIFY(clean["aliases"].toArray().isEmpty() && clean.contains("shaped_noise"));
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
  QString path(const char* name) const { return QString::fromStdString((folder_ / name).string()); }
  QString written(const char* name, const char* text) const {
    QFile file(path(name));
    if (file.open(QFile::WriteOnly)) file.write(text);
    return path(name);
  }
  Folder folder_;
  QString master_, ret_;
};

SHARED_MAIN(TestCli)
#include "test_cli.moc"
