// Converters against theory and against what their libraries claim.
#include "tests/support/share.hpp"
#include "tests/support/stages.hpp"

using namespace heathmist;
using namespace heathmist::test;

class TestConverters : public StageTest {
  Q_OBJECT

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

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

  /// Theory: holding weighs by the periodic sinc, linear interpolation by its square; what lies above folds back with
  /// that weight.
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

  /// What the libraries say of themselves. libsoxr: its precision in bits, times 6.02 dB, and a pass band flat to 0.913
  /// of Nyquist (soxr.h); libsamplerate: src_get_description(), the band at -3 dB; speexdsp: the comments beside its
  /// table of qualities; zita-resampler: a cutoff of 1 - 2.6 / half length; libswresample: a cutoff of 0.97. A windowed
  /// sinc lies at -6.02 dB at its cutoff.
  void converters_keep_what_their_libraries_claim_data() {
    QTest::addColumn<QString>("stage");
    QTest::addColumn<double>("edge");
    QTest::addColumn<double>("least_db");
    QTest::addColumn<double>("most_db");
    QTest::addColumn<double>("stop_db");
    auto row = [](const char* name, const char* extra, double edge, double least, double most, double stop) {
      QTest::newRow(name) << QString(R"({"type":"converter","rate_hz":44100,%1})").arg(extra) << edge << least << most
                          << stop;
    };
    row("soxr very high", R"("by":"libsoxr")", 0.913, -0.01, 0.01, -28 * 6.02);
    row("soxr high", R"("by":"libsoxr","soxr_quality":"high")", 0.913, -0.01, 0.01, -20 * 6.02);
    row("soxr medium", R"("by":"libsoxr","soxr_quality":"medium")", 0.8, -0.35, 0.35, -16 * 6.02);
    row("soxr low", R"("by":"libsoxr","soxr_quality":"low")", 0.6, -0.35, 0.35, -16 * 6.02);
    row("samplerate best", R"("by":"libsamplerate")", 0.96, -3.01, 0.1, -144);
    row("samplerate medium", R"("by":"libsamplerate","samplerate_quality":"sinc_medium")", 0.9, -3.01, 0.1, -121);
    row("samplerate fastest", R"("by":"libsamplerate","samplerate_quality":"sinc_fastest")", 0.8, -3.01, 0.1, -97);
    row("speex 10", R"("by":"speexdsp")", 0.966, -3.01, 0.1, -100);
    row("speex 7", R"("by":"speexdsp","speex_quality":7)", 0.931, -3.01, 0.1, -100);
    row("speex 3", R"("by":"speexdsp","speex_quality":3)", 0.849, -3.01, 0.1, -80);
    row("zita 96", R"("by":"zita_resampler","zita_half_length":96)", 1 - 2.6 / 96, -6.2, -5.8, -100);
    row("zita 32", R"("by":"zita_resampler","zita_half_length":32)", 1 - 2.6 / 32, -6.2, -5.8, -100);
    row("swresample 128", R"("by":"libswresample","swresample_filter_size":128)", 0.97, -6.2, -5.8, -80);
  }
  void converters_keep_what_their_libraries_claim() {
    QFETCH(QString, stage);
    QFETCH(double, edge);
    QFETCH(double, least_db);
    QFETCH(double, most_db);
    QFETCH(double, stop_db);
    const Json json = Json::parse(stage.toStdString());
    auto level = [&](double in_hz, double out_hz) {
      const auto made = run(clip(tone(in_hz, 0.5, 2, 96000), 96000), {json});
      return tone_db(samples_of(*made, 10000, 44100).channel(0), out_hz, 44100) - 20 * std::log10(0.5);
    };
    const double at_edge = level(edge * 22050, edge * 22050), above = level(30000, 14100);
    QVERIFY2(at_edge >= least_db && at_edge <= most_db, qPrintable(QString("%1 dB at the edge").arg(at_edge)));
    QVERIFY2(above < stop_db, qPrintable(QString("%1 dB beyond").arg(above)));
  }
};

SHARED_MAIN(TestConverters)
#include "test_converters.moc"
