// Every stage against a truth: theory, a direct sum, an independent witness.
#include <ebur128.h>

#include <QtTest>

#include "core/dsp/fft.hpp"
#include "core/measure/spectrum.hpp"
#include "core/measure/true_peak.hpp"
#include "tests/support/share.hpp"
#include "tests/support/stages.hpp"

using namespace heathmist;
using namespace heathmist::test;

class TestStages : public StageTest {
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

  /// The wave itself, read without any filter: the whole programme brought to 16 times its rate by one transform.
  static double top_of_wave(const Planar& sound) {
    double top = 0;
    const size_t size = size_t(sound.frames());
    dsp::RealFft<double> own(size), dense(16 * size);
    for (int c = 0; c < sound.channels(); ++c) {
      std::copy(sound.channel(c).begin(), sound.channel(c).end(), own.time().begin());
      own.forward();
      std::fill(dense.spectrum().begin(), dense.spectrum().end(), 0);
      std::copy(own.spectrum().begin(), own.spectrum().end(), dense.spectrum().begin());
      dense.inverse();
      for (const double x : dense.time()) top = std::max(top, std::abs(x) / double(size));
    }
    return 20 * std::log10(top);
  }

  void the_limiter_holds_the_wave_of_full_band_noise() {
    for (const int rate : {44100, 96000})
      for (const double ceiling : {-1.0, -6.0}) {
        Planar sound = with_noise(Planar(2, 1 << 17), 0.4, 21);
        const size_t edge = 4000;  // the transform takes the programme to go round
        for (int c = 0; c < 2; ++c)
          for (size_t n = 0; n < edge; ++n)
            sound.channel(c)[n] *= double(n) / edge,
                sound.channel(c)[size_t(sound.frames()) - 1 - n] *= double(n) / edge;
        const auto made = run(clip(sound, rate), {{{"type", "limiter"}, {"ceiling_dbtp", ceiling}}});
        const double top = top_of_wave(samples_of(*made));
        QVERIFY2(top <= ceiling + 0.02 && top > ceiling - 0.4,
                 qPrintable(QString("%1 for %2 at %3").arg(top).arg(ceiling).arg(rate)));
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

  /// What an encoder makes of a setting by itself, and what a chain holds that does not count, is said.
  void what_is_not_done_as_asked_is_told() {
    const auto m = clip(Programme(6, 9).render(48000));
    auto note = [&](const Json& values) {
      Json stage{{"type", "codec"}};
      stage.update(values);
      return pass(m, chain_of({stage})).stages.front().note;
    };
    for (const char* codec : {"mp3", "aac"}) {
      const auto told = note({{"codec", codec}, {"bit_rate_kbps", 1536}});
      QVERIFY2(told.find("asked for 1536 kbit/s") != std::string::npos, told.c_str());
      QVERIFY2(note({{"codec", codec}, {"bit_rate_kbps", 128}}).empty(), codec);
    }
    const auto idle = note({{"codec", "mp3"}, {"bit_rate_kbps", 128}, {"quality", 2}});
    QVERIFY2(idle.find("quality is not used: mode is bit_rate") != std::string::npos, idle.c_str());
    QVERIFY(note({{"codec", "mp3"}, {"mode", "quality"}, {"quality", 2}}).empty());
    try {
      note({{"codec", "mp2"}, {"bit_rate_kbps", 1000}});
      QFAIL("mp2 has no such rate");
    } catch (const ChainError& error) {
      const std::string told = error.what();
      QVERIFY2(told.find("it takes") != std::string::npos && told.find("384") != std::string::npos, told.c_str());
    }
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
};

SHARED_MAIN(TestStages)
#include "test_stages.moc"
