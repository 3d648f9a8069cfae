// The fit against constructed truths: delay, drift, gain, polarity and map.
#include <QtTest>
#include <cmath>
#include <complex>
#include <numbers>

#include "core/stages/encoder.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

class TestFit : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray(folder_.operator/("cache").c_str())); }

  void fractional_delays_are_found_to_2_thousandths() {
    const Programme programme(12, 1);
    const auto master = save(folder_ / "m.wav", programme.render(48000), 48000);
    for (const double delay : {0.5, 2713.37, -1000.25, 31234.0625}) {
      const auto ret = save(folder_ / "r.wav", programme.render(48000, delay, 1, std::max(0.0, delay / 48000)), 48000);
      const auto report = null_of(master, ret);
      QVERIFY(report.fit.trusted);
      QVERIFY2(std::abs(report.fit.delay_samples - delay) < 0.002,
               qPrintable(QString("%1 for %2").arg(report.fit.delay_samples, 0, 'f', 6).arg(delay)));
      QVERIFY2(db(report.residual_relative_db()) < -110,
               qPrintable(QString::number(db(report.residual_relative_db()))));
      QVERIFY(std::abs(report.fit.gain_db) < 0.002);
    }
  }

  void delays_and_gains_at_random() {
    dsp::Noise chance(77);
    for (int round = 0; round < 12; ++round) {
      const int rate = std::array{44100, 48000, 88200, 96000}[size_t(chance.between(0, 4))];
      const Programme programme(chance.between(3, 9), 100 + uint64_t(round));
      const double delay = std::round(chance.between(-1.5, 1.5) * rate) + (round % 2 ? chance.uniform() : 0);
      const double gain_db = chance.between(-12, 3);
      const bool inverted = round % 3 == 0;
      const auto master = save(folder_ / "m.wav", programme.render(rate), rate, WordFormat::pcm24);
      auto sound = scaled(programme.render(rate, delay, 1, std::max(0.0, delay / rate)),
                          (inverted ? -1 : 1) * std::pow(10, gain_db / 20));
      const auto ret = save(folder_ / (round % 2 ? "r.flac" : "r.w64"), sound, rate, WordFormat::pcm24);
      const auto report = null_of(master, ret);
      const auto what = QString("round %1: %2 Hz, delay %3, found %4, gain %5, found %6")
                            .arg(round)
                            .arg(rate)
                            .arg(delay)
                            .arg(report.fit.delay_samples)
                            .arg(gain_db)
                            .arg(report.fit.gain_db);
      QVERIFY2(std::abs(report.fit.delay_samples - delay) < 0.002, qPrintable(what));
      QVERIFY2(std::abs(report.fit.gain_db - gain_db) < 0.002, qPrintable(what));
      QCOMPARE(QString(report.fit.polarity()), QString(inverted ? "inverted" : "normal"));
      QCOMPARE(QString(name_of(report.kind)), QString("level"));
    }
  }

  void a_whole_delay_leaves_digital_silence() {
    const Programme programme(6, 3);
    const auto sound = requantised(programme.render(44100), 16, true);
    Planar later(2, sound.frames() + 4410);
    for (int c = 0; c < 2; ++c)
      std::copy(sound.channel(c).begin(), sound.channel(c).end(), later.channel(c).begin() + 4410);
    const auto report = null_of(save(folder_ / "m.wav", sound, 44100, WordFormat::pcm16),
                                save(folder_ / "r.wav", later, 44100, WordFormat::pcm16));
    QCOMPARE(report.fit.delay_samples, 4410.0);
    QCOMPARE(report.sums.residual, 0.0);
    QCOMPARE(report.kind, Kind::shifted);
    QVERIFY(!report.identical);
  }

  void an_excerpt_is_found_in_the_middle() {
    const Programme programme(40, 4);
    const auto sound = programme.render(48000);
    Planar part(2, 5 * 48000);
    for (int c = 0; c < 2; ++c)
      std::copy_n(sound.channel(c).begin() + 27 * 48000 + 123, part.frames(), part.channel(c).begin());
    const auto report = null_of(save(folder_ / "m.wav", sound, 48000), save(folder_ / "r.wav", part, 48000));
    QCOMPARE(report.fit.delay_samples, -(27.0 * 48000 + 123));
    QCOMPARE(report.sums.residual, 0.0);
    QVERIFY(std::abs(report.sums.seconds - 5) < 1e-9);
  }

  void drift_is_found_to_a_fifth_of_a_ppm() {
    const Programme programme(60, 5);
    const auto master = save(folder_ / "m.wav", programme.render(48000), 48000, WordFormat::float32);
    for (const double ppm : {37.0, -4.5}) {
      const double delay = 512.25;
      const auto ret =
          save(folder_ / "r.wav", programme.render(48000, delay, 1 + ppm * 1e-6, 0.1), 48000, WordFormat::float32);
      const auto report = null_of(master, ret);
      QVERIFY2(std::abs(report.fit.drift_ppm - ppm) < 0.2, qPrintable(QString::number(report.fit.drift_ppm)));
      QVERIFY2(std::abs(report.fit.delay_samples - delay) < 0.02,
               qPrintable(QString::number(report.fit.delay_samples)));
      QVERIFY2(db(report.residual_relative_db()) < -80, qPrintable(QString::number(db(report.residual_relative_db()))));
    }
  }

  /// A white spectrum up to half the rate that can be read at any place exactly: 1200 lines at random places.
  static Planar white_lines(double seconds, int rate, double delay, double ratio) {
    Planar out(2, int64_t(seconds * rate * ratio) + 2000);
    dsp::Noise chance(4242);
    const int lines = 1200;
    for (int k = 0; k < lines; ++k) {
      const double turn = std::numbers::pi * (k + chance.uniform()) / lines, phase = chance.between(0, 6.283);
      const double pan = chance.between(-1, 1);
      if (turn / ratio >= std::numbers::pi) continue;
      const auto step = std::polar(1.0, turn / ratio);
      for (int64_t from = 0; from < out.frames(); from += 512) {
        auto wave = std::polar(0.3 / std::sqrt(double(lines)), turn * (double(from) - delay) / ratio + phase);
        for (int64_t n = from; n < std::min(out.frames(), from + 512); ++n, wave *= step) {
          out.channel(0)[size_t(n)] += (1 - 0.7 * pan) * wave.real();
          out.channel(1)[size_t(n)] += (1 + 0.7 * pan) * wave.real();
        }
      }
    }
    return out;
  }

  void full_band_material_nulls_data() {
    QTest::addColumn<double>("delay");
    QTest::addColumn<double>("ppm");
    QTest::newRow("half a sample") << 0.5 << 0.0;
    QTest::newRow("late") << 1234.321 << 0.0;
    QTest::newRow("drift") << 12.75 << 37.0;
    QTest::newRow("much drift") << -3.3 << 1000.0;
    QTest::newRow("much drift the other way") << 200.1 << -1000.0;
  }
  void full_band_material_nulls() {
    QFETCH(double, delay);
    QFETCH(double, ppm);
    const auto master = save(folder_ / "m.wav", white_lines(5, 44100, 0, 1), 44100);
    const auto ret = save(folder_ / "r.wav", white_lines(5, 44100, delay, 1 + ppm * 1e-6), 44100);
    const auto report = null_of(master, ret);
    const auto what = QString("delay %1, drift %2, residual %3")
                          .arg(report.fit.delay_samples, 0, 'f', 5)
                          .arg(report.fit.drift_ppm, 0, 'f', 4)
                          .arg(db(report.residual_relative_db()));
    QVERIFY2(std::abs(report.fit.delay_samples - delay) < 0.002, qPrintable(what));
    QVERIFY2(std::abs(report.fit.drift_ppm - ppm) < 0.2, qPrintable(what));
    QVERIFY2(db(report.residual_relative_db()) < -110, qPrintable(what));
    QCOMPARE(report.kind, Kind::shifted);
  }

  void steady_clips_show_no_drift() {
    const Programme programme(20, 6);
    const auto sound = programme.render(48000);
    const auto report =
        null_of(save(folder_ / "m.wav", sound, 48000), save(folder_ / "r.wav", with_noise(sound, 0.01, 9), 48000));
    QCOMPARE(report.fit.drift_ppm, 0.0);
    QCOMPARE(report.fit.delay_samples, 0.0);
    QCOMPARE(report.kind, Kind::noise);
  }

  void the_delay_holds_through_lossy_codecs() {
    const Programme programme(20, 7, 18000);
    const auto master = save(folder_ / "m.wav", programme.render(48000), 48000, WordFormat::pcm24);
    const double delay = 777;
    const auto late =
        Clip::open(save(folder_ / "late.wav", programme.render(48000, delay, 1, 0.1), 48000, WordFormat::pcm24));
    for (const auto& [encoder, rate, name] :
         {std::tuple{"libmp3lame", 64000, "r.mp3"}, {"aac", 64000, "r.m4a"}, {"libopus", 64000, "r.opus"}}) {
      encode(*late, {encoder, rate}, folder_ / name);
      const auto report = null_of(master, folder_ / name);
      QVERIFY2(std::abs(report.fit.delay_samples - delay) < 0.05,
               qPrintable(QString("%1: %2").arg(name).arg(report.fit.delay_samples, 0, 'f', 4)));
      QCOMPARE(report.kind, Kind::lossy);
    }
  }

  void swapped_and_half_inverted_channels() {
    const Programme programme(6, 8);
    const auto sound = programme.render(48000);
    Planar other(2, sound.frames());
    std::copy(sound.channel(0).begin(), sound.channel(0).end(), other.channel(1).begin());
    for (int64_t n = 0; n < sound.frames(); ++n) other.channel(0)[size_t(n)] = -sound.channel(1)[size_t(n)];
    const auto report = null_of(save(folder_ / "m.wav", sound, 48000), save(folder_ / "r.wav", other, 48000));
    QVERIFY(report.fit.trusted);
    QVERIFY(report.fit.swapped());
    QCOMPARE(QString(report.fit.polarity()), QString("mixed"));
    QCOMPARE(report.sums.residual, 0.0);
  }

  void mono_is_compared_with_each_channel() {
    const Programme programme(5, 10);
    const auto stereo = programme.render(48000);
    Planar mono(1, stereo.frames());
    std::copy(stereo.channel(0).begin(), stereo.channel(0).end(), mono.channel(0).begin());
    NullOptions options;
    options.fit.gain_db = 0.0;  // the one gain is for both pairs: held, so that the first leaves exactly nothing
    const auto report = null_of(save(folder_ / "m.wav", mono, 48000), save(folder_ / "r.wav", stereo, 48000), options);
    QCOMPARE(report.fit.pairs.size(), size_t(2));
    QCOMPARE(report.sums.pairs[0].residual, 0.0);
    QVERIFY(report.sums.pairs[1].residual > 0);
  }

  void strangers_are_called_unrelated() {
    for (uint64_t seed = 20; seed < 26; ++seed) {
      const auto a = save(folder_ / "m.wav", Programme(8, seed).render(48000), 48000);
      const auto b = save(folder_ / "r.wav", Programme(9, seed + 50).render(48000), 48000);
      QCOMPARE(null_of(a, b).kind, Kind::unrelated);
    }
  }

  /// A tone fits at every period: it is laid where both files begin, and it is said that others fit as well.
  void a_steady_tone_is_laid_where_it_stands() {
    for (const double hz : {41.3, 997.0, 7301.7}) {
      Planar sound(2, 44100 * 8);
      for (int c = 0; c < 2; ++c)
        for (size_t n = 0; n < size_t(sound.frames()); ++n)
          sound.channel(c)[n] = 0.7 * std::sin(2 * std::numbers::pi * std::remainder(hz * double(n) / 44100, 1.0));
      const auto master = save(folder_ / "m.wav", with_noise(sound, 1e-6, 1), 44100);
      for (const double noise : {1e-5, 1e-3}) {
        const auto report = null_of(master, save(folder_ / "r.wav", with_noise(scaled(sound, 0.5), noise, 2), 44100));
        const auto words = QString("%1 Hz: %2").arg(hz).arg(report.fit.delay_samples);
        const double within = hz < 100 ? 0.5 : 0.05;  // of a long wave little shows
        QVERIFY2(report.fit.trusted && std::abs(report.fit.delay_samples) < within, qPrintable(words));
        QVERIFY2(std::abs(report.fit.gain_db + 6.0206) < 0.01, qPrintable(words));
      }
      if (hz < 100) continue;
      Planar late(2, sound.frames() - 441);  // the nearest period is less than one away
      for (int c = 0; c < 2; ++c)
        std::copy(sound.channel(c).begin() + 441, sound.channel(c).end(), late.channel(c).begin());
      const auto cut = null_of(master, save(folder_ / "r.wav", with_noise(late, 1e-6, 3), 44100));
      QVERIFY2(std::abs(cut.fit.delay_samples) <= 44100 / hz,
               qPrintable(QString("%1 Hz: %2").arg(hz).arg(cut.fit.delay_samples)));
    }
  }

  /// What stands at the very edge of the band cannot be read between samples: it must not make a delay of nothing.
  void noise_at_the_edge_of_the_band_is_no_delay() {
    const Planar sound = requantised(scaled(Programme(8, 6).render(44100), 0.3), 16, true);
    const auto master = save(folder_ / "m.wav", sound, 44100, WordFormat::pcm16);
    Planar ret = sound;
    dsp::Noise chance(9);
    for (int c = 0; c < 2; ++c) {
      double last = 0, before = 0;
      for (double& x : ret.channel(c)) {  // white noise through (1 - z)^2 rises to the edge
        const double white = chance.gaussian();
        x = std::round((x + 1e-3 * (white - 2 * last + before)) * 32768) / 32768;
        before = last, last = white;
      }
    }
    const auto report = null_of(master, save(folder_ / "r.wav", ret, 44100, WordFormat::pcm16));
    QCOMPARE(report.fit.delay_samples, 0.0);
    QCOMPARE(report.fit.drift_ppm, 0.0);
    QVERIFY(report.kind != Kind::shifted);
  }

  /// Bass that would fit anywhere nearby, under noise: the delay is where the programme is, not where the files begin.
  void what_agrees_little_is_not_laid_where_the_files_begin() {
    const Planar programme = Programme(12, 8).render(48000);
    Planar sound = scaled(programme, 0.3);
    for (int c = 0; c < 2; ++c)
      for (size_t n = 0; n < size_t(sound.frames()); ++n)
        sound.channel(c)[n] += 0.3 * std::sin(2 * std::numbers::pi * std::remainder(50.0 * double(n) / 48000, 1.0));
    const auto master = save(folder_ / "m.wav", sound, 48000);
    for (const int64_t delay : {30, 960, 5000}) {
      Planar late(2, sound.frames() + delay);
      for (int c = 0; c < 2; ++c)
        std::copy(sound.channel(c).begin(), sound.channel(c).end(), late.channel(c).begin() + delay);
      const auto report = null_of(master, save(folder_ / "r.wav", with_noise(late, 0.03, 4), 48000));
      QVERIFY2(std::abs(report.fit.delay_samples - double(delay)) < 0.5,
               qPrintable(QString("%1 for %2").arg(report.fit.delay_samples).arg(delay)));
    }
  }

  void held_values_are_kept() {
    const Programme programme(5, 11);
    const auto sound = programme.render(48000);
    const auto master = save(folder_ / "m.wav", sound, 48000), ret = save(folder_ / "r.wav", scaled(sound, 0.5), 48000);
    NullOptions options;
    options.fit.delay_samples = 3.0;
    options.fit.gain_db = 0.0;
    const auto report = null_of(master, ret, options);
    QCOMPARE(report.fit.delay_samples, 3.0);
    QCOMPARE(report.fit.gain_db, 0.0);
  }

  void other_rates_null_over_the_shared_band() {
    const Programme programme(10, 12, 19000);
    const auto master = save(folder_ / "m.wav", programme.render(96000), 96000, WordFormat::float32);
    const auto ret = save(folder_ / "r.wav", programme.render(44100), 44100, WordFormat::float32);
    const auto report = null_of(master, ret);
    QCOMPARE(report.kind, Kind::converted);
    QVERIFY2(db(report.residual_relative_db()) < -100, qPrintable(QString::number(db(report.residual_relative_db()))));
    QVERIFY(std::abs(report.fit.delay_samples) < 0.002);
  }

 private:
  Folder folder_;
};

SHARED_MAIN(TestFit)
#include "test_fit.moc"
