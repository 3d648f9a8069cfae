// The probes of pan, crossfade, bus and transit: what a mixer of the tests' own did to them is read back.
#include <array>

#include "core/engines/engine.hpp"
#include "core/probes/engine_answers.hpp"
#include "core/probes/score_json.hpp"
#include "tests/support/renders.hpp"
#include "tests/support/share.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

double taper_of(Taper taper, double share) {
  share = std::clamp(share, 0.0, 1.0);
  return taper == Taper::linear ? share : taper == Taper::sine ? std::sin(pi / 2 * share) : std::sqrt(share);
}

}  // namespace

class TestMixingProbes : public RenderTest {
  Q_OBJECT

 private slots:
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
        if (rate == 192000 && word != ProbeWord::pcm24) continue;  // the others are the same, and slow
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

  void what_the_null_finds_in_transit_is_told() {
    const int rate = 48000;
    const auto causes = [&](ProbeWord word, const std::vector<Json>& stages) {
      const auto own = sound(sound_of(probe_score("transit", rate), word), rate);
      const auto ret = pass(own, chain_from_json({{"stages", Json(stages)}})).ret;
      std::vector<std::string> codes;
      const ProbeReading read = read_probe(*ret, "transit");
      for (const Cause& c : read.transit->causes) codes.push_back(c.code);
      return codes;
    };
    using Codes = std::vector<std::string>;
    const Json late{{"type", "delay"}, {"delay_samples", 33}}, quieter{{"type", "gain"}, {"gain_db", -1.5}};
    const Json cut{{"type", "word_length"}, {"bits", 16}, {"dither", "triangular"}};
    QCOMPARE(causes(ProbeWord::pcm24, {}), Codes{});
    for (const ProbeWord word : {ProbeWord::pcm16, ProbeWord::float32})  // whichever was written
      QCOMPARE(causes(word, {late, quieter}), Codes{});                  // these are told by themselves
    QCOMPARE(causes(ProbeWord::pcm24, {quieter, cut}), Codes{"word_length"});
    const auto bell =
        causes(ProbeWord::pcm24, {{{"type", "filter"}, {"shape", "bell"}, {"hz", 1000}, {"gain_db", 3}, {"q", 1}}});
    QVERIFY2(bell.size() == 1 && bell[0] == "eq", bell.empty() ? "nothing" : bell[0].c_str());
  }

 private:
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
};

SHARED_MAIN(TestMixingProbes)
#include "test_mixing_probes.moc"
