// Loudness against libebur128, residual sums against direct sums, spectra and bandwidth against construction.
#include <ebur128.h>

#include <QtTest>
#include <cmath>
#include <numbers>

#include "core/dsp/fft.hpp"
#include "core/dsp/interpolator.hpp"
#include "core/measure/bandwidth.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

double witness_lufs(const Planar& sound, int rate) {
  ebur128_state* state = ebur128_init(unsigned(sound.channels()), unsigned(rate), EBUR128_MODE_I);
  std::vector<double> interleaved;
  for (int64_t n = 0; n < sound.frames(); ++n)
    for (int c = 0; c < sound.channels(); ++c) interleaved.push_back(sound.channel(c)[size_t(n)]);
  ebur128_add_frames_double(state, interleaved.data(), size_t(sound.frames()));
  double loudness = 0;
  ebur128_loudness_global(state, &loudness);
  ebur128_destroy(&state);
  return loudness;
}

/// Nothing above so many cycles a sample.
Planar walled(Planar sound, double edge) {
  dsp::RealFft<double> fft(size_t(sound.frames()));
  for (int c = 0; c < sound.channels(); ++c) {
    const auto x = sound.channel(c);
    std::copy(x.begin(), x.end(), fft.time().begin());
    fft.forward();
    for (auto k = size_t(edge * double(x.size())); k < fft.bins(); ++k) fft.spectrum()[k] = 0;
    fft.inverse();
    std::transform(fft.time().begin(), fft.time().end(), x.begin(), [&](double v) { return v / double(x.size()); });
  }
  return sound;
}

}  // namespace

class TestMeasure : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  void integrated_loudness_agrees_with_the_witness() {
    for (const int rate : {44100, 48000, 96000}) {
      const auto sound = Programme(15, uint64_t(rate), 15000).render(rate);
      const auto report =
          null_of(save(folder_ / "m.wav", sound, rate), save(folder_ / "r.wav", scaled(sound, 0.5), rate));
      const double ours = integrated_lufs(report.sums.master_pieces).value();
      QVERIFY2(std::abs(ours - witness_lufs(sound, rate)) < 0.02, qPrintable(QString("%1 Hz: %2").arg(rate).arg(ours)));
      QVERIFY(std::abs(integrated_lufs(report.sums.return_pieces).value() - ours + 20 * std::log10(2.0)) < 0.02);
    }
  }

  void a_full_scale_tone_reads_as_the_standard_says() {  // BS.1770: 997 Hz at 0 dBFS in one channel is -3.01 LKFS
    KWeighting weighting(48000);
    std::vector<double> tone(48000 * 2);
    for (size_t n = 0; n < tone.size(); ++n) tone[n] = std::sin(2 * std::numbers::pi * 997 * double(n) / 48000);
    weighting.energy(std::span(tone).first(48000));
    QVERIFY(std::abs(lufs(weighting.energy(std::span(tone).last(48000)) / 48000).value() + 3.01) < 0.01);
  }

  void sums_do_not_depend_on_threads() {
    const auto sound = Programme(25, 3).render(48000);
    const auto m = Clip::open(save(folder_ / "m.wav", sound, 48000)),
               r = Clip::open(save(folder_ / "r.wav", with_noise(sound, 1e-3, 1), 48000));
    Fit fit;
    fit.pairs = plain_pairs(2, 2);
    fit.delay_samples = 0.25;
    set_overlap(fit, m->format().frames, r->format().frames);
    const auto one = residual_sums(*m, *r, fit, {}, Job{{}, {}, 1}),
               four = residual_sums(*m, *r, fit, {}, Job{{}, {}, 4});
    QCOMPARE(one.residual, four.residual);
    QCOMPARE(one.remainder, four.remainder);
    QVERIFY(one.residual_pieces == four.residual_pieces);
    QVERIFY(one.residual_spectrum.power == four.residual_spectrum.power);
  }

  void sums_agree_with_direct_sums() {
    const auto sound = Programme(7, 4).render(44100);
    const auto ret = with_noise(scaled(sound, 0.8), 0.01, 2);
    const auto report = null_of(save(folder_ / "m.wav", sound, 44100), save(folder_ / "r.wav", ret, 44100));
    double direct = 0, peak = 0;
    for (int c = 0; c < 2; ++c)
      for (int64_t n = 0; n < sound.frames(); ++n) {
        const double e = ret.channel(c)[size_t(n)] / report.fit.gain() - sound.channel(c)[size_t(n)];
        direct += e * e / double(2 * sound.frames());
        peak = std::max(peak, std::abs(e));
      }
    QVERIFY(std::abs(report.sums.residual / direct - 1) < 1e-9);
    QVERIFY(std::abs(report.sums.residual_peak - peak) < 1e-12);
    double in_bins = 0;
    for (const double p : report.sums.residual_spectrum.power) in_bins += p;
    QVERIFY2(std::abs(10 * std::log10(in_bins / direct)) < 0.3, "the bins of a spectrum sum to the mean square");
  }

  void the_remainder_forgets_a_filter() {
    const auto sound = Programme(20, 5).render(48000);
    Planar ret = sound;
    for (int c = 0; c < 2; ++c)
      for (int64_t n = sound.frames(); n-- > 9;) ret.channel(c)[size_t(n)] += 0.4 * sound.channel(c)[size_t(n - 9)];
    const auto clean = null_of(save(folder_ / "m.wav", sound, 48000), save(folder_ / "r.wav", ret, 48000));
    QVERIFY(db(clean.residual_relative_db()) > -40);
    QVERIFY2(db(clean.sums.remainder_relative_db()) < -60,
             qPrintable(QString::number(db(clean.sums.remainder_relative_db()))));
    const auto noisy = null_of(folder_ / "m.wav", save(folder_ / "r.wav", with_noise(ret, 1e-3, 6), 48000));
    const double truth = 10 * std::log10(1e-6 / (noisy.sums.master * noisy.fit.gain() * noisy.fit.gain()));
    QVERIFY2(std::abs(db(noisy.sums.remainder_relative_db()) - truth) < 0.5,
             qPrintable(QString("%1 for %2").arg(db(noisy.sums.remainder_relative_db())).arg(truth)));
  }

  void bandwidth_finds_the_edge() {
    dsp::Noise chance(8);
    for (const double top : {5000.0, 11000.0, 17000.0}) {
      Planar sound(1, 48000 * 3);
      for (double hz = 30; hz < top; hz += 41.3) {
        const double phase = chance.between(0, 6.28), level = 0.005;
        for (int64_t n = 0; n < sound.frames(); ++n)
          sound.channel(0)[size_t(n)] += level * std::sin(2 * std::numbers::pi * hz * double(n) / 48000 + phase);
      }
      const auto clip = Clip::open(save(folder_ / "b.wav", requantised(sound, 16, true), 48000, WordFormat::pcm16));
      const double found = bandwidth_of(*clip).value();
      QVERIFY2(std::abs(found - top) < 120, qPrintable(QString("%1 for %2").arg(found).arg(top)));
    }
    const auto white = Clip::open(save(folder_ / "w.wav", with_noise(Planar(1, 48000 * 5), 0.1, 3), 48000));
    QCOMPARE(bandwidth_of(*white).value(), 24000.0);
    const auto silent = Clip::open(save(folder_ / "s.wav", Planar(1, 48000), 48000));
    QVERIFY(!bandwidth_of(*silent));
  }

  /// Noise through a Butterworth low pass of order 2n falls by 12n dB an octave from its -3 dB point; and through none
  /// but a wall.
  void bandwidth_follows_steep_edges_at_any_rate_data() {
    QTest::addColumn<int>("rate");
    QTest::addColumn<double>("edge");
    QTest::addColumn<int>("sections");
    QTest::addColumn<int>("bits");
    for (const auto& [rate, edge] :
         {std::pair{44100, 8000.0}, {48000, 16000.0}, {96000, 20000.0}, {192000, 30000.0}, {384000, 20000.0}})
      for (const int sections : {9, 14, 40})
        for (const int bits : {16, 24, 0})
          QTest::addRow("%d Hz, %.0f Hz, %d dB/oct, %d bits", rate, edge, 12 * sections, bits)
              << rate << edge << sections << bits;
  }
  void bandwidth_follows_steep_edges_at_any_rate() {
    QFETCH(int, rate);
    QFETCH(double, edge);
    QFETCH(int, sections);
    QFETCH(int, bits);
    Planar sound = with_noise(Planar(1, rate * 3), 0.1, 5);
    for (int k = 0; k < sections; ++k) {
      const double q = 1 / (2 * std::cos(std::numbers::pi * (2 * k + 1) / (4.0 * sections)));
      const double w = 2 * std::numbers::pi * edge / rate, alpha = std::sin(w) / (2 * q), a0 = 1 + alpha;
      const double b1 = (1 - std::cos(w)) / a0, b0 = b1 / 2, a1 = -2 * std::cos(w) / a0, a2 = (1 - alpha) / a0;
      double x1 = 0, x2 = 0, y1 = 0, y2 = 0;
      for (double& x : sound.channel(0)) {
        const double y = b0 * (x + x2) + b1 * x1 - a1 * y1 - a2 * y2;
        x2 = x1, x1 = x, y2 = y1, y1 = y, x = y;
      }
    }
    const auto file = folder_ / "edge.wav";
    const auto clip = bits == 0 ? Clip::open(save(file, sound, rate))
                                : Clip::open(save(file, requantised(sound, bits, true), rate,
                                                  bits == 16 ? WordFormat::pcm16 : WordFormat::pcm24));
    const double found = bandwidth_of(*clip).value();
    QVERIFY2(std::abs(found / edge - 1) < 0.02, qPrintable(QString::number(found)));
  }

  /// Clicks reach over the whole band and are its floor: the noise under them ends where it ends.
  void bandwidth_of_noise_with_clicks_is_that_of_the_noise() {
    dsp::Noise chance(12);
    for (const double edge : {6000.0, 12000.0, 17000.0}) {
      Planar sound = walled(with_noise(Planar(1, 48000 * 6), 0.05, 3), edge / 48000);
      for (int n = 0; n < 25; ++n) sound.channel(0)[size_t(chance.between(1000, 287000))] += chance.between(-0.8, 0.8);
      const auto clip = Clip::open(save(folder_ / "c.wav", sound, 48000));
      const double found = bandwidth_of(*clip).value();
      QVERIFY2(std::abs(found / edge - 1) < 0.02, qPrintable(QString("%1 for %2").arg(found).arg(edge)));
    }
  }

  void interpolation_is_flat_to_20_khz() {
    for (const double fraction : {0.1, 0.37, 0.5, 0.93})
      for (const double hz : {100.0, 5000.0, 15000.0, 20000.0}) {
        std::vector<double> in(2000), out(in.size() - dsp::Interpolator::taps + 1);
        auto tone = [&](double n) { return std::sin(2 * std::numbers::pi * hz * n / 44100); };
        for (size_t n = 0; n < in.size(); ++n) in[n] = tone(double(n));
        dsp::Interpolator::shift(in, fraction, out);
        for (size_t n = 0; n < out.size(); ++n)
          QVERIFY(std::abs(out[n] - tone(double(n) + dsp::Interpolator::before + fraction)) < 3e-6);
      }
  }

 private:
  Folder folder_;
};

SHARED_MAIN(TestMeasure)
#include "test_measure.moc"
