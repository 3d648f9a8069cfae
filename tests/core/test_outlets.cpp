// Outlets, levelled copies with their tags, and the live meter, against rules worked out by hand and other readers.
#include <sndfile.h>

#include <QtTest>
#include <cmath>
#include <fstream>

#include "core/delivery/levelled.hpp"
#include "core/delivery/outlet.hpp"
#include "core/measure/live_meter.hpp"
#include "tests/support/stages.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

Loudness loudness(double lufs, double dbtp) {
  Loudness l;
  l.integrated_lufs = lufs, l.true_peak_dbtp = dbtp;
  return l;
}

Outlet player(Outlet::Turns turns, double target, std::optional<double> ceiling = {}) {
  Outlet o;
  o.key = "test", o.name = "Test", o.turns = turns, o.target_lufs = target, o.lift_ceiling_dbtp = ceiling;
  return o;
}

}  // namespace

class TestOutlets : public StageTest {
  Q_OBJECT

 private slots:
  void initTestCase() {
    qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str()));
    qputenv("XDG_CONFIG_HOME", QByteArray((folder_ / "config").c_str()));
  }

  void one_sentence_tells_the_file_from_the_player() {
    Outlet broadcast = player(Outlet::Turns::none, -23);
    broadcast.key = "a", broadcast.acts = Outlet::Acts::file, broadcast.tolerance_lu = 0.5, broadcast.shipped = true;
    Outlet other = broadcast;
    other.key = "b", other.target_lufs = -24;
    Outlet turning = player(Outlet::Turns::both, -14);
    turning.key = "c", turning.shipped = true;
    Outlet stand_in = turning;
    stand_in.key = "stand-in-x";
    QVERIFY(group_of(broadcast) == OutletGroup::broadcast && group_of(turning) == OutletGroup::players);
    QVERIFY(group_of(stand_in) == OutletGroup::stand_ins &&
            group_of(player(Outlet::Turns::both, -14)) == OutletGroup::own);
    const auto sentence = [&](double lufs, const std::vector<Outlet>& outlets) {
      std::vector<std::pair<Outlet, Delivery>> all;
      for (const Outlet& o : outlets) all.emplace_back(o, deliver(o, loudness(lufs, -3)));
      return sentence_of(all);
    };
    QCOMPARE(sentence(-17.5, {broadcast, other}),
             std::string("Passes 0 of 2. Broadcast wants it 5.5 to 6.5 LU lower."));
    QCOMPARE(sentence(-17.5, {broadcast}), std::string("Passes 0 of 1. Broadcast wants it 5.5 LU lower."));
    QCOMPARE(sentence(-30, {broadcast, turning}),
             std::string("Passes 1 of 2. Broadcast wants it 7.0 LU higher; players turn it by +16.0 dB."));
    QCOMPARE(sentence(-23, {broadcast, turning}),
             std::string("Passes 2 of 2. Broadcast has it where it wants it; players turn it by +9.0 dB."));
    QCOMPARE(sentence(-23.4, {broadcast, other}), std::string("Passes 1 of 2. Broadcast wants it 0.6 LU lower."));
    broadcast.target_lufs = -20;
    QCOMPARE(sentence(-23.4, {broadcast, other}),
             std::string("Passes 0 of 2. Broadcast wants it between 0.6 LU lower and 3.4 higher."));
    QCOMPARE(sentence(-14.2, {turning, stand_in}), std::string("Passes 2 of 2. Players leave it nearly as it is."));
    QCOMPARE(sentence_of({}), std::string("Passes 0 of 0."));
  }
  void shipped_outlets_are_what_their_standards_say() {
    std::vector<std::string> refused;
    const auto all = known_outlets(&refused);
    QVERIFY(refused.empty() && all.size() >= 14);
    auto target = [&](const std::string& key) {
      for (const Outlet& o : all)
        if (o.key == key) return o.target_lufs;
      return 99.0;
    };
    QCOMPARE(target("ebu-r128"), -23.0);
    QCOMPARE(target("atsc-a85"), -24.0);
    QCOMPARE(target("arib-tr-b32"), -24.0);
    QCOMPARE(target("replaygain-2-track"), -18.0);
    for (const Outlet& o : all) {
      QVERIFY2(o.shipped && !o.what.empty(), o.key.c_str());
      Outlet again = outlet_from_json(o.key, outlet_json(o));
      again.shipped = true;
      QVERIFY2(again == o, o.key.c_str());
    }
  }

  void players_turn_as_their_rule_says() {
    using Turns = Outlet::Turns;
    using Limited = Delivery::Limited;
    struct Case {
      Turns turns;
      double lufs, dbtp, gain;
      Limited limited;
    };
    for (const auto& c : {Case{Turns::both, -10, -0.5, -4, Limited::nothing},
                          {Turns::both, -16, -5, 2, Limited::nothing},
                          {Turns::both, -20, -3, 2, Limited::ceiling},
                          {Turns::both, -20, 0.5, 0, Limited::ceiling},
                          {Turns::down, -20, -9, 0, Limited::down_only},
                          {Turns::down, -10, -1, -4, Limited::nothing},
                          {Turns::none, -10, -1, 0, Limited::nothing}}) {
      const auto d = deliver(player(c.turns, -14, -1), loudness(c.lufs, c.dbtp));
      QVERIFY2(std::abs(d.gain_db - c.gain) < 1e-9, qPrintable(QString("%1 at %2").arg(d.gain_db).arg(c.lufs)));
      QVERIFY(d.limited == c.limited);
      QVERIFY(std::abs(*d.loudness_lufs - c.lufs - c.gain) < 1e-9 &&
              std::abs(*d.true_peak_dbtp - c.dbtp - c.gain) < 1e-9);
      QVERIFY(!d.file_change_db);
    }
    const auto silent = deliver(player(Turns::both, -14), Loudness());
    QVERIFY(silent.gain_db == 0 && !silent.loudness_lufs);
  }

  void files_are_judged_by_target_peak_and_short_term() {
    Outlet o;
    o.acts = Outlet::Acts::file, o.target_lufs = -23, o.tolerance_lu = 0.2, o.live_tolerance_lu = 1;
    o.max_true_peak_dbtp = -1, o.max_short_term_lufs = -18;
    QVERIFY(deliver(o, loudness(-23.2, -1)).passes());
    QCOMPARE(deliver(o, loudness(-23.5, -1)).faults.size(), size_t(1));
    QVERIFY(deliver(o, loudness(-23.5, -1), {nullptr, nullptr, true, {}}).passes());
    QCOMPARE(deliver(o, loudness(-20, 0)).faults.size(), size_t(2));
    Loudness burst = loudness(-23, -3);
    burst.short_term_max_lufs = -17;
    QVERIFY(!deliver(o, burst).passes());
    QVERIFY(std::abs(*deliver(o, loudness(-20, -2)).file_change_db + 3) < 1e-9);
    QVERIFY(std::abs(*deliver(o, loudness(-20, -2)).headroom_db - 1) < 1e-9);
  }

  void limits_are_held_as_they_are_shown() {
    Outlet o;
    o.acts = Outlet::Acts::file, o.target_lufs = -23, o.tolerance_lu = 0.2, o.max_true_peak_dbtp = -1;
    o.max_short_term_lufs = -18;
    Loudness l = loudness(-23, -1);
    for (const auto& [short_term, passes] :
         {std::pair{-17.99, true}, {-17.951, true}, {-17.94, false}, {-18.0, true}}) {
      l.short_term_max_lufs = short_term;
      QVERIFY2(deliver(o, l).passes() == passes, qPrintable(QString::number(short_term)));
    }
    for (const auto& [lufs, passes] : {std::pair{-23.24, true}, {-22.76, true}, {-23.26, false}, {-22.74, false}})
      QVERIFY2(deliver(o, loudness(lufs, -1)).passes() == passes, qPrintable(QString::number(lufs)));
    QVERIFY(deliver(o, loudness(-23, -0.96)).passes() && !deliver(o, loudness(-23, -0.94)).passes());
  }

  void shipped_standards_name_their_edition() {
    std::map<std::string, Outlet> all;
    for (const Outlet& o : known_outlets()) all[o.key] = o;
    for (const auto& [key, o] : all) {
      const bool made_up = key.rfind("stand-in", 0) == 0;
      QVERIFY2(made_up == o.edition.empty(), key.c_str());
      QVERIFY2(made_up || o.edition.find("20") != std::string::npos, key.c_str());
    }
    QVERIFY(all["aes77-speech"].acts == all["aes77-track"].acts &&
            all["aes77-speech"].turns == all["aes77-track"].turns);
    QCOMPARE(all["ebu-r128"].tolerance_lu, std::optional(0.2));
    QCOMPARE(all["ebu-r128-s1"].tolerance_lu, std::optional(0.2));
  }

  void long_programmes_are_anchored_in_their_dialogue() {
    Outlet o;
    o.acts = Outlet::Acts::file, o.target_lufs = -24, o.tolerance_lu = 2, o.anchor = Outlet::Anchor::dialogue;
    const auto whole = deliver(o, loudness(-19, -3));
    QVERIFY(!whole.passes() && whole.note.find("dialogue") != std::string::npos);
    DeliveryOptions named;
    named.dialogue_lufs = -24.5;
    const auto anchored = deliver(o, loudness(-19, -3), named);
    QVERIFY(anchored.passes() && std::abs(*anchored.file_change_db - 0.5) < 1e-9);
    o.anchor = Outlet::Anchor::programme;
    QVERIFY(!deliver(o, loudness(-19, -3), named).passes());
  }

  void albums_have_one_gain() {
    const auto loud = heard(scaled(Programme(20, 3).render(48000), 2)),
               quiet = heard(scaled(Programme(20, 4).render(48000), 0.4));
    Outlet o = player(Outlet::Turns::both, -18, 0);
    const AlbumLevels album = album_levels({&loud, &quiet});
    QVERIFY(album.loudest_lufs == loud.integrated_lufs && album.quietest_lufs == quiet.integrated_lufs);
    for (const auto& [rule, by] : {std::pair{Outlet::Rule::album, *album.whole.integrated_lufs},
                                   {Outlet::Rule::loudest, *loud.integrated_lufs}}) {
      o.rule = rule;
      const auto a = deliver(o, loud, {&album}), b = deliver(o, quiet, {&album});
      QCOMPARE(a.gain_db, b.gain_db);
      QVERIFY(std::abs(a.gain_db - std::min(-18 - by, std::max(0.0, -*loud.true_peak_dbtp))) < 1e-9);
    }
    o.rule = Outlet::Rule::track;
    QVERIFY(deliver(o, quiet, {&album}).gain_db > deliver(o, loud, {&album}).gain_db + 5);
  }

  void wrong_outlets_are_refused_in_a_sentence() {
    auto refuses = [](const char* text, const char* part) {
      try {
        outlet_from_json("x", Json::parse(text));
      } catch (const OutletError& error) {
        return QString(error.what()).contains(part);
      }
      return false;
    };
    QVERIFY(refuses(R"({"name":"a"})", "this is no outlet"));
    QVERIFY(refuses(R"({"name":"a","target_lufs":5})", "target_lufs is 5; it takes -70 to 0 LUFS"));
    QVERIFY(refuses(R"({"name":"a","target_lufs":-14,"turns":"up"})", "it takes one of none, down, both"));
    QVERIFY(refuses(R"({"name":"a","target_lufs":-14,"loud":1})", "there is no 'loud'"));
    QVERIFY(refuses(R"({"name":"a","target_lufs":-14,"encode":{"stages":[{"type":"x"}]}})", "encode: stage 1"));
    std::filesystem::create_directories(outlets_folder());
    std::ofstream(outlets_folder() / "broken.json") << "{";
    std::vector<std::string> told;
    QCOMPARE(known_outlets(&told).size(), known_outlets().size());
    QVERIFY(told.size() == 1 && QString::fromStdString(told[0]).contains("broken.json"));
    std::filesystem::remove(outlets_folder() / "broken.json");
    Outlet own = player(Outlet::Turns::down, -11);
    own.key = "ebu-r128";
    save_outlet(own);
    for (const Outlet& o : known_outlets())
      if (o.key == "ebu-r128") QVERIFY(!o.shipped && o.target_lufs == -11);
    QVERIFY(drop_outlet("ebu-r128"));
    own.key = "../bad";
    QVERIFY_EXCEPTION_THROWN(save_outlet(own), OutletError);
  }

  void copies_lie_at_their_target_and_say_so_data() {
    QTest::addColumn<QString>("name");
    QTest::addColumn<int>("bits");
    QTest::addColumn<bool>("limiter");
    QTest::newRow("wav 24") << "a.wav" << 24 << false;
    QTest::newRow("wav 16 limited") << "b.wav" << 16 << true;
    QTest::newRow("wav float") << "c.wav" << 32 << false;
    QTest::newRow("flac 16") << "d.flac" << 16 << false;
    QTest::newRow("flac 24 limited") << "e.flac" << 24 << true;
  }
  void copies_lie_at_their_target_and_say_so() {
    QFETCH(QString, name);
    QFETCH(int, bits);
    QFETCH(bool, limiter);
    const auto master = clip(Programme(12, 8, 15000).render(48000));
    const Loudness before = measure_loudness(*master);
    LevelPlan plan;
    plan.bits = bits, plan.limiter = limiter;
    plan.target_lufs = limiter ? *before.integrated_lufs + (-1 - *before.true_peak_dbtp) + 3 : -30;
    const auto file = folder_ / name.toStdString();
    const auto made = write_levelled(master, before, plan, file);
    QVERIFY2(made.fault.empty(), made.fault.c_str());
    const Loudness after = measure_loudness(*Clip::open(file));
    QVERIFY2(std::abs(*after.integrated_lufs - plan.target_lufs) < 0.05,
             qPrintable(QString::number(*after.integrated_lufs)));
    QVERIFY(*after.true_peak_dbtp <= -0.95);
    if (name.endsWith(".wav")) {  // libsndfile reads the chunk
      SF_INFO info{};
      SNDFILE* sound = sf_open(file.c_str(), SFM_READ, &info);
      SF_BROADCAST_INFO bext{};
      QVERIFY(sf_command(sound, SFC_GET_BROADCAST_INFO, &bext, sizeof bext) == SF_TRUE);
      sf_close(sound);
      QVERIFY(bext.version == 2 && std::abs(bext.loudness_value - 100 * *after.integrated_lufs) <= 1);
      QVERIFY(std::abs(bext.max_true_peak_level - 100 * *after.true_peak_dbtp) <= 1);
      QVERIFY(std::abs(bext.loudness_range - 100 * after.range->lu()) <= 1);
    } else {
      QVERIFY(std::abs(*made.tags.integrated_lufs - *after.integrated_lufs) <= 0.011);
      std::ifstream in(file, std::ios::binary);
      std::string head(4096, ' ');
      in.read(head.data(), 4096);
      const auto gain = QString("REPLAYGAIN_TRACK_GAIN=%1 dB").arg(-18 - *made.tags.integrated_lufs + 0.0, 0, 'f', 2);
      QVERIFY2(QByteArray(head.data(), 4096).toUpper().contains(gain.toUpper().toUtf8()), qPrintable(gain));
    }
  }

  void the_ceiling_stops_a_gain_without_a_limiter() {
    const auto master = clip(Programme(8, 8, 15000).render(48000));
    const Loudness before = measure_loudness(*master);
    LevelPlan plan;
    plan.target_lufs = 0;
    const auto made = write_levelled(master, before, plan, folder_ / "stopped.wav");
    QVERIFY(made.stopped && made.fault.empty());
    QVERIFY(std::abs(*made.loudness.true_peak_dbtp + 1) < 0.02);
  }

  void albums_are_copied_with_one_gain_and_say_both() {
    const auto a = clip(scaled(Programme(10, 5, 12000).render(48000), 0.5)),
               b = clip(scaled(Programme(10, 6, 12000).render(48000), 0.1));
    const Loudness la = measure_loudness(*a), lb = measure_loudness(*b);
    LevelPlan plan;
    plan.target_lufs = -28;
    const auto ma = write_levelled(a, la, plan, folder_ / "one.flac", {&la, &lb}),
               mb = write_levelled(b, lb, plan, folder_ / "two.flac", {&la, &lb});
    QCOMPARE(ma.gain_db, mb.gain_db);
    QVERIFY(std::abs(*album_of({&ma.loudness, &mb.loudness}).integrated_lufs + 28) < 0.05);
    QVERIFY(std::abs(*ma.tags.album_lufs + 28) < 0.02 && ma.tags.album_lufs == mb.tags.album_lufs);
  }

  /// What a copy is for is more than its samples: words, pictures and the broadcast extension go with it.
  void copies_carry_all_that_the_master_said_of_itself_data() {
    QTest::addColumn<QString>("from");
    QTest::addColumn<QString>("to");
    for (const char* from : {"wav", "flac"})
      for (const char* to : {"wav", "flac"}) QTest::addRow("%s to %s", from, to) << QString(from) << QString(to);
  }
  void copies_carry_all_that_the_master_said_of_itself() {
    QFETCH(QString, from);
    QFETCH(QString, to);
    const auto file = folder_ / ("tagged." + from.toStdString());
    BroadcastExtension bext;
    bext.description = "Mill Race, take 3";
    bext.originator = "Sluice Quartet";
    bext.date = "2026-05-04", bext.time = "10:11:12";
    bext.time_reference = 123456789012ULL;
    bext.coding_history = "A=PCM,F=48000,W=24,M=stereo,T=tide mill";  // no line end: one is put in
    bext.others = {{"iXML", "<BWFXML><TAKE>3</TAKE></BWFXML>"}};
    bext.loudness.integrated_lufs = -9.99;
    {
      ClipWriter out({file, true}, 48000, 2, WordFormat::pcm24);
      out.describe(bext);
      out.write(Programme(6, 8, 15000).render(48000));
      out.finish();
    }
    Tags tags;
    tags.words = {{"TITLE", {"Mill Race"}},
                  {"ARTIST", {"Sluice Quartet", "The Miller"}},
                  {"ISRC", {"XXS012600001"}},
                  {"REPLAYGAIN_TRACK_GAIN", {"-8.01 dB"}}};
    tags.pictures = {{"image/png", "cover", std::string("\x89PNG\r\n\x1a\n\0\0", 10), 3}};
    write_tags(file, from == "flac", tags);
    const auto master = Clip::open(file);
    LevelPlan plan;
    plan.target_lufs = -30, plan.bits = to == "wav" ? 32 : 24, plan.flac = to == "flac";
    const auto made = write_levelled(master, measure_loudness(*master), plan,
                                     Destination(folder_ / ("tagged-copy." + to.toStdString()), true));
    QVERIFY2(made.fault.empty(), made.fault.c_str());
    const Tags back = read_tags(made.file);
    for (const char* key : {"TITLE", "ARTIST", "ISRC"}) QVERIFY2(back.words.at(key) == tags.words.at(key), key);
    QVERIFY(back.pictures == tags.pictures);
    const auto gain = back.words.find("REPLAYGAIN_TRACK_GAIN");
    QVERIFY(gain == back.words.end() ? to == "wav" : gain->second[0] != "-8.01 dB");
    if (to != "wav") return;
    const auto told = read_broadcast_extension(made.file).value();
    QVERIFY(std::abs(*told.loudness.integrated_lufs + 30) < 0.05);
    QVERIFY2(QString::fromStdString(told.coding_history).contains("A=PCM,F=48000,W=32,M=stereo"),
             told.coding_history.c_str());
    if (from != "wav") return;
    QVERIFY(told.description == bext.description && told.originator == bext.originator && told.date == bext.date &&
            told.time == bext.time && told.time_reference == bext.time_reference);
    QVERIFY(told.coding_history.starts_with(bext.coding_history + "\r\n") && told.others == bext.others);
  }

  void copies_of_the_same_name_say_what_they_were() {
    const auto names = copy_names({"a/song.wav", "b/song.flac", "c/song.wav", "other.wav"}, "out", true);
    const std::vector<std::filesystem::path> truth{"out/song (a).flac", "out/song (flac).flac", "out/song (c).flac",
                                                   "out/other.flac"};
    QVERIFY(names == truth);
    QVERIFY(copy_names({"t.wav", "t.flac"}, "out", false) ==
            (std::vector<std::filesystem::path>{"out/t (wav).wav", "out/t (flac).wav"}));
  }

  void copies_are_refused_where_they_would_harm() {
    const auto master = clip(tone(440, 0.1, 1, 48000));
    const Loudness l = measure_loudness(*master);
    QVERIFY_EXCEPTION_THROWN(write_levelled(master, l, {}, Destination(master->path(), true)), OutputRefused);
    const auto other = save(folder_ / "other.wav", Planar(1, 10), 48000);
    QVERIFY_EXCEPTION_THROWN(write_levelled(master, l, {}, other), OutputRefused);
    QVERIFY_EXCEPTION_THROWN(write_levelled(master, l, {}, folder_ / "a.mp3"), InputError);
    LevelPlan real;
    real.bits = 32;
    QVERIFY_EXCEPTION_THROWN(write_levelled(master, l, real, folder_ / "a.flac"), InputError);
    const auto quiet = write_levelled(clip(Planar(2, 48000)), heard(Planar(2, 48000)), {}, folder_ / "silence.wav");
    QVERIFY(quiet.gain_db == 0 && quiet.fault.empty());
  }

  void what_is_heard_live_agrees_with_the_meter() {
    const Planar sound = Programme(12, 31, 15000).render(48000);
    LiveMeter live(48000);
    std::vector<double> stereo;
    for (size_t n = 0; n < size_t(sound.frames()); ++n)
      for (int c = 0; c < 2; ++c) stereo.push_back(sound.channel(c)[n]);
    for (size_t at = 0; at < stereo.size(); at += 1022)
      live.add(std::span(stereo).subspan(at, std::min<size_t>(1022, stereo.size() - at)));
    const auto r = live.reading();
    const Loudness whole = heard(sound);
    QVERIFY2(std::abs(*r.integrated_lufs - *whole.integrated_lufs) < 0.02,
             qPrintable(QString::number(*r.integrated_lufs)));
    QVERIFY(std::abs(*r.true_peak_dbtp - *whole.true_peak_dbtp) < 0.02);
    const auto momentary = sliding_lufs(whole.pieces, 4), short_term = sliding_lufs(whole.pieces, 30);
    QVERIFY(std::abs(*r.momentary_lufs - double(momentary.back())) < 0.01);
    QVERIFY(std::abs(*r.short_term_lufs - double(short_term.back())) < 0.01);
    QVERIFY(*r.correlation > -1 && *r.correlation < 1);
    live.reset();
    std::vector<double> mono(48000, 0.0);
    for (size_t n = 0; n < mono.size(); ++n) mono[n] = 0.1 * std::sin(double(n / 2) * 0.1);
    live.add(mono);
    QVERIFY(std::abs(*live.reading().correlation - 1) < 1e-9);
    QVERIFY(std::abs(*live.reading().true_peak_dbtp + 20) < 0.05);
  }

 private:
  static Loudness heard(const Planar& sound) {
    Meter meter(48000, sound.channels());
    meter.add(sound);
    return meter.finish();
  }
};

QTEST_GUILESS_MAIN(TestOutlets)
#include "test_outlets.moc"
