// Ways to an outlet's loudness: each is what it says when it is gone again, and the least harmful is named.
#include <QtTest>

#include "core/delivery/reach.hpp"
#include "core/measure/true_peak.hpp"
#include "tests/support/cli.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

Outlet outlet(double target, double ceiling) {
  Outlet o;
  o.key = "tide", o.name = "Tide radio", o.acts = Outlet::Acts::file;
  o.target_lufs = target, o.tolerance_lu = 0.5, o.max_true_peak_dbtp = ceiling;
  return o;
}

}  // namespace

class TestReach : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  /// Down is always possible, and takes nothing away.
  void what_is_too_loud_is_only_turned_down() {
    const auto r = ways_to(outlet(-30, -1), master("dense", 1));
    QVERIFY(r.best);
    QCOMPARE(r.ways[*r.best].name, std::string("level alone"));
    QVERIFY(r.ways[*r.best].residual_relative_db.value_or(-300) < -120);
    QVERIFY(r.ways[0].moves_a_minute == 0);
  }
  void what_is_too_soft_needs_more_than_level_data() {
    QTest::addColumn<QString>("name");
    for (const char* name : {"drums", "speech"}) QTest::newRow(name) << name;
  }
  void what_is_too_soft_needs_more_than_level() {
    QFETCH(QString, name);
    const auto soft = master(name.toStdString(), 0.3);
    const auto before = measure_loudness(*soft);
    const double target = *before.integrated_lufs - *before.true_peak_dbtp + 3;  // 4 dB more than there is room for
    const auto r = ways_to(outlet(target, -1), soft);
    QVERIFY(!r.ways[0].reaches);
    QVERIFY(std::abs(*r.ways[0].true_peak_dbtp + 1) < 0.01);
    QVERIFY(r.best && *r.best > 0);
    int reached = 0;
    for (const Way& w : r.ways) {
      const auto own = measure_loudness(*pass(soft, w.chain).ret);  // gone again
      QVERIFY(std::abs(*own.integrated_lufs - *w.loudness_lufs) < 1e-6);
      QVERIFY(std::abs(*own.true_peak_dbtp - *w.true_peak_dbtp) < 1e-6 && *w.true_peak_dbtp <= -0.95);
      if (!w.reaches) continue;
      ++reached;
      QVERIFY2(std::abs(*w.loudness_lufs - target) < 0.1,
               qPrintable(QString("%1, %2").arg(*w.loudness_lufs).arg(target)));
      QVERIFY(*w.residual_relative_db >= *r.ways[*r.best].residual_relative_db && w.moves_a_minute > 0);
      QVERIFY(*w.plr_db < *before.plr_db);
    }
    QVERIFY(reached >= 2);
  }
  /// Behind the encode peaks count as they are heard.
  void the_encode_has_its_own_peaks() {
    auto o = outlet(-12, -1);
    o.encode = chain_from_json({{"stages", {{{"type", "codec"}, {"codec", "mp3"}, {"bit_rate_kbps", 96}}}}});
    const auto sound = master("dense", 0.8);
    const auto r = ways_to(o, sound);
    const Way& limited = r.ways[1];
    Chain all = limited.chain;
    all.stages.push_back(o.encode->stages[0]);
    const double heard = *measure_loudness(*pass(sound, all).ret).true_peak_dbtp;
    QVERIFY(std::abs(heard - *limited.true_peak_dbtp) < 1e-6);
    QVERIFY2(heard < -0.9, qPrintable(QString::number(heard)));
  }
  void silence_reaches_nothing() {
    const auto none = Clip::open(save(folder_ / "none.wav", Planar(2, 44100 * 3), 44100));
    QVERIFY_THROWS_EXCEPTION(InputError, ways_to(outlet(-14, -1), none));
  }
  void the_command_line_answers() {
    const auto file =
        QString::fromStdString(save(folder_ / "m.wav", scaled(programme("piano", 44100, 6, 2), 0.1), 44100).string());
    const auto a = call({"reach", file, "--outlet", "aes77-track", "--json"});
    QVERIFY2(a.status == 0, a.err);
    QCOMPARE(a.json()["target_lufs"].toDouble(), -16.0);
    const auto ways = a.json()["ways"].toArray();
    QVERIFY(ways.size() >= 3);
    for (const char* key :
         {"name", "chain", "loudness_lufs", "true_peak_dbtp", "plr_db", "range_lu", "residual_relative_db", "reaches"})
      QVERIFY2(ways[0].toObject().contains(key), key);
    const auto best = a.json()["best"];
    QVERIFY(best.isNull() || ways[best.toInt()].toObject()["reaches"].toBool());
    QCOMPARE(call({"reach", file, "--outlet", "nowhere"}).status, 2);
    QCOMPARE(call({"reach", file}).status, 2);
    QCOMPARE(call({"reach", "gone.wav", "--outlet", "aes77-track"}).status, 1);
  }

 private:
  std::shared_ptr<const Clip> master(const std::string& name, double gain) {
    return Clip::open(save(folder_ / "m.wav", scaled(programme(name, 44100, 8, 3), gain), 44100, WordFormat::pcm24));
  }
  Folder folder_;
};

SHARED_MAIN(TestReach)
#include "test_reach.moc"
