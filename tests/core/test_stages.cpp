// Every stage against a truth: theory, a direct sum, an independent witness.
#include <ebur128.h>
#include <sndfile.h>

#include <QtTest>
#include <cmath>
#include <numbers>

#include "core/measure/spectrum.hpp"
#include "core/measure/true_peak.hpp"
#include "core/stages/chain.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

constexpr double pi = std::numbers::pi;

Chain chain_of(std::initializer_list<Json> stages, int rounds = 1) {
  return chain_from_json({{"stages", Json(std::vector<Json>(stages))}, {"rounds", rounds}});
}

Planar samples_of(const Clip& clip, int64_t first = 0, int64_t frames = -1) {
  Planar block;
  clip.reader()->read(first, frames < 0 ? clip.format().frames : frames, block);
  return block;
}

double mean_square(std::span<const double> x) {
  double sum = 0;
  for (const double v : x) sum += v * v;
  return sum / double(x.size());
}

/// Power of a tone: Hann-windowed projection on its frequency.
double tone_db(std::span<const double> x, double hz, double rate_hz) {
  std::complex<double> sum = 0;
  double weight = 0;
  for (size_t n = 0; n < x.size(); ++n) {
    const double w = 0.5 - 0.5 * std::cos(2 * pi * double(n) / double(x.size()));
    sum += w * x[n] * std::polar(1.0, -2 * pi * std::remainder(hz * double(n) / rate_hz, 1.0));
    weight += w;
  }
  return 20 * std::log10(2 * std::abs(sum) / weight + 1e-300);
}

Planar tone(double hz, double level, double seconds, int rate_hz, int channels = 1) {
  Planar sound(channels, int64_t(seconds * rate_hz));
  for (int c = 0; c < channels; ++c)
    for (size_t n = 0; n < size_t(sound.frames()); ++n)
      sound.channel(c)[n] = level * std::sin(2 * pi * std::remainder(hz * double(n) / rate_hz, 1.0) + 0.3 * c);
  return sound;
}

double refused(const std::function<void()>& work, const char* part) {
  try {
    work();
  } catch (const ChainError& error) {
    if (QString(error.what()).contains(part)) return 0;
    qWarning("%s", error.what());
    return 1;
  }
  return 2;
}

}  // namespace

class TestStages : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  void chains_are_read_written_and_refused_in_a_sentence() {
    const Chain chain =
        chain_of({{{"type", "gain"}, {"gain_db", -3.5}}, {{"type", "word_length"}, {"bits", 16}, {"on", false}}}, 3);
    QCOMPARE(chain.rounds, 3);
    QVERIFY(!chain.stages[1].on);
    QVERIFY(chain_from_json(chain_json(chain)) == chain);
    QCOMPARE(refused(
                 [] {
                   chain_of({{{"type", "gain"}, {"gain_db", 99}}});
                 },
                 "gain_db is 99; it takes -144 to 60 dB"),
             0);
    QCOMPARE(refused([] { chain_of({{{"type", "gian"}}}); }, "there is no stage 'gian'"), 0);
    QCOMPARE(refused([] { chain_of({{{"type", "gain"}, {"db", 1}}}); }, "no parameter 'db'; it has gain_db"), 0);
    QCOMPARE(refused([] { chain_of({{{"type", "word_length"}, {"bits", 15.5}}}); }, "whole numbers from 4 to 32"), 0);
    QCOMPARE(refused([] { chain_of({{{"type", "codec"}, {"codec", "xyz"}}}); }, "one of aac, mp3"), 0);
    QCOMPARE(refused([] { chain_of({Json(7)}); }, "names no type"), 0);
    QCOMPARE(refused([] { chain_from_json(Json::array()); }, "this is no chain"), 0);
    QCOMPARE(refused([] { chain_of({}, 0); }, "rounds is 0"), 0);
    for (const StageType& t : stage_types())
      for (const Parameter& p : t.parameters) {
        QVERIFY(!p.what.empty());
        if (p.kind == Parameter::Kind::number)
          QVERIFY(p.initial.get<double>() >= p.low && p.initial.get<double>() <= p.high);
      }
  }

  void files_of_a_chain_lie_beside_it() {
    const Chain chain =
        chain_from_json(Json::parse(R"({"stages":[{"type":"convolution","response":"ir/a.wav"}]})"), "/x/y");
    QCOMPARE(chain.stages[0].values["response"].get<std::string>(), std::string("/x/y/ir/a.wav"));
    QCOMPARE(chain_json(chain, "/x")["stages"][0]["response"].get<std::string>(), std::string("y/ir/a.wav"));
  }

  void gain_polarity_and_map_are_exact() {
    const auto m = clip(Programme(2, 5).render(48000));
    const Planar before = samples_of(*m);
    const Planar louder = samples_of(*run(m, {{{"type", "gain"}, {"gain_db", 20}}}));
    const Planar turned = samples_of(*run(m, {{{"type", "polarity"}, {"channels", "second"}}}));
    const Planar there_and_back =
        samples_of(*run(m, {{{"type", "map"}, {"map", "mid_side"}}, {{"type", "map"}, {"map", "left_right"}}}));
    const Planar swapped = samples_of(*run(m, {{{"type", "map"}, {"map", "swap"}}}));
    const auto mono = run(m, {{{"type", "map"}, {"map", "mono"}}});
    QCOMPARE(mono->format().channels, 1);
    for (size_t n = 0; n < 96000; n += 7) {
      QCOMPARE(louder.channel(0)[n], before.channel(0)[n] * 10);
      QCOMPARE(turned.channel(0)[n], before.channel(0)[n]);
      QCOMPARE(turned.channel(1)[n], -before.channel(1)[n]);
      QVERIFY(std::abs(there_and_back.channel(1)[n] - before.channel(1)[n]) < 1e-15);
      QCOMPARE(swapped.channel(0)[n], before.channel(1)[n]);
    }
    QCOMPARE(refused([&] { run(mono, {{{"type", "map"}, {"map", "swap"}}}); }, "takes 2 channels"), 0);
  }

  void a_delay_is_where_and_what_it_says() {
    const Programme programme(4, 9);
    const auto m = clip(programme.render(48000));
    for (const double delay : {0.0, 3.0, 100.25, -77.5, 0.001}) {
      const auto late = run(m, {{{"type", "delay"}, {"delay_samples", delay}}});
      QCOMPARE(late->format().frames, 192000 + int64_t(std::ceil(delay)));
      const Planar truth = programme.render(48000, delay), got = samples_of(*late);
      double worst = 0;
      for (size_t n = 300; n < 191000; ++n) worst = std::max(worst, std::abs(truth.channel(0)[n] - got.channel(0)[n]));
      QVERIFY2(worst < 1e-5, qPrintable(QString("%1: %2").arg(delay).arg(worst)));
    }
  }

  void drift_is_found_again_by_the_fit() {
    const auto m = clip(Programme(30, 3).render(44100));
    for (const double ppm : {40.0, -250.0}) {
      const auto made = run(m, {{{"type", "drift"}, {"drift_ppm", ppm}}});
      const auto report = null_test(m, made);
      QVERIFY2(std::abs(report.fit.drift_ppm - ppm) < 0.2, qPrintable(QString::number(report.fit.drift_ppm, 103, 10)));
      QVERIFY2(db(report.residual_relative_db()) < -80, qPrintable(QString("%1 ppm: %2, read %3")
                                                                       .arg(ppm)
                                                                       .arg(db(report.residual_relative_db()))
                                                                       .arg(report.fit.drift_ppm, 0, 'g', 10)));
    }
  }

  /// Residual level and spectrum against theory: rounding 1/12 step squared, plus the dither's variance; shaped by
  /// |1 - sum c z^-k|^2; truncation is late by half a step.
  void words_are_cut_as_theory_says_data() {
    QTest::addColumn<QString>("dither");
    QTest::addColumn<QString>("shaping");
    QTest::addColumn<double>("variance");
    QTest::newRow("none") << "none"
                          << "none" << 1 / 12.0;
    QTest::newRow("rectangular") << "rectangular"
                                 << "none" << 2 / 12.0;
    QTest::newRow("triangular") << "triangular"
                                << "none" << 3 / 12.0;
    QTest::newRow("triangular high-passed") << "triangular_high"
                                            << "none" << 3 / 12.0;
    QTest::newRow("gaussian") << "gaussian"
                              << "none" << 4 / 12.0;
    QTest::newRow("first order") << "triangular"
                                 << "first_order" << 2 * 3 / 12.0;
    QTest::newRow("second order") << "triangular"
                                  << "second_order" << 6 * 3 / 12.0;
    auto squares = [](std::initializer_list<double> c) {
      double sum = 1;
      for (const double v : c) sum += v * v;
      return sum;
    };
    QTest::newRow("Lipshitz 5") << "triangular"
                                << "lipshitz_5" << squares({2.033, 2.165, 1.959, 1.590, 0.6149}) / 4;
    QTest::newRow("Wannamaker 3") << "triangular"
                                  << "wannamaker_3" << squares({1.623, 0.982, 0.109}) / 4;
    QTest::newRow("Wannamaker 9") << "triangular"
                                  << "wannamaker_9"
                                  << squares({2.412, 3.370, 3.937, 4.174, 3.353, 2.205, 1.281, 0.569, 0.0847}) / 4;
  }
  void words_are_cut_as_theory_says() {
    QFETCH(QString, dither);
    QFETCH(QString, shaping);
    QFETCH(double, variance);
    const auto m = clip(with_noise(tone(997, 0.2, 8, 44100, 2), 0.01, 3), 44100);
    for (const int bits : {8, 16, 20}) {
      const auto cut = run(m, {{{"type", "word_length"},
                                {"bits", bits},
                                {"dither", dither.toStdString()},
                                {"shaping", shaping.toStdString()}}});
      const Planar a = samples_of(*m), b = samples_of(*cut);
      std::vector<double> error(a.channel(0).size());
      const double steps = std::ldexp(1.0, bits - 1);
      double mean = 0;
      for (size_t n = 0; n < error.size(); ++n) {
        QCOMPARE(b.channel(0)[n] * steps, std::round(b.channel(0)[n] * steps));
        mean += error[n] = (b.channel(0)[n] - a.channel(0)[n]) * steps;
      }
      const double off_db = 10 * std::log10(mean_square(error) / variance);
      QVERIFY2(std::abs(off_db) < 0.15, qPrintable(QString("%1 bits: %2 dB off").arg(bits).arg(off_db)));
      QVERIFY(std::abs(mean / double(error.size())) < 0.01);
      if (shaping == "none") continue;
      Planar shaped(1, int64_t(error.size()));
      std::copy(error.begin(), error.end(), shaped.channel(0).begin());
      const auto spectrum = average_spectrum(*clip(scaled(shaped, 1e-3), 44100), 8192, 0, -1, 400);
      const auto low = power_between(spectrum, 200, 3000), high = power_between(spectrum, 15000, 20000);
      QVERIFY2(low < 0.05 * high, qPrintable(QString("%1 against %2").arg(low).arg(high)));
    }
  }

  void truncation_lies_half_a_step_low_and_seeds_repeat() {
    const auto m = clip(with_noise(Planar(1, 100000), 0.1, 4));
    auto mean_step = [&](const Json& stage) {
      const Planar a = samples_of(*m), b = samples_of(*run(m, {stage}));
      double sum = 0;
      for (size_t n = 0; n < a.channel(0).size(); ++n) sum += (b.channel(0)[n] - a.channel(0)[n]) * 2048;
      return sum / double(a.channel(0).size());
    };
    QVERIFY(std::abs(mean_step({{"type", "word_length"}, {"bits", 12}, {"rounding", "truncate"}, {"dither", "none"}}) +
                     0.5) < 0.01);
    const Json seeded{{"type", "word_length"}, {"bits", 12}, {"seed", 7}},
        other{{"type", "word_length"}, {"bits", 12}, {"seed", 8}};
    const Planar a = samples_of(*run(m, {seeded})), b = samples_of(*run(m, {seeded})), c = samples_of(*run(m, {other}));
    QVERIFY(std::equal(a.channel(0).begin(), a.channel(0).end(), b.channel(0).begin()));
    QVERIFY(!std::equal(a.channel(0).begin(), a.channel(0).end(), c.channel(0).begin()));
  }

  void converters_pass_the_band_and_stay_in_time_data() {
    QTest::addColumn<QString>("stage");
    QTest::addColumn<double>("ripple_db");
    QTest::addColumn<double>("alias_db");
    auto row = [](const char* name, const char* extra, double ripple, double alias) {
      QTest::newRow(name) << QString(R"({"type":"converter","rate_hz":44100,%1})").arg(extra) << ripple << alias;
    };
    row("soxr very high", R"("by":"libsoxr")", 0.01, -150);
    row("soxr high", R"("by":"libsoxr","soxr_quality":"high")", 0.01, -120);
    row("soxr low", R"("by":"libsoxr","soxr_quality":"low")", 0.5, -90);
    row("samplerate best", R"("by":"libsamplerate")", 0.02, -110);
    row("samplerate fastest", R"("by":"libsamplerate","samplerate_quality":"sinc_fastest")", 0.1, -90);
    row("speex 10", R"("by":"speexdsp")", 0.1, -90);
    row("speex 3", R"("by":"speexdsp","speex_quality":3)", 0.3, -70);
    row("zita 96", R"("by":"zita_resampler","zita_half_length":96)", 0.02, -100);
    row("zita 32", R"("by":"zita_resampler","zita_half_length":32)", 0.1, -90);
    row("swresample 32", R"("by":"libswresample")", 0.3, -60);
    row("swresample 128", R"("by":"libswresample","swresample_filter_size":128)", 0.1, -80);
  }
  void converters_pass_the_band_and_stay_in_time() {
    QFETCH(QString, stage);
    QFETCH(double, ripple_db);
    QFETCH(double, alias_db);
    const Json json = Json::parse(stage.toStdString());
    const auto wanted = run(clip(tone(3000, 0.5, 2, 96000), 96000), {json});
    QCOMPARE(wanted->format().sample_rate_hz, 44100);
    QCOMPARE(wanted->format().frames, 88200);
    const auto level = tone_db(samples_of(*wanted, 10000, 44100).channel(0), 3000, 44100) - 20 * std::log10(0.5);
    QVERIFY2(std::abs(level) < ripple_db, qPrintable(QString::number(level)));
    const auto folded = run(clip(tone(30000, 0.5, 2, 96000), 96000), {json});
    const auto alias = tone_db(samples_of(*folded, 10000, 44100).channel(0), 14100, 44100) - 20 * std::log10(0.5);
    QVERIFY2(alias < alias_db, qPrintable(QString::number(alias)));
    const auto m = clip(Programme(5, 8, 15000).render(96000), 96000);
    const auto report = null_test(m, run(m, {json}));
    QVERIFY2(std::abs(report.fit.delay_samples) < 0.05, qPrintable(QString::number(report.fit.delay_samples)));
  }

  /// Theory: holding weighs by the periodic sinc, linear interpolation by its square; what lies above folds back with that weight.
  void poor_converters_are_as_poor_as_theory_says() {
    for (const double hz : {5000.0, 9000.0, 14000.0}) {
      const auto m = clip(tone(hz, 0.5, 2, 32000), 32000);
      const double image = 96000 - 64000 - hz;  // first image: 32000 - hz
      for (const auto& [by, power] : {std::pair{"hold", 1}, {"linear", 2}}) {
        const auto made = run(m, {{{"type", "converter"}, {"rate_hz", 96000}, {"by", by}}});
        const auto x = samples_of(*made, 20000, 96000);
        // sampled at three times the rate: the periodic sinc of three points
        auto weight = [&](double f) { return std::abs(std::sin(pi * 3 * f / 96000) / (3 * std::sin(pi * f / 96000))); };
        const double got = tone_db(x.channel(0), image, 96000) - tone_db(x.channel(0), hz, 96000);
        const double theory = 20 * power * std::log10(weight(image) / weight(hz));
        QVERIFY2(std::abs(got - theory) < 0.05,
                 qPrintable(QString("%1 %2: %3, theory %4").arg(by).arg(hz).arg(got).arg(theory)));
      }
    }
    const auto folded =
        run(clip(tone(30000, 0.5, 2, 96000), 96000), {{{"type", "converter"}, {"rate_hz", 48000}, {"by", "hold"}}});
    QVERIFY(std::abs(tone_db(samples_of(*folded, 0, 48000).channel(0), 18000, 48000) + 6.02) < 0.01);
    const auto sharp = run(clip(tone(3000, 0.5, 2, 44100), 44100),
                           {{{"type", "converter"}, {"rate_hz", 48000}, {"by", "sinc"}, {"sinc_taps", 64}}});
    QVERIFY(std::abs(tone_db(samples_of(*sharp, 2000, 48000).channel(0), 3000, 48000) + 6.02) < 0.02);
    const auto smooth =
        run(clip(tone(3000, 0.5, 2, 44100), 44100), {{{"type", "converter"}, {"rate_hz", 96000}, {"by", "cubic"}}});
    QVERIFY(std::abs(tone_db(samples_of(*smooth, 2000, 96000).channel(0), 3000, 96000) + 6.02) < 0.1);
  }

  void a_return_of_the_masters_length_is_measured_by_itself() {
    const auto m = clip(scaled(Programme(2, 5).render(48000), 0.1));
    const auto report = null_test(m, run(m, {{{"type", "gain"}, {"gain_db", 6}}}));
    QVERIFY(std::abs(report.return_levels.sample_peak / report.master_levels.sample_peak - std::pow(10, 0.3)) < 1e-9);
    QCOMPARE(report.kind, Kind::level);
  }

  void filters_have_the_gain_they_are_asked_for() {
    struct Case {
      const char* shape;
      double at_hz, gain_db;
    };
    for (const auto& [shape, at_hz, gain_db] : {Case{"bell", 1000, 6},
                                                {"bell", 50, 0},
                                                {"low_shelf", 30, 6},
                                                {"low_shelf", 15000, 0},
                                                {"high_shelf", 19000, 6},
                                                {"high_shelf", 30, 0},
                                                {"low_pass", 1000, -3.01},
                                                {"high_pass", 1000, -3.01},
                                                {"all_pass", 1000, 0}}) {
      const auto x = samples_of(*run(clip(tone(at_hz, 0.1, 3, 48000)),
                                     {{{"type", "filter"}, {"shape", shape}, {"hz", 1000}, {"gain_db", 6}}}),
                                48000, 96000);
      const double got = tone_db(x.channel(0), at_hz, 48000) + 20;
      QVERIFY2(std::abs(got - gain_db) < 0.1, qPrintable(QString("%1 at %2: %3").arg(shape).arg(at_hz).arg(got)));
    }
  }

  void no_true_peak_passes_the_limiter() {
    for (const int rate : {44100, 96000})
      for (const double ceiling : {-1.0, -6.0}) {
        Planar loud = scaled(Programme(10, 21).render(rate), 3);
        const auto hits = with_noise(Planar(2, loud.frames()), 0.7, 5);
        for (int c = 0; c < 2; ++c)
          for (size_t n = 0; n < size_t(loud.frames()); ++n)
            if ((n / 4000) % 5 == 0) loud.channel(c)[n] += hits.channel(c)[n];
        const auto m = clip(loud, rate);
        const auto made = run(m, {{{"type", "limiter"}, {"ceiling_dbtp", ceiling}}});
        QCOMPARE(made->format().frames, m->format().frames);
        const double peak = witness(*made).true_peak_dbtp, ours = *true_peaks(*made).dbtp;
        QVERIFY2(peak <= ceiling, qPrintable(QString("witness %1, ours %3 over %2").arg(peak).arg(ceiling).arg(ours)));
        QVERIFY2(ours <= ceiling + 0.02, qPrintable(QString("ours %1 over %2").arg(ours).arg(ceiling)));
        QVERIFY(peak > ceiling - 0.5);
      }
    const auto quiet = clip(scaled(Programme(2, 5).render(48000), 0.1));  // what stays under the ceiling is left alone
    const Planar a = samples_of(*quiet), b = samples_of(*run(quiet, {{{"type", "limiter"}}}));
    QVERIFY(std::equal(a.channel(0).begin(), a.channel(0).end(), b.channel(0).begin()));
  }

  void a_compressor_settles_where_its_curve_says() {
    for (const double level_dbfs : {-40.0, -10.0, 0.0}) {
      const auto x =
          samples_of(*run(clip(tone(1000, std::pow(10, level_dbfs / 20), 4, 48000)), {{{"type", "compressor"},
                                                                                       {"threshold_dbfs", -20},
                                                                                       {"ratio", 4},
                                                                                       {"knee_db", 0},
                                                                                       {"attack_ms", 0},
                                                                                       {"release_ms", 2000}}}),
                     96000, 48000);
      const double truth = level_dbfs <= -20 ? level_dbfs : -20 + (level_dbfs + 20) / 4;
      QVERIFY2(std::abs(tone_db(x.channel(0), 1000, 48000) - truth) < 0.1,
               qPrintable(QString::number(tone_db(x.channel(0), 1000, 48000))));
    }
  }

  void levelling_reaches_its_target() {
    const auto m = clip(Programme(12, 30).render(48000));
    for (const double target : {-23.0, -16.0}) {
      QVERIFY(std::abs(witness(*run(m, {{{"type", "level"}, {"target_lufs", target}}})).lufs - target) < 0.05);
      const auto heard = witness(*run(m, {{{"type", "level"}, {"target_lufs", target + 4}, {"limiter", true}}}));
      QVERIFY2(std::abs(heard.lufs - target - 4) < 0.05, qPrintable(QString::number(heard.lufs)));
      QVERIFY(heard.true_peak_dbtp <= -1);
    }
  }

  void noise_and_hum_have_their_level() {
    const auto silent = clip(Planar(2, 48000 * 20));
    for (const char* colour : {"white", "pink"}) {
      const auto x = samples_of(*run(silent, {{{"type", "noise"}, {"level_dbfs", -60}, {"colour", colour}}}));
      QVERIFY(std::abs(10 * std::log10(mean_square(x.channel(1))) + 60) < 0.2);
    }
    const auto x = samples_of(*run(silent, {{{"type", "hum"}, {"level_dbfs", -50}, {"mains_hz", 60}, {"lines", 3}}}));
    QVERIFY(std::abs(10 * std::log10(mean_square(x.channel(0))) + 50) < 0.01);
    QVERIFY(std::abs(tone_db(x.channel(0), 60, 48000) - tone_db(x.channel(0), 120, 48000) - 6) < 0.01);
  }

  void clipping_and_dropouts_do_what_they_say() {
    const auto m = clip(tone(440, 0.9, 3, 48000));
    const Planar before = samples_of(*m), cut = samples_of(*run(m, {{{"type", "clip"}, {"threshold_dbfs", -6.0206}}}));
    const Planar muted =
        samples_of(*run(m, {{{"type", "dropouts"}, {"at_s", 1}, {"length_ms", 10}, {"every_s", 0.5}}}));
    const Planar skipped = samples_of(
        *run(m, {{{"type", "dropouts"}, {"mode", "skip"}, {"at_s", 1}, {"length_ms", 10}, {"every_s", 0.5}}}));
    const Planar repeated =
        samples_of(*run(m, {{{"type", "dropouts"}, {"mode", "repeat"}, {"at_s", 1}, {"length_ms", 10}}}));
    QCOMPARE(skipped.frames(), 144000 - 4 * 480);
    QCOMPARE(repeated.frames(), 144000 + 480);
    for (size_t n = 0; n < 140000; ++n) {
      QVERIFY(std::abs(cut.channel(0)[n] - std::clamp(before.channel(0)[n], -0.5, 0.5)) < 1e-5);
      const bool out = n >= 48000 && (n - 48000) % 24000 < 480;
      QCOMPARE(muted.channel(0)[n], out ? 0.0 : before.channel(0)[n]);
      const size_t gone = n < 48000 ? 0 : 1 + (n - 48000) / (24000 - 480);
      QCOMPARE(skipped.channel(0)[n], before.channel(0)[n + 480 * gone]);
      QCOMPARE(repeated.channel(0)[n], before.channel(0)[n < 48000 ? n : n - 480]);
    }
  }

  void convolution_is_the_direct_sum() {
    const auto response = with_noise(Planar(1, 5000), 0.02, 77);
    save(folder_ / "ir.wav", response, 48000);
    const auto m = clip(with_noise(Planar(1, 12000), 0.3, 6));
    const Json stage{{"type", "convolution"}, {"response", (folder_ / "ir.wav").string()}};
    const Planar got = samples_of(*run(m, {stage})), x = samples_of(*m);
    QCOMPARE(got.frames(), 12000 + 4999);
    for (int64_t n = 0; n < got.frames(); n += 97) {
      double sum = 0;
      for (int64_t k = 0; k < 5000; ++k)
        if (n - k >= 0 && n - k < 12000) sum += response.channel(0)[size_t(k)] * x.channel(0)[size_t(n - k)];
      QVERIFY(std::abs(got.channel(0)[size_t(n)] - sum) < 1e-12);
    }
    Json shorter = stage;
    shorter["length_ms"] = 10;
    QCOMPARE(run(m, {shorter})->format().frames, 12000 + 479);
    save(folder_ / "ir96.wav", tone(100, 0.1, 0.1, 96000), 96000);
    QCOMPARE(run(m, {{{"type", "convolution"}, {"response", (folder_ / "ir96.wav").string()}}})->format().frames,
             12000 + 4799);
    QCOMPARE(run(m, {{{"type", "convolution"}, {"response", (folder_ / "ir96.wav").string()}, {"match_rate", false}}})
                 ->format()
                 .frames,
             12000 + 9599);
    QCOMPARE(refused([&] { run(m, {{{"type", "convolution"}}}); }, "no impulse response"), 0);
  }

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
    const auto made = pass(m, chain);
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
    QVERIFY_EXCEPTION_THROWN(pass(m, chain_of({external("sh -c 'sleep 30' {in} {out}")}), Job{stop.get_token(), {}, 0}),
                             Cancelled);
  }

  void lv2_effects_run_with_their_latency_taken_away() {
    qputenv("LV2_PATH", HEATHMIST_TEST_LV2);
    const auto m = clip(requantised(Programme(1, 2).render(48000), 16, true));
    const Chain chain = chain_of({{{"type", "lv2"}, {"uri", "urn:heathmist:test-gain"}, {"controls", "gain=0.5"}}});
    const auto made = pass(m, chain);
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

  void rounds_go_through_again_and_again() {
    const auto m = clip(tone(440, 0.5, 1, 48000));
    const Planar a = samples_of(*m), b = samples_of(*pass(m, chain_of({{{"type", "gain"}, {"gain_db", -2}}}, 3)).ret);
    QVERIFY(std::abs(b.channel(0)[1000] / a.channel(0)[1000] - std::pow(10, -6.0 / 20)) < 1e-12);
    const Chain off = chain_of({{{"type", "gain"}, {"gain_db", -2}, {"on", false}}});
    QVERIFY(pass(m, off).ret == m);
  }

  void returns_are_written_with_the_words_they_have() {
    const auto m = clip(Programme(1, 2).render(48000));
    auto written = [&](std::initializer_list<Json> stages, const char* name) {
      const Chain chain = chain_of(stages);
      write_return(pass(m, chain), chain, folder_ / name);
      return Clip::open(folder_ / name)->format();
    };
    QVERIFY(written({{{"type", "gain"}}}, "a.wav").sample_format == SampleFormat::real);
    QCOMPARE(written({{{"type", "word_length"}, {"bits", 12}}}, "b.wav").container_bits.value(), 16);
    QCOMPARE(written({{{"type", "word_length"}, {"bits", 20}}}, "c.flac").container_bits.value(), 24);
    QCOMPARE(written({{{"type", "word_length"}, {"bits", 32}}}, "d.wav").container_bits.value(), 32);
    QVERIFY_EXCEPTION_THROWN(written({{{"type", "gain"}}}, "e.mp3"), InputError);
  }

  void true_peaks_are_those_of_the_wave() {
    for (const double share : {0.05, 0.25, 0.37, 0.45})
      for (const double phase : {0.0, 0.4, 0.785}) {
        Planar sound(1, 48000);
        for (size_t n = 0; n < 48000; ++n)
          sound.channel(0)[n] = 0.5 * std::sin(2 * pi * std::remainder(share * double(n), 1.0) + phase) *
                                std::min(1.0, double(std::min(n, 47999 - n)) / 4800);
        const auto peaks = true_peaks(*clip(sound), -12);
        QVERIFY2(std::abs(*peaks.dbtp + 6.0206) < 0.05,
                 qPrintable(QString("%1 %2: %3").arg(share).arg(phase).arg(*peaks.dbtp)));
        QCOMPARE(peaks.overs.size(), size_t(1));
      }
    QVERIFY(!true_peaks(*clip(Planar(2, 1000))).dbtp);
  }

 private:
  struct Heard {
    double lufs, true_peak_dbtp;
  };
  /// What libebur128 says.
  static Heard witness(const Clip& c) {
    const auto& f = c.format();
    ebur128_state* state =
        ebur128_init(unsigned(f.channels), unsigned(f.sample_rate_hz), EBUR128_MODE_I | EBUR128_MODE_TRUE_PEAK);
    const Planar x = samples_of(c);
    std::vector<double> interleaved(size_t(f.frames * f.channels));
    for (int k = 0; k < f.channels; ++k)
      for (size_t n = 0; n < size_t(f.frames); ++n) interleaved[n * size_t(f.channels) + size_t(k)] = x.channel(k)[n];
    ebur128_add_frames_double(state, interleaved.data(), size_t(f.frames));
    Heard heard{0, -200};
    ebur128_loudness_global(state, &heard.lufs);
    for (int k = 0; k < f.channels; ++k) {
      double peak = 0;
      ebur128_true_peak(state, unsigned(k), &peak);
      heard.true_peak_dbtp = std::max(heard.true_peak_dbtp, 20 * std::log10(peak));
    }
    ebur128_destroy(&state);
    return heard;
  }
  std::shared_ptr<const Clip> clip(const Planar& sound, int rate_hz = 48000) {
    return Clip::open(save(folder_ / ("clip" + std::to_string(++count_) + ".wav"), sound, rate_hz));
  }
  std::shared_ptr<const Clip> run(std::shared_ptr<const Clip> m, std::initializer_list<Json> stages) {
    return pass(std::move(m), chain_of(stages)).ret;
  }
  Folder folder_;
  int count_ = 0;
};

QTEST_GUILESS_MAIN(TestStages)
#include "test_stages.moc"
