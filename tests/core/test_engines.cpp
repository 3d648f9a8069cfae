// Probes for engines: what a mixer of the tests' own did to them is read back, whatever route the render took.
#include <array>
#include <fstream>

#include "core/engines/engine.hpp"
#include "core/probes/engine_answers.hpp"
#include "core/probes/score_json.hpp"
#include "tests/support/mixer.hpp"
#include "tests/support/stages.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

QString said(const char* what, double got, double truth) {
  return QString("%1: %2, truth %3").arg(what).arg(got, 0, 'g', 8).arg(truth, 0, 'g', 8);
}

#define NEAR(what, got, truth, by)                        \
  QVERIFY2(std::abs(double(got) - double(truth)) <= (by), \
           qPrintable(label + " " + said(what, double(got), double(truth))))

double decibels(double gain) { return 20 * std::log10(std::max(std::abs(gain), 1e-12)); }

/// Where the render goes on its way back, and what of times and gains is left to tell.
struct Route {
  const char* name;
  std::vector<Json> stages;
  double noise = 0;
  double time_ms = 0.05, gain_db = 0.05;
};

std::vector<Route> routes() {
  return {{"as it is", {}},
          {"16 bit", {{{"type", "word_length"}, {"bits", 16}, {"dither", "triangular"}}}},
          {"44.1 kHz", {{{"type", "converter"}, {"rate_hz", 44100}}}, 0, 0.1},
          {"other sound", {}, 0.0003, 0.1},
          {"MP3 320", {{{"type", "codec"}, {"codec", "mp3"}, {"bit_rate_kbps", 320}}}, 0, 0.5, 0.1}};
}

Glide random_glide(dsp::Noise& chance, int rate) {
  Glide g;
  g.kind = Glide::Kind(chance.bits() % 4);
  g.late_s = chance.uniform() < 0.5 ? 0 : std::round(chance.between(0, 0.12) * rate) / rate;
  if (g.kind == Glide::straight) g.seconds = std::round(chance.between(0.001, 0.05) * rate) / rate;
  if (g.kind == Glide::one_pole) g.seconds = chance.between(0.002, 0.06);
  if (g.kind == Glide::stairs) g.seconds = double(64 << chance.bits() % 6) / rate, g.late_s = 0;
  return g;
}

double taper_of(Taper taper, double share) {
  share = std::clamp(share, 0.0, 1.0);
  return taper == Taper::linear ? share : taper == Taper::sine ? std::sin(pi / 2 * share) : std::sqrt(share);
}

}  // namespace

class TestEngines : public StageTest {
  Q_OBJECT

 private slots:
  void initTestCase() {
    offer_engine_stage();
    qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())),
        qputenv("XDG_CONFIG_HOME", QByteArray((folder_ / "config").c_str()));
  }

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

  void positions_are_read_as_they_were_mixed() {
    dsp::Noise chance(17);
    const int rate = 44100;
    for (int round = 0; round < 24; ++round) {
      const auto kind = PanKind(round % 4);
      const auto taper = Taper(chance.bits() % 3);
      const bool whole_way = chance.uniform() < 0.5;
      const double level = chance.between(0.3, 1.2);
      const QString label = QString("%1: %2 by %3%4")
                                .arg(round)
                                .arg(name_of(kind))
                                .arg(name_of(taper))
                                .arg(whole_way ? " along the whole way" : "");
      const auto matrix = [&](double position) -> Matrix {
        const double right = (position + 100) / 200, reach = whole_way ? 1 : 0.5;
        const double l = level * taper_of(taper, (1 - right) / reach), r = level * taper_of(taper, right / reach);
        if (kind == PanKind::none) return {{{level, 0}, {0, level}}};
        if (kind == PanKind::balance) return {{{l, 0}, {0, r}}};
        if (kind == PanKind::mono) return {{{l / 2, r / 2}, {l / 2, r / 2}}};
        const double way = position / 100;
        if (way <= 0) return {{{level, 0}, {level * taper_of(taper, -way), level * taper_of(taper, 1 + way)}}};
        return {{{level * taper_of(taper, 1 - way), level * taper_of(taper, way)}, {0, level}}};
      };
      const auto score = probe_score("pan", rate);
      const Planar render = moved(
          mixed(sound_of(score, ProbeWord::pcm24), rate, [&](double s) { return matrix(position_at(score.moves, s)); }),
          777, 1);
      const auto read = read_probe(*sound(render, rate), "pan");
      const PanReading& pan = *read.pan;
      QVERIFY2(pan.kind == kind, qPrintable(label + " read as " + name_of(pan.kind.value_or(PanKind::none))));
      QCOMPARE(pan.positions.size(), size_t(9));
      for (const auto* points : {&pan.positions, &pan.course})
        for (const PanPoint& p : *points)
          check_matrix(label + QString(" at %1").arg(p.position), p.matrix, matrix(p.position),
                       points == &pan.course ? 0.15 : 0.05);
      if (kind == PanKind::none) continue;
      QVERIFY2(pan.taper == taper, qPrintable(label + " read as " + name_of(pan.taper)));
      const double centre = whole_way && kind != PanKind::pan ? decibels(taper_of(taper, 0.5)) : 0;
      NEAR("centre", pan.centre_db.value_or(99), centre, 0.05);
    }
  }

  void routes_leave_matrices_and_laws_as_they_are() {
    const int rate = 48000;
    for (const Route& route : routes()) {
      const QString label = route.name;
      const auto pan = probe_score("pan", rate);
      const auto matrix = [](double position) -> Matrix {
        const double right = (position + 100) / 200;
        return {{{-0.8 * std::cos(pi / 2 * right), 0}, {0, -0.8 * std::sin(pi / 2 * right)}}};
      };
      const Planar panned = moved(
          mixed(sound_of(pan, ProbeWord::pcm24), rate, [&](double s) { return matrix(position_at(pan.moves, s)); }),
          5001, 1);
      const auto read = read_probe(*returned(panned, rate, route), "pan");
      QVERIFY(read.pan->kind == PanKind::balance);
      QVERIFY2(read.pan->taper == Taper::sine,
               qPrintable(label + QString(" fits by %1 dB").arg(*read.pan->taper_fit_db)));
      NEAR("centre", *read.pan->centre_db, -3.0103, 0.05);
      QVERIFY(read.pan->inverted);
      for (const PanPoint& p : read.pan->positions)
        check_matrix(label + QString(" at %1").arg(p.position), p.matrix, matrix(p.position), 0.05);

      const auto score = probe_score("crossfade", rate);
      const double from = score.crossfade->fade_from_s, length = 2;
      const auto law = [](double x) { return std::sin(pi / 2 * std::clamp(x, 0.0, 1.0)); };
      const Planar faded = crossfaded(
          score, rate, [&](double s) { return law(1 - (s - from) / length); },
          [&](double s) { return law((s - from) / length); });
      const auto fade = *read_probe(*returned(moved(faded, 321, 0.6), rate, route), "crossfade").crossfade;
      QVERIFY2(fade.law == FadeLaw::equal_power,
               qPrintable(label + " read as " + name_of(fade.law) + QString(", off by %1 dB").arg(fade.law_fit_db)));
      NEAR("from", fade.from_s, from, 0.01);
      NEAR("length", fade.length_s, length, 0.02);
      NEAR("like", fade.like_db, 3.0103, 0.06);
      NEAR("unlike", fade.unlike_db, 0, 0.06);
      const auto drifted =
          read_probe(*pass(sound(faded, rate), chain_of({{{"type", "drift"}, {"drift_ppm", 40}}})).ret, "crossfade");
      NEAR("drift", drifted.drift_ppm, 40, 0.5);
      QCOMPARE(drifted.crossfade->law, FadeLaw::equal_power);
    }
  }

  void a_law_of_its_own_is_no_law() {
    const auto score = probe_score("pan", 48000);
    const Planar render = mixed(sound_of(score, ProbeWord::pcm24), 48000, [&](double s) -> Matrix {
      const double right = (position_at(score.moves, s) + 100) / 200;  // -4.5 dB in the middle
      return {{{std::pow(1 - right, 0.75), 0}, {0, std::pow(right, 0.75)}}};
    });
    const auto read = read_probe(*sound(render, 48000), "pan");
    QCOMPARE(read.pan->taper, Taper::other);
    QVERIFY(std::abs(*read.pan->centre_db + 4.515) < 0.05);
  }

  void one_input_is_placed() {
    const auto score = probe_score("pan", 48000, {true});
    const Planar render = mixed(sound_of(score, ProbeWord::pcm24), 48000, [&](double s) -> Matrix {
      const double right = (position_at(score.moves, s) + 100) / 200;
      return {{{std::cos(pi / 2 * right), std::sin(pi / 2 * right)}, {0, 0}}};
    });
    const auto read = read_probe(*sound(render, 48000), "pan");
    QCOMPARE(read.pan->inputs, 1);
    QVERIFY(read.pan->kind == PanKind::pan);
    QCOMPARE(read.pan->taper, Taper::sine);
    QVERIFY(std::abs(*read.pan->centre_db + 3.0103) < 0.05);
  }

  /// A render for each position, with a score that says which.
  void one_position_is_read_by_itself() {
    const auto score = probe_score("pan", 48000);
    ReadOptions options;
    options.asked_score = Json::parse(R"({"moves": [{"from_s": 0, "until_s": 25, "position": 50}]})");
    const Planar render = mixed(sound_of(score, ProbeWord::pcm24), 48000, [](double) -> Matrix {
      return {{{0.5, 0}, {0.25, 1}}};
    });
    const auto read = read_probe(*sound(render, 48000), "pan", options);
    QVERIFY(!read.pan->kind);
    QCOMPARE(read.pan->positions.size(), size_t(1));
    QCOMPARE(read.pan->positions[0].position, 50.0);
    check_matrix("held", read.pan->positions[0].matrix, {{{0.5, 0}, {0.25, 1}}}, 0.01);
    QVERIFY(!engine_findings(read).empty());
  }

  void one_channel_of_a_crossfade_is_enough() {
    const auto score = probe_score("crossfade", 48000, {true});
    const double from = score.crossfade->fade_from_s;
    const auto law = [](double x) { return std::clamp(x, 0.0, 1.0); };
    const Planar faded = crossfaded(
        score, 48000, [&](double s) { return law(1 - (s - from) / 2); }, [&](double s) { return law((s - from) / 2); });
    const auto read = read_probe(*sound(faded, 48000), "crossfade");
    QCOMPARE(read.crossfade->law, FadeLaw::linear);
    QVERIFY(std::abs(read.crossfade->unlike_db + 3.0103) < 0.05);
  }

  void a_rate_too_low_for_their_tones_is_refused() {
    for (const char* kind : {"gain", "pan", "crossfade", "trim", "transit"})
      QVERIFY_EXCEPTION_THROWN(probe_score(kind, 16000), std::invalid_argument);
    QVERIFY_EXCEPTION_THROWN(probe_score("sweep", 48000, {true}), std::invalid_argument);
    const auto low = sound(sound_of(probe_score("tone", 8000), ProbeWord::pcm24), 8000);
    QVERIFY_EXCEPTION_THROWN(read_probe(*low, "gain"), InputError);  // another probe, not another word
  }

  void crossfades_are_named_and_timed() {
    dsp::Noise chance(18);
    for (int round = 0; round < 15; ++round) {
      const int rate = round % 2 ? 44100 : 48000;
      const auto law = FadeLaw(round % 5);
      const double shift = round < 5 ? 0 : chance.between(-0.1, 0.1),
                   stretch = round < 5 ? 1 : chance.between(0.8, 1.2), level = chance.between(0.3, 1.5);
      const QString label = QString("%1: %2").arg(round).arg(name_of(law));
      const auto score = probe_score("crossfade", rate);
      const double from = score.crossfade->fade_from_s + shift,
                   length = stretch * (score.crossfade->fade_until_s - score.crossfade->fade_from_s);
      const auto fade = [&](double x) {
        x = std::clamp(x, 0.0, 1.0);
        switch (law) {
          case FadeLaw::raised_cosine:
            return 0.5 - 0.5 * std::cos(pi * x);
          case FadeLaw::equal_power:
            return std::sin(pi / 2 * x);
          case FadeLaw::square_root:
            return std::sqrt(x);
          case FadeLaw::logarithmic:
            return std::log10(1 + 9 * x);
          default:
            return x;
        }
      };
      const Planar render = crossfaded(
          score, rate, [&](double s) { return fade(1 - (s - from) / length); },
          [&](double s) { return fade((s - from) / length); });
      const auto read = read_probe(*sound(moved(render, 1234, -level), rate), "crossfade");
      const CrossfadeReading& r = *read.crossfade;
      QVERIFY2(r.law == law, qPrintable(label + " read as " + name_of(r.law)));
      NEAR("from", r.from_s, from, 0.005);
      NEAR("length", r.length_s, length, 0.01);
      NEAR("middle", r.middle_a_db, decibels(fade(0.5)), 0.05);
      const double a = fade(0.5), b = fade(0.5);
      if (law != FadeLaw::logarithmic) {
        NEAR("unlike", r.unlike_db, 10 * std::log10(a * a + b * b), 0.05);
        NEAR("like", r.like_db, 20 * std::log10(a + b), 0.05);
      }
      if (law == FadeLaw::linear) NEAR("corner", r.corner, 1, 0.1);
      if (law == FadeLaw::raised_cosine) NEAR("corner", r.corner, 0, 0.2);
      if (law == FadeLaw::equal_power) NEAR("corner", r.corner, pi / 2, 0.1);
    }
  }

  void the_bus_is_told_by_what_it_leaves() {
    dsp::Noise chance(19);
    for (int bits = 12; bits <= 26; bits += 2)
      for (const bool dither : {false, true}) {
        const QString label = QString("fixed %1 bit%2").arg(bits).arg(dither ? ", dithered" : "");
        const double step = std::ldexp(1.0, 1 - bits);
        const auto read = read_trim_through([&](double v) {
          return std::clamp(step * std::nearbyint(v / step + (dither ? chance.triangular() : 0)), -1.0, 1.0);
        });
        QVERIFY2(read.arithmetic == Arithmetic::fixed, qPrintable(label + " read as " + name_of(read.arithmetic)));
        QVERIFY2(
            read.bits == bits && read.dithered == dither,
            qPrintable(label +
                       QString(" read as %1 bit%2").arg(read.bits.value_or(0)).arg(read.dithered ? ", dithered" : "")));
        QVERIFY(read.clips);
        NEAR("clips at", read.clips_at_dbfs.value_or(99), 0, 0.05);
      }
    const auto single = read_trim_through([](double v) { return double(float(v)); });
    QCOMPARE(single.arithmetic, Arithmetic::floating);
    QCOMPARE(single.bits, std::optional(24));
    QVERIFY(!single.clips && *single.clean_to_dbfs > 25);
    const auto half = read_trim_through([](double v) {  // ten bits and the leading one
      int exponent = 0;
      const double mantissa = std::frexp(v, &exponent);
      return std::ldexp(std::nearbyint(std::ldexp(mantissa, 11)), exponent - 11);
    });
    QCOMPARE(half.arithmetic, Arithmetic::floating);
    QCOMPARE(half.bits, std::optional(11));
    const auto exact = read_trim_through([](double v) { return std::clamp(v, -4.0, 4.0); });
    QCOMPARE(exact.arithmetic, Arithmetic::transparent);
    QVERIFY(exact.clips && std::abs(*exact.clips_at_dbfs - 12.04) < 0.05);
  }

  void passing_through_is_told_bit_for_bit() {
    for (const ProbeWord word : probe_words)
      for (const int rate : {44100, 192000}) {
        const auto score = probe_score("transit", rate);
        const Planar own = sound_of(score, word);
        const auto same = read_probe(*sound(moved(own, 17, 1), rate), "transit");
        QVERIFY(same.transit->identical);
        QCOMPARE(same.transit->latency_samples, 17.0);
        QVERIFY(!same.transit->silence_dbfs);
        Planar touched = moved(own, 17, 1);
        touched.channel(1)[size_t(4 * rate)] += std::ldexp(1.0, 1 - std::min(24, bits_of(word)));
        QVERIFY(!read_probe(*sound(touched, rate), "transit").transit->identical);
      }
    const int rate = 48000;
    const auto score = probe_score("transit", rate);
    Planar other(2, score.frames());
    const Planar own = sound_of(score, ProbeWord::pcm24);
    for (size_t n = 0; n < size_t(own.frames()); ++n)
      other.channel(0)[n] = -0.8 * own.channel(1)[n] + 0.001, other.channel(1)[n] = -0.8 * own.channel(0)[n] + 0.001;
    const auto read = *read_probe(*sound(other, rate), "transit").transit;
    QVERIFY(!read.identical);
    QCOMPARE(read.channel_map, (std::vector<int>{1, 0}));
    QCOMPARE(read.inverted, (std::vector<bool>{true, true}));
    const QString label = "swapped";
    NEAR("gain", read.gain_db, decibels(0.8), 0.002);
    NEAR("dc", read.dc, 0.001, 1e-7);
    const auto late = pass(sound(own, rate), chain_of({{{"type", "delay"}, {"delay_samples", 100.37}}})).ret;
    NEAR("latency", read_probe(*late, "transit").transit->latency_samples, 100.37, 0.01);
  }

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

 private:
  std::shared_ptr<const Clip> sound(const Planar& planar, int rate) { return clip(planar, rate); }

  std::shared_ptr<const Clip> returned(Planar render, int rate, const Route& route) {
    if (route.noise > 0) render = with_noise(std::move(render), route.noise, 5);
    auto clip = sound(render, rate);
    if (route.stages.empty()) return clip;
    return pass(clip, chain_from_json({{"stages", Json(route.stages)}})).ret;
  }

  Planar glided_probe(const ProbeScore& score, const Glide& glide, ProbeWord word) {
    Planar own = sound_of(score, word);
    const auto line = glided(score.gain, glide, score.rate_hz, own.frames());
    for (int c = 0; c < own.channels(); ++c)
      for (size_t n = 0; n < line.size(); ++n) own.channel(c)[n] *= line[n];
    return own;
  }

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

  void check_matrix(const QString& label, const MixMatrix& got, const Matrix& truth, double by_db) {
    for (size_t i = 0; i < 2; ++i)
      for (size_t o = 0; o < 2; ++o) {
        if (std::abs(truth[i][o]) < 0.001 && by_db < 0.1) {
          QVERIFY2(std::abs(got[i][o]) < 0.002, qPrintable(label + said(" gain", got[i][o], truth[i][o])));
          continue;
        }
        if (std::abs(truth[i][o]) < 0.05 && by_db > 0.1) continue;  // it moves by more in a window
        QVERIFY2(got[i][o] * truth[i][o] > 0 && std::abs(decibels(got[i][o]) - decibels(truth[i][o])) < by_db,
                 qPrintable(label + said(" gain", got[i][o], truth[i][o])));
      }
  }

  Planar crossfaded(const ProbeScore& score, int rate, const std::function<double(double)>& of_a,
                    const std::function<double(double)>& of_b) {
    const Planar a = with_gain(sound_of(score, ProbeWord::pcm24, 0), rate, of_a);
    const Planar b = with_gain(sound_of(score, ProbeWord::pcm24, 1), rate,
                               [&](double s) { return of_b(s + score.crossfade->b_at_s); });
    const auto at = int64_t(std::llround(score.crossfade->b_at_s * rate));
    Planar out(a.channels(), std::max(a.frames(), at + b.frames()));
    for (int c = 0; c < out.channels(); ++c) {
      for (int64_t n = 0; n < a.frames(); ++n) out.channel(c)[size_t(n)] += a.channel(c)[size_t(n)];
      for (int64_t n = 0; n < b.frames(); ++n) out.channel(c)[size_t(at + n)] += b.channel(c)[size_t(n)];
    }
    return out;
  }

  TrimReading read_trim_through(const std::function<double(double)>& bus) {
    const int rate = 48000;
    const auto score = probe_score("trim", rate);
    Planar render = sound_of(score, ProbeWord::pcm24);
    for (int c = 0; c < 2; ++c)
      for (int64_t n = 0; n < render.frames(); ++n) {
        const double s = double(n) / rate;
        double first = 0;
        for (const TrimSection& t : score.sections)
          if (s >= t.from_s && s < t.until_s) first = t.first_db;
        double& v = render.channel(c)[size_t(n)];
        v = bus(v * std::pow(10, first / 20)) * std::pow(10, -first / 20);
      }
    return *read_probe(*sound(moved(render, 40, 1), rate), "trim").trim;
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

QTEST_GUILESS_MAIN(TestEngines)
#include "test_engines.moc"
