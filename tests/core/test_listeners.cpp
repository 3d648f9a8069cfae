// What listeners get, and what was brought back from there: made with other encoders, at other rates and levels, and
// told apart.
#include <QtTest>

#include "core/delivery/listeners.hpp"
#include "core/measure/meter.hpp"
#include "core/stages/encoder.hpp"
#include "tests/support/cli.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

Outlet outlet(const std::string& key) {
  for (const Outlet& o : known_outlets())
    if (o.key == key) return o;
  throw std::runtime_error(key);
}

}  // namespace

class TestListeners : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() {
    qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str()));
    sound_ = programme("dense", rate, 10, 4);
    for (int c = 0; c < 2; ++c)  // loud, and no peak above full scale
      for (double& x : sound_.channel(c)) x = 0.9 * std::tanh(4 * x);
    master_ = Clip::open(save(folder_ / "m.wav", sound_, rate, WordFormat::float32));
    site_ = outlet("stand-in-video-site");
    gain_ = deliver(site_, measure_loudness(*master_)).gain_db;
    QVERIFY(gain_ < -1);  // it turns this down
  }

  void every_quality_at_the_players_gain() {
    const auto chains = what_listeners_get(site_, gain_);
    QCOMPARE(chains.size(), site_.qualities.size());
    for (const Chain& chain : chains) {
      const auto loudness = measure_loudness(*pass(master_, chain).ret);
      QVERIFY2(std::abs(*loudness.integrated_lufs - site_.target_lufs) < 0.3,
               qPrintable(QString::number(*loudness.integrated_lufs)));
    }
    // without a player's gain and without qualities it is the one encode
    QCOMPARE(what_listeners_get(outlet("stand-in-radio"), 0)[0].stages, outlet("stand-in-radio").encode->stages);
    QVERIFY(what_listeners_get(outlet("ebu-r128"), 0)[0].stages.empty());
  }
  void qualities_are_read_and_written() {
    QVERIFY(outlet_from_json(site_.key, outlet_json(site_)).qualities == site_.qualities);
    Json json = outlet_json(site_);
    json["qualities"] = {{{"name", "x"}}};
    QVERIFY_EXCEPTION_THROWN(outlet_from_json("x", json), OutletError);
    json["qualities"] = {{{"name", "x"}, {"chain", {{"stages", {{{"type", "no such"}}}}}}}};
    QVERIFY_EXCEPTION_THROWN(outlet_from_json("x", json), OutletError);
  }

  void the_very_encode_is_known() {
    for (size_t n = 0; n < site_.qualities.size(); ++n) {
      encode(*master_, {"libopus", int(site_.qualities[n].chain.stages[0].values["bit_rate_kbps"]) * 1000},
             folder_ / "b.opus");
      const auto b = beside("b.opus");
      QVERIFY2(b.codec == BroughtBack::Codec::that_quality, b.sentences[0].c_str());
      QCOMPARE(b.qualities[*b.nearest].quality, site_.qualities[n].name);
      QVERIFY(!b.is_turned());
      QCOMPARE(b.rate_hz, b.expected_rate_hz);
    }
  }
  void another_encoder_loses_as_much() {
    encode(*master_, {"libmp3lame", 128000}, folder_ / "b.mp3");
    const auto b = beside("b.mp3");
    QVERIFY2(b.codec != BroughtBack::Codec::that_quality && b.codec != BroughtBack::Codec::none,
             b.sentences[0].c_str());
    QVERIFY(b.sentences[0].find("codec") != std::string::npos || b.sentences[0].find("lost") != std::string::npos);
  }
  void much_more_is_lost() {
    encode(*master_, {"libmp3lame", 32000}, folder_ / "b.mp3");
    const auto b = beside("b.mp3");
    QVERIFY2(b.codec == BroughtBack::Codec::worse, b.sentences[0].c_str());
  }
  void only_the_player() {
    save(folder_ / "b.wav", sound_, rate, WordFormat::float32);
    const auto b = beside("b.wav");
    QVERIFY(b.codec == BroughtBack::Codec::none && !b.is_turned());
    QVERIFY2(std::ranges::any_of(b.sentences, [](const auto& s) { return s.find("only the player") != s.npos; }),
             b.sentences[1].c_str());
  }
  void the_level_is_in_the_file() {
    save(folder_ / "b.wav", scaled(sound_, std::pow(10, gain_ / 20)), rate, WordFormat::float32);
    auto b = beside("b.wav");
    QVERIFY(b.is_turned() && b.is_players_gain());
    QVERIFY2(b.sentences[0].find("player turns by") != std::string::npos, b.sentences[0].c_str());
    save(folder_ / "b.wav", scaled(sound_, std::pow(10, (gain_ - 2) / 20)), rate, WordFormat::float32);
    b = beside("b.wav");
    QVERIFY(b.is_turned() && !b.is_players_gain());
    QVERIFY(std::abs(b.level_db - (gain_ - 2)) < 0.01);
  }
  void the_rate_is_another() {
    encode(*Clip::at_rate(master_, 32000), {"libmp3lame", 96000}, folder_ / "b.mp3");
    const auto b = beside("b.mp3");
    QCOMPARE(b.rate_hz, 32000);
    QCOMPARE(b.expected_rate_hz, 48000);
    QVERIFY(std::ranges::any_of(b.sentences, [](const auto& s) { return s.find("32000 Hz, where") != s.npos; }));
  }
  void by_the_command_line() {
    encode(*master_, {"libopus", 64000}, folder_ / "b.opus");
    const auto a =
        call({"listeners", path("m.wav"), "--outlet", site_.key.c_str(), "--brought", path("b.opus"), "--json"});
    QVERIFY2(a.status == 0, a.err);
    QCOMPARE(a.json()["gets"].toArray().size(), qsizetype(3));
    QCOMPARE(a.json()["brought"].toObject()["nearest"].toString(), QString("small"));
    QVERIFY(std::abs(a.json()["player_gain_db"].toDouble() - gain_) < 1e-9);
    save(folder_ / "other.wav", programme("speech", rate, 10, 1), rate);
    QCOMPARE(call({"listeners", path("m.wav"), "--outlet", site_.key.c_str(), "--brought", path("other.wav")}).status,
             1);
    QCOMPARE(call({"listeners", path("m.wav"), "--outlet", "nowhere"}).status, 2);
  }

 private:
  static constexpr int rate = 48000;
  BroughtBack beside(const char* name) { return lay_beside(site_, gain_, master_, Clip::open(folder_ / name)); }
  QString path(const char* name) const { return QString::fromStdString((folder_ / name).string()); }
  Folder folder_;
  Planar sound_;
  std::shared_ptr<const Clip> master_;
  Outlet site_;
  double gain_ = 0;
};

SHARED_MAIN(TestListeners)
#include "test_listeners.moc"
