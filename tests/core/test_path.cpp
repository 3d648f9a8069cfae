// The residual split: the linear path and the remainder, on mixtures whose truth is known.
#include <QtTest>
#include <cmath>
#include <complex>
#include <numbers>

#include "core/compare/path.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

/// A biquad, run in double; b0 b1 b2 a1 a2.
using Biquad = std::array<double, 5>;

/// Peaking and high-pass sections (Bristow-Johnson, "Cookbook formulae for audio EQ biquad filter coefficients").
Biquad bell(double rate, double hz, double gain_db, double q) {
  const double a = std::pow(10, gain_db / 40), w = 2 * std::numbers::pi * hz / rate, al = std::sin(w) / (2 * q),
               a0 = 1 + al / a;
  return {(1 + al * a) / a0, -2 * std::cos(w) / a0, (1 - al * a) / a0, -2 * std::cos(w) / a0, (1 - al / a) / a0};
}
Biquad high_pass(double rate, double hz, double q) {
  const double w = 2 * std::numbers::pi * hz / rate, al = std::sin(w) / (2 * q), a0 = 1 + al, c = std::cos(w);
  return {(1 + c) / 2 / a0, -(1 + c) / a0, (1 + c) / 2 / a0, -2 * c / a0, (1 - al) / a0};
}
Biquad all_pass(double rate, double hz, double q) {
  const double w = 2 * std::numbers::pi * hz / rate, al = std::sin(w) / (2 * q), a0 = 1 + al, c = std::cos(w);
  return {(1 - al) / a0, -2 * c / a0, 1, -2 * c / a0, (1 - al) / a0};
}
std::complex<double> at(const Biquad& q, double hz, double rate) {
  const auto z = std::polar(1.0, -2 * std::numbers::pi * hz / rate);
  return (q[0] + q[1] * z + q[2] * z * z) / (1.0 + q[3] * z + q[4] * z * z);
}
Planar through(Planar sound, const Biquad& q) {
  for (int c = 0; c < sound.channels(); ++c) {
    double s1 = 0, s2 = 0;
    for (double& x : sound.channel(c)) {
      const double y = q[0] * x + s1;
      s1 = q[1] * x - q[3] * y + s2;
      s2 = q[2] * x - q[4] * y;
      x = y;
    }
  }
  return sound;
}

/// Steady coloured noise, two channels that share half of it.
Planar rumble(double seconds, int rate, uint64_t seed) {
  dsp::Noise chance(seed);
  Planar sound(2, int64_t(seconds * rate));
  double low[2] = {};
  for (int64_t n = 0; n < sound.frames(); ++n) {
    const double both = chance.gaussian();
    for (int c = 0; c < 2; ++c) {
      const double white = 0.7 * both + 0.7 * chance.gaussian();
      low[c] += 0.05 * (white - low[c]);
      sound.channel(c)[size_t(n)] = 0.15 * low[c] + 0.01 * white;
    }
  }
  return sound;
}

double mean_square(const Planar& a, const Planar& b) {
  double sum = 0;
  for (int c = 0; c < a.channels(); ++c)
    for (size_t n = 0; n < size_t(a.frames()); ++n)
      sum += (a.channel(c)[n] - b.channel(c)[n]) * (a.channel(c)[n] - b.channel(c)[n]);
  return sum / double(a.frames()) / a.channels();
}

double to_db(double power) { return 10 * std::log10(power); }

}  // namespace

class TestPath : public QObject {
  Q_OBJECT

  Split split_of(const Planar& master, const Planar& ret, int rate) {
    const auto m = Clip::open(save(folder_ / "m.wav", master, rate)),
               r = Clip::open(save(folder_ / "r.wav", ret, rate));
    Fit fit;  // the truth: nothing moved, nothing scaled
    fit.pairs = plain_pairs(master.channels(), ret.channels());
    fit.trusted = true;
    set_overlap(fit, master.frames(), ret.frames());
    return split_residual(*m, *r, fit, residual_sums(*m, *r, fit, {}));
  }

 private slots:
  void mixtures_of_filter_and_noise_come_apart() {
    struct Mixture {
      Biquad filter;
      double noise;
    };
    dsp::Noise chance(99);
    for (const int rate : {44100, 48000, 96000}) {
      const auto master = rumble(12, rate, uint64_t(rate));
      for (int n = 0; n < 4; ++n) {
        const Mixture mix{n == 3 ? high_pass(rate, 30, 0.71)
                                 : bell(rate, std::exp(chance.between(std::log(60), std::log(12000))),
                                        chance.between(0.5, 5), chance.between(0.5, 2)),
                          std::pow(10, chance.between(-5, -3))};
        const auto filtered = through(master, mix.filter);
        const auto ret = with_noise(filtered, mix.noise, uint64_t(n) + 5);
        const auto split = split_of(master, ret, rate);
        const double linear = mean_square(filtered, master), remainder = mean_square(ret, filtered);
        const auto told = QString("rate %1 case %2: linear %3 told %4, remainder %5 told %6")
                              .arg(rate)
                              .arg(n)
                              .arg(to_db(linear))
                              .arg(to_db(split.linear_power))
                              .arg(to_db(remainder))
                              .arg(to_db(split.remainder_power));
        QVERIFY2(std::abs(to_db(split.linear_power / linear)) < 0.5, qPrintable(told));
        QVERIFY2(std::abs(to_db(split.remainder_power / remainder)) < 0.5, qPrintable(told));
      }
    }
  }

  void a_sharp_low_filter_leaves_nothing_behind() {
    const auto master = rumble(12, 48000, 4);
    const auto split = split_of(master, through(master, high_pass(48000, 30, 0.71)), 48000);
    const double depth = to_db(split.remainder_power / mean_square(master, Planar(2, master.frames())));
    QVERIFY2(depth < -70, qPrintable(QString::number(depth)));
  }

  void the_response_is_the_filter() {
    const double rate = 48000;
    const auto master = rumble(15, 48000, 5);
    for (const Biquad& filter : {bell(rate, 1000, 3, 1), all_pass(rate, 200, 0.7), high_pass(rate, 40, 0.71)}) {
      const auto bands = path_bands(split_of(master, through(master, filter), 48000), 6);
      QVERIFY(bands.size() > 50);
      for (const PathBand& band : bands) {
        if (band.low_hz < 60 || band.high_hz > 20000) continue;
        const auto truth = at(filter, std::sqrt(band.low_hz * band.high_hz), rate);
        const auto told = QString("%1 Hz: %2 dB %3 deg, told %4 dB %5 deg")
                              .arg(band.low_hz)
                              .arg(20 * std::log10(std::abs(truth)))
                              .arg(std::arg(truth) * 180 / std::numbers::pi)
                              .arg(band.magnitude_db)
                              .arg(band.phase_deg);
        QVERIFY2(std::abs(20 * std::log10(std::abs(truth)) - band.magnitude_db) < 0.1, qPrintable(told));
        QVERIFY2(std::abs(std::arg(truth / std::polar(1.0, band.phase_deg * std::numbers::pi / 180))) < 0.03,
                 qPrintable(told));
        QVERIFY(band.coherence > 0.999);
      }
    }
  }

  void noise_is_all_remainder_and_coherence_falls() {
    const auto master = rumble(10, 48000, 6);
    const auto ret = with_noise(master, 1e-3, 7);
    const auto split = split_of(master, ret, 48000);
    QVERIFY(std::abs(to_db(split.remainder_power / 1e-6)) < 0.2);
    QVERIFY2(to_db(split.linear_power / split.remainder_power) < -15,
             qPrintable(QString::number(to_db(split.linear_power / split.remainder_power))));
    const auto bands = path_bands(split, 3);
    QVERIFY(bands.front().coherence > bands.back().coherence);
    for (const PathBand& band : bands) {
      QVERIFY(std::abs(band.magnitude_db) < 6 * band.magnitude_error_db + 0.01);
      QVERIFY(std::abs(band.phase_deg) < 6 * band.phase_error_deg + 0.1);
    }
  }

  void what_leaks_across_the_channels_is_linear_too() {
    const auto master = rumble(10, 48000, 8);
    Planar ret = master;
    const double leak = 0.01;
    for (size_t n = 0; n < size_t(ret.frames()); ++n) ret.channel(1)[n] += leak * master.channel(0)[n];
    const auto split = split_of(master, ret, 48000);
    QVERIFY(to_db(split.remainder_power / split.linear_power) < -30);
    QVERIFY(std::abs(crosstalk_db(split, 0, 1).value_or(0) + 40) < 0.2);
    QVERIFY(crosstalk_db(split, 1, 0).value_or(-200) < -70);
    QVERIFY(!crosstalk_db(split, 0, 0) && !crosstalk_db(split, 0, 5));
  }

  void short_silent_and_equal_pairs_have_no_split() {
    const auto master = rumble(1, 48000, 9);
    QVERIFY(split_of(master, master, 48000).empty());
    QVERIFY(split_of(Planar(2, 48000), Planar(2, 48000), 48000).empty());
    QVERIFY(split_of(rumble(0.02, 48000, 1), rumble(0.02, 48000, 2), 48000).empty());
    QVERIFY(path_bands({}, 3).empty());
    const auto brief = split_of(rumble(0.2, 48000, 1), with_noise(rumble(0.2, 48000, 1), 1e-3, 2), 48000);
    QVERIFY(!brief.empty() && std::abs(to_db(brief.remainder_power / 1e-6)) < 1);
  }

  void the_result_depends_on_no_thread_count() {
    const auto master = rumble(20, 44100, 10);
    const auto m = Clip::open(save(folder_ / "m.wav", master, 44100)),
               r = Clip::open(
                   save(folder_ / "r.wav", with_noise(through(master, bell(44100, 300, 2, 1)), 1e-4, 1), 44100));
    Fit fit;
    fit.pairs = plain_pairs(2, 2);
    set_overlap(fit, master.frames(), master.frames());
    const auto sums = residual_sums(*m, *r, fit, {});
    Job one, many;
    one.threads = 1, many.threads = 3;
    const auto a = split_residual(*m, *r, fit, sums, one), b = split_residual(*m, *r, fit, sums, many);
    QVERIFY(a.remainder.power == b.remainder.power && a.linear_power == b.linear_power);
    std::stop_source stop;
    stop.request_stop();
    Job stopped;
    stopped.stop = stop.get_token();
    QVERIFY_THROWS_EXCEPTION(Cancelled, split_residual(*m, *r, fit, sums, stopped));
  }

 private:
  Folder folder_;
};

SHARED_MAIN(TestPath)
#include "test_path.moc"
