// What real encoders, external programs and LV2 effects make, against independent readers.
#include <sndfile.h>

#include "tests/support/stages.hpp"

using namespace heathmist;
using namespace heathmist::test;

class TestCodecs : public StageTest {
  Q_OBJECT

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  /// The return is what an independent reader of our encoded file hears: libsndfile where it can, FFmpeg's own
  /// decoding of the kept file otherwise.
  void codecs_return_what_their_file_holds_data() {
    QTest::addColumn<QString>("codec");
    QTest::addColumn<QString>("ending");
    QTest::addColumn<int>("rate");
    QTest::addColumn<double>("depth");
    for (const auto& [codec, ending, rate, depth] : {std::tuple{"aac", ".m4a", 44100, -15.0},
                                                     {"mp3", ".mp3", 44100, -15.0},
                                                     {"vorbis", ".ogg", 44100, -12.0},
                                                     {"opus", ".opus", 48000, -12.0},
                                                     {"mp2", ".mp2", 44100, -12.0},
                                                     {"ac3", ".ac3", 44100, -12.0},
                                                     {"eac3", ".eac3", 44100, -12.0},
                                                     {"sbc", ".sbc", 44100, -12.0},
                                                     {"aptx", ".aptx", 48000, -20.0},
                                                     {"adpcm_ima", ".wav", 44100, -15.0},
                                                     {"adpcm_ms", ".wav", 44100, -15.0},
                                                     {"mulaw", ".wav", 44100, -25.0},
                                                     {"alaw", ".wav", 44100, -25.0}})
      QTest::newRow(codec) << codec << ending << rate << depth;
  }

  void codecs_return_what_their_file_holds() {
    QFETCH(QString, codec);
    QFETCH(QString, ending);
    QFETCH(int, rate);
    QFETCH(double, depth);
    const auto m = clip(Programme(6, 12, 12000).render(44100), 44100);
    const auto file = folder_ / ("kept" + ending.toStdString());
    const Chain chain = chain_of(
        {{{"type", "codec"}, {"codec", codec.toStdString()}, {"bit_rate_kbps", 192}, {"keep", file.string()}}});
    auto options = everything();
    options.replace_kept = true;
    const auto made = pass(m, chain, {}, options);
    QCOMPARE(made.ret->format().sample_rate_hz, rate);
    QVERIFY(made.ret->format().lossy);
    QCOMPARE(*made.stages[0].encoded_bytes, int64_t(std::filesystem::file_size(file)));
    QVERIFY(made.stages[0].bit_rate_bps.value_or(0) > 30000);
    const Planar ours = samples_of(*made.ret);
    Planar theirs = samples_of(*Clip::open(file));
    SF_INFO info{};
    if (SNDFILE* sound = sf_open(file.c_str(), SFM_READ, &info); sound && codec != "mp2") {
      std::vector<double> x(size_t(info.frames * info.channels));
      const auto got = sf_readf_double(sound, x.data(), info.frames);
      sf_close(sound);
      const int64_t frames = std::min<int64_t>(got, ours.frames());
      QVERIFY(frames > 200000);
      auto apart = [&](int64_t late, int64_t step) {  // a reader that keeps the decoder's delay starts later
        double worst = 0;
        for (int64_t n = 3000; n < frames - 6000; n += step)
          worst = std::max(worst, std::abs(x[size_t(2 * (n + late))] - ours.channel(0)[size_t(n)]));
        return worst;
      };
      int64_t late = 0;
      for (int64_t tried = codec == "mp3" ? -2900 : 0; tried <= (codec == "mp3" ? 2900 : 0); ++tried)
        if (apart(tried, 997) < apart(late, 997)) late = tried;
      const double most =
          codec == "adpcm_ima" ? 0.02 : 1e-4;  // decoders of IMA ADPCM differ in how they round its steps
      QVERIFY2(apart(late, 1) < most, qPrintable(QString("%1 at %2").arg(apart(late, 1)).arg(late)));
    }
    QCOMPARE(theirs.frames(), ours.frames());
    QVERIFY(std::equal(ours.channel(1).begin(), ours.channel(1).end(), theirs.channel(1).begin()));
    const auto report = null_test(m, made.ret);
    QVERIFY2(db(report.residual_relative_db()) < depth, qPrintable(QString::number(db(report.residual_relative_db()))));
  }

  void lossless_codecs_lose_nothing() {
    const auto sound = requantised(Programme(3, 2).render(44100), 24, true);
    const auto m = Clip::open(save(folder_ / "w.wav", sound, 44100, WordFormat::pcm24));
    for (const char* codec : {"flac", "alac", "wavpack"}) {
      const auto ret = run(m, {{{"type", "codec"}, {"codec", codec}}});
      const Planar a = samples_of(*m), b = samples_of(*ret);
      QCOMPARE(b.frames(), a.frames());
      QVERIFY2(std::equal(a.channel(0).begin(), a.channel(0).end(), b.channel(0).begin()), codec);
      QVERIFY(!ret->format().lossy);
    }
  }

  void codecs_say_what_they_cannot_take() {
    const auto stereo = clip(tone(440, 0.5, 0.5, 44100, 2), 44100), mono = clip(tone(440, 0.5, 0.5, 44100, 1), 44100);
    const auto five = clip(tone(440, 0.5, 0.5, 44100, 5), 44100);
    auto codec = [](const char* name, Json extra = Json::object()) {
      Json json{{"type", "codec"}, {"codec", name}};
      json.update(extra);
      return json;
    };
    QCOMPARE(refused([&] { run(stereo, {codec("g722")}); }, "stage 1 (codec): G.722 takes 1 channel, the audio has 2"),
             0);
    QCOMPARE(refused([&] { run(mono, {codec("aptx")}); }, "aptX takes 2 channels"), 0);
    QCOMPARE(refused([&] { run(five, {codec("mp3")}); }, "does not take 5 channels; it takes 1, 2"), 0);
    QCOMPARE(refused(
                 [&] {
                   run(stereo, {codec("mp3", {{"rate_hz", 96000}})});
                 },
                 "does not take 96000 Hz; it takes 44100"),
             0);
    QCOMPARE(refused([&] { run(stereo, {codec("opus", {{"bit_rate_kbps", 1536}})}); }, "1536 kbit/s"), 0);
    QCOMPARE(refused([&] { run(stereo, {codec("opus", {{"mode", "quality"}})}); }, "has no quality to set"), 0);
    QCOMPARE(refused(
                 [&] {
                   run(stereo, {codec("opus", {{"stereo", "joint"}})});
                 },
                 "no choice between joint and split"),
             0);
    QCOMPARE(run(mono, {codec("g722")})->format().sample_rate_hz, 16000);
    const auto best = pass(stereo, chain_of({codec("mp3", {{"mode", "quality"}, {"quality", 0}})}));
    const auto least = pass(stereo, chain_of({codec("mp3", {{"mode", "quality"}, {"quality", 9}})}));
    QVERIFY(*best.stages[0].encoded_bytes > *least.stages[0].encoded_bytes);
  }

  void a_kept_file_is_there_when_the_whole_chain_has_run() {
    const auto m = clip(tone(440, 0.5, 0.5, 44100, 2), 44100);
    const auto file = folder_ / "later.mp3";
    const Json codec{{"type", "codec"}, {"codec", "mp3"}, {"keep", file.string()}};
    QCOMPARE(refused(
                 [&] {
                   run(m, {codec, {{"type", "external"}, {"command", "false {in} {out}"}}});
                 },
                 "false failed"),
             0);
    QVERIFY(!std::filesystem::exists(file));
    run(m, {codec});
    QVERIFY(std::filesystem::file_size(file) > 5000);
    Json nowhere = codec;
    nowhere["keep"] = "/dev/null/a.mp3";
    QCOMPARE(refused([&] { run(m, {nowhere}); }, "cannot be kept"), 0);
    Json deep = codec;
    deep["keep"] = (folder_ / "new" / "folder" / "a.mp3").string();  // folders that lack are made
    run(m, {deep});
    QVERIFY(std::filesystem::exists(folder_ / "new" / "folder" / "a.mp3"));
  }

  void joint_and_split_stereo_differ() {
    const auto m = clip(Programme(5, 3, 16000).render(44100), 44100);
    for (const char* codec : {"aac", "mp3"}) {
      const Json joint{{"type", "codec"}, {"codec", codec}, {"bit_rate_kbps", 96}, {"stereo", "joint"}};
      Json split = joint;
      split["stereo"] = "split";
      const Planar a = samples_of(*run(m, {joint})), b = samples_of(*run(m, {split}));
      QVERIFY2(!std::equal(a.channel(0).begin(), a.channel(0).begin() + 100000, b.channel(0).begin()), codec);
    }
  }

  void external_programs_run_fail_hang_and_write_rubbish() {
    const auto m = clip(requantised(Programme(1, 2).render(48000), 24, true));
    auto external = [](const char* command, double limit = 20) {
      return Json{{"type", "external"}, {"command", command}, {"limit_s", limit}};
    };
    const Planar a = samples_of(*m), b = samples_of(*run(m, {external("cp {in} {out}")}));
    QVERIFY(std::equal(a.channel(0).begin(), a.channel(0).end(), b.channel(0).begin()));
    QCOMPARE(refused([&] { run(m, {external("cp {in}")}); }, "with {in} and {out}"), 0);
    QCOMPARE(refused([&] { run(m, {external("nosuchprogram {in} {out}")}); }, "no program 'nosuchprogram'"), 0);
    QCOMPARE(refused([&] { run(m, {external("ls '{in} {out}' nowhere")}); }, "failed with status 2; it said: "), 0);
    QCOMPARE(refused([&] { run(m, {external("true {in} {out}")}); }, "wrote no file"), 0);
    QCOMPARE(refused([&] { run(m, {external("sh -c 'echo rubbish > {out}' {in}")}); }, "no audio that can be read"), 0);
    QCOMPARE(refused([&] { run(m, {external("sh -c 'sleep 30' {in} {out}", 0.3)}); }, "did not end within 0.3 s"), 0);
    QCOMPARE(refused([&] { run(m, {external("cp \"{in} {out}")}); }, "a quote is left open"), 0);
    std::stop_source stop;
    std::jthread later([&] {
      std::this_thread::sleep_for(std::chrono::milliseconds(300));
      stop.request_stop();
    });
    QVERIFY_EXCEPTION_THROWN(
        pass(m, chain_of({external("sh -c 'sleep 30' {in} {out}")}), Job{stop.get_token(), {}, 0}, everything()),
        Cancelled);
  }

  void lv2_effects_run_with_their_latency_taken_away() {
    qputenv("LV2_PATH", HEATHMIST_TEST_LV2);
    const auto m = clip(requantised(Programme(1, 2).render(48000), 16, true));
    const Chain chain = chain_of({{{"type", "lv2"}, {"uri", "urn:heathmist:test-gain"}, {"controls", "gain=0.5"}}});
    const auto made = pass(m, chain, {}, everything());
    QCOMPARE(made.stages[0].delay_samples.value_or(0), int64_t(64));
    const Planar a = samples_of(*m), b = samples_of(*made.ret);
    QCOMPARE(b.frames(), a.frames());
    for (size_t n = 0; n < size_t(a.frames()); ++n) QCOMPARE(b.channel(1)[n], 0.5 * a.channel(1)[n]);
    auto lv2 = [](const char* uri, const char* controls) {
      return Json{{"type", "lv2"}, {"uri", uri}, {"controls", controls}};
    };
    QCOMPARE(refused([&] { run(m, {lv2("urn:heathmist:nothing", "")}); },
                     "no LV2 effect 'urn:heathmist:nothing' is installed; there are urn:heathmist:test-gain"),
             0);
    QCOMPARE(
        refused([&] { run(m, {lv2("urn:heathmist:test-gain", "loud=1")}); }, "the effect has no 'loud'; it has gain"),
        0);
    QCOMPARE(refused([&] { run(m, {lv2("urn:heathmist:test-gain", "gain")}); }, "write name=value"), 0);
  }
};

QTEST_GUILESS_MAIN(TestCodecs)
#include "test_codecs.moc"
