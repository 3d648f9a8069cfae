// Sheets: rules as they are written, files against them, by the core and by the command line.
#include <QtTest>
#include <fstream>

#include "core/delivery/sheet.hpp"
#include "core/stages/encoder.hpp"
#include "tests/support/cli.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

Rules rules(const char* text) { return rules_from_json(json_from(text)); }

std::set<std::string> codes(const Checked& c) {
  std::set<std::string> all;
  for (const Fault& f : c.faults) all.insert(f.code);
  return all;
}
using Codes = std::set<std::string>;

}  // namespace

class TestSheet : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() {
    qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str()));
    sound_ = scaled(programme("dense", 48000, 8, 4), 0.5);
    good_ = save(folder_ / "01 Mill Race.wav", sound_, 48000, WordFormat::pcm24);
  }

  // ---- rules --------------------------------------------------------------------------------------------------------
  void rules_are_read_and_written() {
    const auto r = rules(
        "{\"name\": \"House\", \"sample_rate_hz\": [48000, 96000], \"container_bits\": 24, \"codec\": \"pcm\", "
        "\"true_peak_dbtp\": {\"max\": -1}, \"integrated_lufs\": {\"min\": -20, \"max\": -10}, \"clicks\": {\"max\": "
        "0}, "
        "\"upsampled\": false, \"lossy_origin\": false, \"tags\": [\"TITLE\"], \"file_name\": \"[0-9]+ .*wav\"}");
    QCOMPARE(r.sample_rates_hz, (std::set<int>{48000, 96000}));
    QCOMPARE(*r.bounds.at("integrated_lufs").min, -20.0);
    QVERIFY(!r.bounds.at("clicks").min && *r.bounds.at("clicks").max == 0);
    QVERIFY(r.no_upsampling && r.no_lossy_origin);
    QVERIFY(rules_from_json(rules_json(r)) == r);
    for (const auto& number : bounded()) {  // each of them
      const Json json{{number.key, {{"min", 1}, {"max", 2}}}};
      QVERIFY(rules_json(rules_from_json(json)) == json);
    }
  }
  /// A pattern that doubles the work of a plain matcher with every letter.
  void no_pattern_takes_for_ever() {
    const auto r = rules("{\"file_name\": \"(a+)+b\"}");
    const auto file = save(folder_ / (std::string(60, 'a') + ".wav"), sound_, 48000);
    QElapsedTimer timer;
    timer.start();
    QCOMPARE(codes(check_file(file, r)), Codes{"file_name"});
    QVERIFY(timer.elapsed() < 60000);
    QVERIFY_THROWS_EXCEPTION(RulesError, rules("{\"file_name\": \"(a)\\\\1\"}"));
  }
  void rules_that_cannot_be_are_told_data() {
    QTest::addColumn<QString>("text");
    QTest::addColumn<QString>("says");
    QTest::newRow("a key") << "{\"true_peek_dbtp\": {\"max\": 1}}"
                           << "'true_peek_dbtp'";
    QTest::newRow("a bound") << "{\"true_peak_dbtp\": -1}"
                             << "\"min\"";
    QTest::newRow("a side") << "{\"true_peak_dbtp\": {\"most\": -1}}"
                            << "\"max\"";
    QTest::newRow("upside down") << "{\"plr_db\": {\"min\": 3, \"max\": 1}}"
                                 << "not above";
    QTest::newRow("a rate") << "{\"sample_rate_hz\": \"fast\"}"
                            << "rate in Hz";
    QTest::newRow("a pattern") << "{\"file_name\": \"(\"}"
                               << "regular expression";
    QTest::newRow("a word") << "{\"upsampled\": \"no\"}"
                            << "false";
    QTest::newRow("nothing") << "{}"
                             << "no rules";
    QTest::newRow("a list") << "[1]"
                            << "no rules";
  }
  void rules_that_cannot_be_are_told() {
    QFETCH(QString, text);
    QFETCH(QString, says);
    try {
      rules(text.toUtf8());
      QFAIL("taken");
    } catch (const RulesError& error) {
      QVERIFY2(QString(error.what()).contains(says), error.what());
    }
    std::ofstream(folder_ / "rules.json") << text.toStdString();
    QVERIFY_THROWS_EXCEPTION(InputError, load_rules(folder_ / "rules.json"));
  }

  // ---- files --------------------------------------------------------------------------------------------------------
  void a_file_that_is_as_it_should_be_passes() {
    const auto r = rules(
        "{\"sample_rate_hz\": 48000, \"container_bits\": 24, \"bits_used\": {\"min\": 20}, \"channels\": 2, \"codec\": "
        "\"pcm\", "
        "\"true_peak_dbtp\": {\"max\": -1}, \"clicks\": {\"max\": 0}, \"dropouts\": {\"max\": 0}, \"flat_tops\": "
        "{\"max\": 0}, "
        "\"clipped_runs\": {\"max\": 0}, \"dc_offset\": {\"max\": 0.001}, \"least_correlation\": {\"min\": -0.5}, "
        "\"channel_delay_samples\": {\"max\": 0.5}, \"head_silence_s\": {\"max\": 1}, \"lossy_origin\": false, "
        "\"upsampled\": false, "
        "\"file_name\": \"[0-9]+ .*wav\"}");
    const auto c = check_file(good_, r);
    QVERIFY2(c.passes(), c.passes() ? "" : c.faults[0].text.c_str());
  }
  void a_coder_is_looked_for_where_that_is_asked() {
    auto c = check_file(good_, rules("{\"true_peak_dbtp\": {\"max\": 0}}"));
    QVERIFY(!c.is_origin_known && !checked_json("good", c).contains("lossy_origin"));  // nothing is said of it
    know_origin(good_, c);
    QVERIFY(c.is_origin_known && checked_json("good", c)["lossy_origin"].is_null());
    QVERIFY(check_file(good_, rules("{\"lossy_origin\": false}")).is_origin_known);
  }
  void each_fault_is_told() {
    Planar bad = scaled(sound_, 1.9);
    for (int c = 0; c < 2; ++c)
      for (double& x : bad.channel(c)) x = std::clamp(x + 0.01, -0.4, 0.4);  // flat tops under full scale, and DC
    for (size_t n = 90000; n < 90300; ++n) bad.channel(0)[n] = bad.channel(1)[n] = 0;
    const auto file = save(folder_ / "bad.wav", bad, 48000, WordFormat::pcm16);
    const auto c = check_file(file, rules("{\"sample_rate_hz\": 44100, \"container_bits\": 24, \"channels\": [1], "
                                          "\"true_peak_dbtp\": {\"max\": -12}, \"integrated_lufs\": {\"max\": -30}, "
                                          "\"flat_tops\": {\"max\": 0}, \"dropouts\": {\"max\": 0}, "
                                          "\"dc_offset\": {\"max\": 0.0001}, \"bits_used\": {\"min\": 20}, \"tags\": "
                                          "[\"ISRC\"], \"file_name\": \"[0-9]+.*\"}"));
    QCOMPARE(codes(c), (Codes{"sample_rate_hz", "container_bits", "channels", "true_peak_dbtp", "integrated_lufs",
                              "flat_tops", "dropouts", "dc_offset", "bits_used", "tags", "file_name"}));
    for (const Fault& f : c.faults) {
      QVERIFY(QString::fromStdString(f.text).endsWith('.'));
      if (f.code == "dropouts") QCOMPARE(f.text, std::string("Dropouts: 1, none allowed."));
      if (f.code == "dropouts") QVERIFY(std::abs(*f.at_s - 90000 / 48000.0) < 0.001);
      if (f.code == "true_peak_dbtp") QVERIFY(*f.limit == -12 && *f.value > -12 && f.unit == "dBTP" && f.at_s);
    }
  }
  /// A limit is held at the decimals it is shown with: -1.04 dBTP is -1.0.
  void limits_are_held_as_they_are_shown() {
    const auto peak = *check_file(good_, rules("{\"channels\": 2}")).measured.loudness.true_peak_dbtp;
    const auto at = [&](double wanted) {
      return save(folder_ / "peak.wav", scaled(sound_, std::pow(10, (wanted - peak) / 20)), 48000, WordFormat::float64);
    };
    const auto r = rules("{\"true_peak_dbtp\": {\"max\": -3}}");
    QVERIFY(check_file(at(-2.96), r).passes());
    QVERIFY(!check_file(at(-2.94), r).passes());
  }
  void what_came_from_a_lower_rate_is_told() {
    const auto r = rules("{\"upsampled\": false}");
    for (const auto& [from, to] : {std::pair{44100, 96000}, {48000, 192000}, {44100, 88200}}) {
      Planar noise = with_noise(Planar(2, from * 6), 0.1, 7);
      const auto up = Clip::at_rate(Clip::open(save(folder_ / "low.wav", noise, from)), to);
      Planar all;
      up->reader()->read(0, up->format().frames, all);
      const auto c = check_file(save(folder_ / "up.wav", all, to, WordFormat::pcm24), r);
      QCOMPARE(codes(c), Codes{"upsampled"});
      QCOMPARE(*c.upsampled_from_hz, from);
      QVERIFY(check_file(save(folder_ / "full.wav", with_noise(Planar(2, to * 6), 0.1, 7), to, WordFormat::pcm24), r)
                  .passes());
    }
    for (const auto& name : programme_names())  // whatever the music is like, at its own rate
      QVERIFY2(
          check_file(save(folder_ / "own.wav", programme(name, 48000, 6, 3), 48000, WordFormat::pcm24), r).passes(),
          name.c_str());
  }
  void a_wave_that_was_coded_is_told() {
    encode(*Clip::open(good_), {"libmp3lame", 128000}, folder_ / "coded.mp3");
    const auto coded = Clip::open(folder_ / "coded.mp3");
    Planar all;
    coded->reader()->read(0, coded->format().frames, all);
    const auto r = rules("{\"lossy_origin\": false}");
    QCOMPARE(codes(check_file(save(folder_ / "was.wav", all, 48000, WordFormat::pcm16), r)), Codes{"lossy_origin"});
    QCOMPARE(codes(check_file(folder_ / "coded.mp3", r)), Codes{"lossy_origin"});
    QVERIFY(check_file(good_, r).passes());
  }
  /// Loudness counts for the album, peaks for each track.
  void an_album_is_one_programme() {
    const auto soft = save(folder_ / "soft.wav", scaled(sound_, 0.25), 48000, WordFormat::pcm24);
    const auto any = rules("{\"channels\": 2}");
    const auto one = check_file(good_, any), two = check_file(soft, any);
    const double loud = *one.measured.loudness.integrated_lufs, quiet = *two.measured.loudness.integrated_lufs,
                 all = *album_of({&one.measured.loudness, &two.measured.loudness}).integrated_lufs;
    QVERIFY(loud - all > 1 && all - quiet > 1);
    Rules r;
    r.bounds["integrated_lufs"] = {all - 0.2, all + 0.2};
    QVERIFY(!check_file(good_, r).passes() && !check_file(soft, r).passes());
    QVERIFY(check_track(good_, r).passes() && check_track(soft, r).passes());
    QVERIFY(check_album({&one.measured.loudness, &two.measured.loudness}, r).empty());
    QCOMPARE(check_album({&one.measured.loudness}, r).size(), size_t(1));
    r.bounds["true_peak_dbtp"] = {{}, *two.measured.loudness.true_peak_dbtp + 1};
    QVERIFY(check_track(soft, r).passes() && !check_track(good_, r).passes());
  }
  void an_outlet_is_a_set_of_rules() {
    const auto all = known_outlets();
    const auto r128 = std::find_if(all.begin(), all.end(), [](const Outlet& o) { return o.key == "ebu-r128"; });
    QVERIFY(r128 != all.end());
    const double lufs = *check_file(good_, rules_of(*r128)).measured.loudness.integrated_lufs;
    const auto at = [&](double wanted) {
      return check_file(save(folder_ / "at.wav", scaled(sound_, std::pow(10, (wanted - lufs) / 20)), 48000),
                        rules_of(*r128));
    };
    QVERIFY(at(-23).passes());
    const auto loud = at(-20);
    QCOMPARE(codes(loud), Codes{"integrated_lufs"});
    QVERIFY(std::abs(*loud.faults[0].value + 20) < 0.05 &&
            std::abs(*loud.faults[0].limit - (-23 + *r128->tolerance_lu)) < 1e-9);
    QCOMPARE(codes(check_file(save(folder_ / "none.wav", Planar(2, 48000 * 4), 48000), rules_of(*r128))),
             Codes{"integrated_lufs"});
  }

  // ---- the command line ---------------------------------------------------------------------------------------------
  void the_command_line_says_who_passes() {
    const auto bad = save(folder_ / "loud.wav", scaled(sound_, 1.9), 48000, WordFormat::pcm24);
    std::ofstream(folder_ / "peaks.json") << "{\"name\": \"Peaks\", \"true_peak_dbtp\": {\"max\": -6}}";
    const QString rules_file = path("peaks.json"), good = QString::fromStdString(good_), loud = path("loud.wav");
    auto a = call({"check", good, "--rules", rules_file, "--json"});
    QCOMPARE(a.status, 0);
    QVERIFY(a.json()["passed"] == 1 && a.json()["failed"] == 0);
    a = call({"check", loud, good, "--rules", rules_file, "--json", "--csv", path("sheet.csv"), "--html",
              path("sheet.html")});
    QCOMPARE(a.status, 3);
    const auto files = a.json()["files"].toArray();
    QVERIFY(!files[0].toObject()["passes"].toBool() && files[1].toObject()["passes"].toBool());
    const auto fault = files[0].toObject()["faults"].toArray()[0].toObject();
    for (const char* key : {"code", "text", "value", "limit", "unit", "at_s"}) QVERIFY2(fault.contains(key), key);
    QVERIFY(files[1].toObject().contains("lossy_origin"));
    for (const char* key : {"path", "integrated_lufs", "true_peak_dbtp", "bits_used", "loudness_range_lu"})
      QVERIFY2(files[1].toObject().contains(key), key);
    QVERIFY(text_of_file("sheet.csv").startsWith("path,passes,faults,"));
    QCOMPARE(text_of_file("sheet.csv").count('\n'), 3);
    QVERIFY(text_of_file("sheet.html").contains("1 of 2 files pass"));
    a = call({"check", loud, path("gone.wav"), good, "--rules", rules_file, "--json"});
    QCOMPARE(a.status, 1);
    QVERIFY(a.json()["files"].toArray()[1].toObject()["error"].toString().contains("gone.wav"));
    QCOMPARE(a.json()["files"].toArray().size(), 3);
    a = call({"check", good, loud, "--rules", rules_file, "--album", "--json"});
    QVERIFY(a.json()["album"].toObject()["passes"].toBool() &&
            a.json()["album"].toObject()["integrated_lufs"].isDouble());
  }
  void calls_that_are_off_are_refused() {
    const QString good = QString::fromStdString(good_);
    QCOMPARE(call({"check", good}).status, 2);
    QCOMPARE(call({"check", good, "--outlet", "nowhere"}).status, 2);
    QCOMPARE(call({"check", good, "--outlet", "ebu-r128", "--rules", "a.json"}).status, 2);
    QCOMPARE(call({"check", "--outlet", "ebu-r128"}).status, 2);
    std::ofstream(folder_ / "wrong.json") << "{\"true_peek\": 1}";
    auto a = call({"check", good, "--rules", path("wrong.json")});
    QCOMPARE(a.status, 1);
    QVERIFY2(a.err.contains("wrong.json") && a.err.contains("true_peek"), a.err);
    // neither a file that is read nor, unasked, one that is there
    std::ofstream(folder_ / "right.json") << "{\"true_peak_dbtp\": {\"max\": 0}}";
    for (const char* option : {"--html", "--csv"})
      for (const QString& out : {good, path("right.json")})
        QCOMPARE(call({"check", good, "--rules", path("right.json"), option, out, "--force"}).status, 2);
    QVERIFY(text_of_file("right.json").contains("true_peak_dbtp"));
    std::ofstream(folder_ / "there.csv") << "kept";
    QVERIFY(call({"check", good, "--outlet", "ebu-r128", "--csv", path("there.csv")}).status != 0);
    QCOMPARE(text_of_file("there.csv"), QByteArray("kept"));
    a = call({"check", good, "--outlet", "ebu-r128", "--html", good, "--force"});
    QCOMPARE(a.status, 2);
    QCOMPARE(Clip::open(good_)->format().frames, sound_.frames());
  }
  /// Shares give what the whole gives.
  void shares_add_up() {
    QStringList words{"check"};
    for (int n = 0; n < 5; ++n)
      words << QString::fromStdString(
          save(folder_ / QString("share %1.wav").arg(n).toStdString(), scaled(sound_, 0.2 * (n + 1)), 48000));
    words << "--outlet"
          << "ebu-r128"
          << "--jsonl";
    QList<QByteArray> whole, shares;
    for (const auto& line : call(words).out.split('\n'))
      if (line.contains("\"path\"")) whole << line;
    for (int k = 1; k <= 3; ++k)
      for (const auto& line : call(words + QStringList{"--part", QString("%1/3").arg(k)}).out.split('\n'))
        if (line.contains("\"path\"")) shares << line;
    std::sort(whole.begin(), whole.end()), std::sort(shares.begin(), shares.end());
    QCOMPARE(whole.size(), 5);
    QCOMPARE(shares, whole);
  }

 private:
  QString path(const std::string& name) const { return QString::fromStdString((folder_ / name).string()); }
  QByteArray text_of_file(const std::string& name) const {
    QFile file(path(name));
    return file.open(QIODevice::ReadOnly) ? file.readAll() : QByteArray();
  }
  Folder folder_;
  Planar sound_;
  std::filesystem::path good_;
};

SHARED_MAIN(TestSheet)
#include "test_sheet.moc"
