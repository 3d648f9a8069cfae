// Stand-in engines: read as what they say of themselves, gone through by chains, and their files read strictly.
#include <fstream>

#include "core/engines/engine.hpp"
#include "core/probes/engine_answers.hpp"
#include "core/probes/score_json.hpp"
#include "tests/support/renders.hpp"
#include "tests/support/share.hpp"

using namespace heathmist;
using namespace heathmist::test;

class TestEngines : public RenderTest {
  Q_OBJECT

 private slots:
  void initTestCase() { offer_engine_stage(); }

  void every_stand_in_is_read_as_what_it_says() {
    const auto engines = known_engines();
    QVERIFY(engines.size() >= 6);
    for (const Engine& engine : engines) {
      const QString label = QString::fromStdString(engine.key);
      const int rate = 44100;
      const auto read = [&](const char* kind) {
        const auto score = probe_score(kind, rate);
        std::vector<std::shared_ptr<const Clip>> files;
        for (int n = 0; n < score.files(); ++n) files.push_back(sound(sound_of(score, ProbeWord::pcm24, n), rate));
        return read_probe(*perform(score, files, engine), kind);
      };
      const auto transit = read("transit");
      NEAR("gain", transit.transit->gain_db, engine.gain_db, 0.005);
      NEAR("latency", transit.transit->latency_samples, engine.latency_samples, 0.01);
      const auto gain = read("gain");
      const auto expected = engine.block_frames > 1                                              ? Smoothing::stairs
                            : engine.in_decibels || engine.glide == Engine::Glide::raised_cosine ? Smoothing::other
                            : engine.glide == Engine::Glide::linear                              ? Smoothing::linear
                            : engine.glide == Engine::Glide::one_pole                            ? Smoothing::one_pole
                                                                                                 : Smoothing::none;
      QVERIFY2(gain.gain->smoothing == expected, qPrintable(label + " reads " + name_of(gain.gain->smoothing)));
      const auto pan = read("pan");
      QVERIFY2(pan.pan->kind == engine.pan,
               qPrintable(label + " reads " + name_of(pan.pan->kind.value_or(PanKind::none))));
      if (engine.pan != PanKind::none)
        QVERIFY2(pan.pan->taper == engine.taper, qPrintable(label + " reads " + name_of(pan.pan->taper)));
      const auto crossfade = read("crossfade");
      QVERIFY2(crossfade.crossfade->law == engine.fade,
               qPrintable(label + " reads " + name_of(crossfade.crossfade->law)));
      const auto trim = read("trim");
      if (engine.rate_hz == 0 && engine.latency_samples == std::floor(engine.latency_samples)) {
        const auto arithmetic = engine.bus == Engine::Bus::fixed    ? Arithmetic::fixed
                                : engine.bus == Engine::Bus::single ? Arithmetic::floating
                                                                    : Arithmetic::transparent;
        QVERIFY2(trim.trim->arithmetic == arithmetic, qPrintable(label + " reads " + name_of(trim.trim->arithmetic)));
        if (engine.bus == Engine::Bus::fixed)
          QVERIFY(trim.trim->bits == engine.bus_bits && trim.trim->dithered == engine.dither);
      }
      QCOMPARE(trim.trim->clips, engine.clips_at_dbfs.has_value());
      for (const auto* reading : {&transit, &gain, &pan, &crossfade, &trim})
        QVERIFY(!engine_findings(*reading).empty() && !engine_label(*reading).empty());
    }
  }

  void a_chain_goes_through_an_engine() {
    const auto master = sound(Programme(3, 4).render(48000), 48000);
    const auto through = [&](const Json& stage) { return samples_of(*pass(master, chain_of({stage})).ret); };
    const Planar x = samples_of(*master);
    const Planar rowan = through({{"type", "engine"}, {"engine", "rowan"}, {"position", -100}});
    for (size_t n = 1000; n < 40000; ++n)
      QVERIFY(std::abs(rowan.channel(0)[n + 64] - x.channel(0)[n]) < 1e-12 &&
              std::abs(rowan.channel(1)[n + 64]) < 1e-12);
    const Planar hazel = through({{"type", "engine"}, {"engine", "hazel"}, {"fader_db", -6}});
    const double half = 0.5 * std::pow(10, -6 / 20.0);  // straight lines, in the middle; then 16 bits with dither
    for (size_t n = 1000; n < 40000; ++n)
      QVERIFY(std::abs(hazel.channel(0)[n] - half * 0.5 * (x.channel(0)[n] + x.channel(1)[n])) < 2.1 / 32768);
    QVERIFY(peak_of(through({{"type", "engine"}, {"engine", "birch"}, {"fader_db", 12}})) <= 1.0);
    QCOMPARE(pass(sound(x, 48000), chain_of({{{"type", "engine"}, {"engine", "alder"}}})).ret->format().sample_rate_hz,
             48000);
    QVERIFY_EXCEPTION_THROWN(through({{"type", "engine"}, {"engine", "elm"}}), ChainError);  // no file of the user's
    QVERIFY_EXCEPTION_THROWN(pass(sound(Planar(3, 4800), 48000), chain_of({{{"type", "engine"}, {"engine", "alder"}}})),
                             ChainError);
  }

  void engines_of_ones_own_are_read_strictly() {
    QVERIFY_EXCEPTION_THROWN(engine_from_json("x", Json::parse(R"({"glides": 3})")), EngineError);
    QVERIFY_EXCEPTION_THROWN(engine_from_json("x", Json::parse(R"({"glide_ms": "5"})")), EngineError);
    QVERIFY_EXCEPTION_THROWN(engine_from_json("x", Json::parse(R"({"bus_bits": 24.5})")), EngineError);
    std::filesystem::create_directories(engines_folder());
    std::ofstream(engines_folder() / "elm.json") << R"({"name": "Elm", "glide": "linear", "glide_ms": 12})";
    std::ofstream(engines_folder() / "bad.json") << R"({"name": 3})";
    std::vector<std::string> refused;
    const auto all = known_engines(&refused);
    QCOMPARE(refused.size(), size_t(1));
    QVERIFY(refused.front().find("bad.json") != std::string::npos &&
            refused.front().find("name is 3") != std::string::npos);
    QCOMPARE(all.front().name, std::string("Elm"));
    QCOMPARE(all.front().glide_ms, 12.0);
  }
};

SHARED_MAIN(TestEngines)
#include "test_engines.moc"
