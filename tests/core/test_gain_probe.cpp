// The gain probe: what a volume line of the tests' own did to it is read back, whatever route the render took; and
// scores.
#include "core/engines/engine.hpp"
#include "core/probes/engine_answers.hpp"
#include "core/probes/score_json.hpp"
#include "tests/support/renders.hpp"
#include "tests/support/share.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

Glide random_glide(dsp::Noise& chance, int rate) {
  Glide g;
  g.kind = Glide::Kind(chance.bits() % 4);
  g.late_s = chance.uniform() < 0.5 ? 0 : std::round(chance.between(0, 0.12) * rate) / rate;
  if (g.kind == Glide::straight) g.seconds = std::round(chance.between(0.001, 0.05) * rate) / rate;
  if (g.kind == Glide::one_pole) g.seconds = chance.between(0.002, 0.06);
  if (g.kind == Glide::stairs) g.seconds = double(64 << chance.bits() % 6) / rate, g.late_s = 0;
  return g;
}

}  // namespace

class TestGainProbe : public RenderTest {
  Q_OBJECT

 private slots:
  void steps_are_read_as_they_were_glided() {
    dsp::Noise chance(16);
    for (int round = 0; round < 14; ++round) {
      const int rate = std::array{44100, 48000, 96000}[round % 3];
      const Glide glide = random_glide(chance, rate);
      const auto late = int64_t(chance.between(-3000, 9000));
      const double level = chance.between(0.1, 1.9) * (round % 2 ? -1 : 1);
      const QString label = QString("%1: %2 of %3 ms, %4 ms late, at %5 Hz")
                                .arg(round)
                                .arg(glide.name())
                                .arg(1000 * glide.seconds)
                                .arg(1000 * glide.late_s)
                                .arg(rate);
      const auto score = probe_score("gain", rate);
      const Planar render = moved(glided_probe(score, glide, ProbeWord::pcm24), late, level);
      const auto read = read_probe(*sound(render, rate), "gain");
      NEAR("delay", read.delay_s * rate, late, 0.01);
      QCOMPARE(read.fit.inverted, level < 0);
      check_gain(label, score, glide, *read.gain, 0.05, 0.05);
    }
  }

  void routes_leave_the_reading_as_it_is() {
    const int rate = 48000;
    const auto score = probe_score("gain", rate);
    for (const Route& route : routes())
      for (const Glide& glide : {Glide{Glide::none, 0, 0}, Glide{Glide::straight, 0.005, 0},
                                 Glide{Glide::one_pole, 0.02, 0}, Glide{Glide::stairs, 1024.0 / rate, 0}}) {
        const QString label = QString("%1, %2").arg(route.name).arg(glide.name());
        const auto back = returned(moved(glided_probe(score, glide, ProbeWord::pcm24), 311, 0.7), rate, route);
        const auto read = read_probe(*back, "gain");
        check_gain(label, score, glide, *read.gain, route.time_ms, route.gain_db, route.noise > 0 ? 0.3 : 0.02);
      }
  }

  void one_channel_is_enough() {
    const auto score = probe_score("gain", 48000, {true});
    QCOMPARE(score.channels, 1);
    const Glide glide{Glide::straight, 0.02, 0};
    const auto read = read_probe(*sound(glided_probe(score, glide, ProbeWord::pcm24), 48000), "gain");
    check_gain("mono", score, glide, *read.gain, 0.05, 0.05);
    QVERIFY(read.gain->resolution_ms > 0.5);
  }

  void what_is_no_render_is_refused_by_name() {
    const int rate = 48000;
    const auto gain = probe_score("gain", rate);
    const Planar untouched = sound_of(gain, ProbeWord::pcm24);
    expect_refusal(untouched, "gain", "nothing of the score was done");
    expect_refusal(sound_of(probe_score("pan", rate), ProbeWord::pcm24), "gain", "holds the probe 'pan'");
    expect_refusal(Planar(2, 30 * rate), "gain", "chirps that begin a probe are not in it");
    Planar cut(2, 12 * rate);
    for (int c = 0; c < 2; ++c) std::copy_n(untouched.channel(c).begin(), cut.frames(), cut.channel(c).begin());
    expect_refusal(cut, "gain", "chirp that ends the probe 'gain' is not in it");
    GainScore partial = gain.gain;
    std::erase_if(partial.points, [](const GainPoint& p) { return p.at_s > 5.9 && p.at_s < 7.7; });
    const auto line = glided(partial, {}, rate, untouched.frames());
    Planar some = untouched;
    for (int c = 0; c < 2; ++c)
      for (size_t n = 0; n < line.size(); ++n) some.channel(c)[n] *= line[n];
    expect_refusal(some, "gain", "'step to -6 dB' at 6.03 s, 'step to 0 dB' at 7.55 s are missing");
    const Planar pan = sound_of(probe_score("pan", rate), ProbeWord::pcm24);
    Planar mono(1, pan.frames());
    std::copy(pan.channel(0).begin(), pan.channel(0).end(), mono.channel(0).begin());
    expect_refusal(mono, "pan", "it has one channel");
  }

  void a_score_of_ones_own_is_read_with_it() {
    const int rate = 48000;
    auto score = probe_score("gain", rate);
    const Json own = Json::parse(
        R"({"points": [[0, 0], [4, 0], [4, -9], [8, -9], [10, 0], [15, 0], [15, null], [17, null], [17, 0]]})");
    score = with_score(score, own);
    QCOMPARE(score.gain.events.size(), size_t(4));
    ReadOptions options;
    options.asked_score = own;
    const auto read =
        read_probe(*sound(glided_probe(score, {Glide::straight, 0.01, 0}, ProbeWord::pcm24), rate), "gain", options);
    QCOMPARE(read.gain->events.size(), size_t(4));
    QCOMPARE(read.gain->smoothing, Smoothing::linear);
    for (const char* wrong : {R"([])", R"({"points": [[3, 0], [2, 0]]})", R"({"points": [[3, "x"]]})",
                              R"({"kind": "pan", "points": [[0, 0]]})", R"({"points": [[0, 0], [0.5, -6]]})"})
      QVERIFY_EXCEPTION_THROWN(with_score(probe_score("gain", rate), Json::parse(wrong)), JsonError);
    for (const char* kind : {"gain", "pan", "trim", "crossfade"}) {  // what is written is what is read
      const auto s = probe_score(kind, rate);
      QCOMPARE(text_of(score_json(with_score(s, score_json(s)))), text_of(score_json(s)));
    }
  }

  void scores_can_be_imported() {
    const auto gain = probe_score("gain", 48000);
    const auto midi = score_midi(gain);
    QCOMPARE(std::string(midi.begin(), midi.begin() + 4), std::string("MThd"));
    // follow the controller through the file: at the times of the score it stands where 40 log10(v / 127) says
    size_t at = 22;
    double s = 0;
    std::vector<std::pair<double, int>> values;
    while (at < midi.size()) {
      uint32_t ticks = 0;
      do ticks = ticks << 7 | (midi[at] & 0x7f);
      while (midi[at++] & 0x80);
      s += ticks / 1000.0;
      if (midi[at] == 0xff) {
        at += 3 + size_t(midi[at + 2]);
        continue;
      }
      QVERIFY(midi[at] == 0xb0 && midi[at + 1] == 7);
      values.emplace_back(s, midi[at + 2]), at += 3;
    }
    QVERIFY(std::abs(s - gain.length_s) < 0.002);
    const auto value_at = [&](double t) {
      int value = -1;
      for (const auto& [when, v] : values)
        if (when <= t + 1e-9) value = v;
      return value;
    };
    QCOMPARE(value_at(2), 127);
    QCOMPARE(value_at(3.5), 0);
    QCOMPARE(value_at(7), int(std::lround(127 * std::pow(10, -6 / 40.0))));
    QVERIFY(QString::fromStdString(score_csv(gain)).contains("3.01,-inf"));
    QVERIFY(score_midi(probe_score("trim", 48000)).empty());
    QVERIFY(score_csv(probe_score("pan", 48000)).starts_with("seconds,position"));
  }

 private:
  void check_gain(const QString& label, const ProbeScore& score, const Glide& glide, const GainReading& r,
                  double time_ms, double gain_db, double least = 0.02) {
    QVERIFY2(name_of(r.smoothing) == std::string(glide.name()), qPrintable(label + " read as " + name_of(r.smoothing)));
    for (const auto& e : r.events) {
      if (e.drawn.length_s > 0) continue;
      const QString where = label + ", " + QString::fromStdString(e.drawn.name);
      const auto near = [&](const char* what, std::optional<double> got, double truth, double by) {
        QVERIFY2(got && std::abs(*got - truth) <= by, qPrintable(where + " " + said(what, got.value_or(-999), truth)));
      };
      near("late", e.late_ms, glide.late_ms(e.drawn.at_s), time_ms);
      near("rise", e.rise_ms, glide.rise_ms(), time_ms);
      if (time_ms <= 0.1) near("length", e.length_ms, glide.length_ms(), least > 0.1 ? 2 * time_ms : time_ms);
    }
    const double settle_s = time_ms > 0.2 ? 0.012 : 0.003;  // a coder smears a step over its block
    const auto line = glided(score.gain, glide, score.rate_hz, score.frames());
    for (const auto& p : r.curve) {
      const auto at = size_t(std::llround(p.at_s * score.rate_hz));
      const double truth = line[at], before = line[at - size_t(settle_s * score.rate_hz)],
                   after = line[at + size_t(settle_s * score.rate_hz)];
      if (truth < least || std::abs(before - after) > 0.01 * truth) continue;  // what moves is told by its time
      QVERIFY2(
          std::abs(decibels(p.rendered) - decibels(truth)) < gain_db,
          qPrintable(label + QString(" at %1 s ").arg(p.at_s) + said("gain", decibels(p.rendered), decibels(truth))));
    }
  }

  void expect_refusal(const Planar& render, const char* kind, const char* sentence) {
    try {
      read_probe(*sound(render, 48000), kind);
      QFAIL("it was read");
    } catch (const InputError& error) {
      QVERIFY2(std::string(error.what()).find(sentence) != std::string::npos, error.what());
    }
  }
};

SHARED_MAIN(TestGainProbe)
#include "test_gain_probe.moc"
