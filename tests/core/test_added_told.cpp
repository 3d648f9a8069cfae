// What was added is told as that: an offset is no curve and leaves the gain alone, coloured noise and another programme
// in a file of the master's own word length are no noise shaping, and noise shaping is.
#include <QtTest>
#include <cmath>
#include <numbers>

#include "core/compare/explain.hpp"
#include "core/compare/requantised.hpp"
#include "core/dsp/fft.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"
#include "tests/support/treatments.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

constexpr double turn = 2 * std::numbers::pi;

Planar offset_by(Planar sound, double by) {
  for (int c = 0; c < sound.channels(); ++c)
    for (double& x : sound.channel(c)) x += by;
  return sound;
}

/// With noise that falls by 6 dB an octave from 20 Hz on, of this RMS.
Planar with_brown_noise(Planar sound, double rate, double rms, uint64_t seed) {
  for (int c = 0; c < sound.channels(); ++c) {
    dsp::Noise chance(seed + uint64_t(c));
    const double keep = std::exp(-turn * 20 / rate);
    double now = 0;
    for (double& x : sound.channel(c)) {
      now = keep * now + std::sqrt(1 - keep * keep) * chance.gaussian();
      x += rms * now;
    }
  }
  return sound;
}

/// Rounded to 16 bits with triangular dither inside a loop whose error is filtered by 1 + sum of taps z^-k.
Planar shaped_to_16_bits(Planar sound, const std::vector<double>& taps, uint64_t seed) {
  const double step = std::ldexp(1.0, -15);
  for (int c = 0; c < sound.channels(); ++c) {
    dsp::Noise chance(seed + uint64_t(c));
    std::vector<double> past(taps.size(), 0);
    for (double& x : sound.channel(c)) {
      double want = x / step;
      for (size_t k = 0; k < taps.size(); ++k) want += taps[k] * past[k];
      const double dither = chance.uniform() - chance.uniform();
      const double is = std::round(want + dither);
      std::rotate(past.rbegin(), past.rbegin() + 1, past.rend());
      past[0] = is - want;
      x = is * step;
    }
  }
  return sound;
}

/// The taps of a filter that has all its zeros within the unit circle, by chance.
std::vector<double> least_phase_taps(dsp::Noise& chance) {
  std::vector<double> taps{1};
  for (int pair = 0; pair < 3; ++pair) {
    const double radius = 0.95 * chance.uniform(), angle = std::numbers::pi * chance.uniform();
    const std::array<double, 3> section{1, -2 * radius * std::cos(angle), radius * radius};
    std::vector<double> next(taps.size() + 2, 0);
    for (size_t a = 0; a < taps.size(); ++a)
      for (size_t b = 0; b < section.size(); ++b) next[a + b] += taps[a] * section[b];
    taps = next;
  }
  return taps;
}

const Json& value(const NullReport& r, const char* code, const char* key) { return cause(r, code)->values.at(key); }

}  // namespace

class TestAddedTold : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  /// A curve goes through an offset, too.
  void an_offset_beside_a_gain_that_moves_is_no_curve() {
    for (const auto& [name, offset] : {std::pair{"choir", 0.0044}, {"swells", 0.01}, {"dense", 0.0044}}) {
      const Planar sound = programme(name, 48000, 14, 31);
      const auto moved =
          gained(sound, [](size_t n) { return 0.8 * (1 + 0.07 * std::sin(turn * 3.36 * double(n) / 48000)); });
      const auto r = told_of(folder_, sound, offset_by(moved, offset), 48000, WordFormat::float32);
      QVERIFY2(tells(r, "gain_ride") && tells(r, "dc") && !tells(r, "distortion"), qPrintable(told(r)));
      QVERIFY2(is_near(value(r, "dc", "offset").get<double>(), offset, 0.02 * offset), qPrintable(told(r)));
    }
  }

  /// ... nor is a curve an offset.
  void a_curve_beside_an_offset_is_told() {
    const Planar sound = programme("dense", 44100, 10, 32);
    Planar bent = sound;
    for (int c = 0; c < 2; ++c)
      for (double& x : bent.channel(c)) x = std::tanh(0.8 * x) / 0.8;
    const auto r = told_of(folder_, sound, offset_by(bent, 0.002), 44100, WordFormat::float32);
    QVERIFY2(tells(r, "distortion"), qPrintable(told(r)));
  }

  /// A gain that is fitted without the offset leans on what the programme has of one.
  void the_gain_beside_an_offset_is_the_gain() {
    for (const char* name : {"speech", "bass", "near_mono"})
      for (const double own : {0.0, 0.003}) {
        const Planar sound = offset_by(programme(name, 44100, 10, 33), own);
        const Planar ret = offset_by(scaled(sound, std::pow(10, -2 / 20.0)), 0.004);
        const auto r = told_of(folder_, sound, ret, 44100, WordFormat::float32);
        QVERIFY2(tells(r, "dc") && is_near(value(r, "gain", "gain_db").get<double>(), -2, 0.002), qPrintable(told(r)));
        QVERIFY2(r.causes.back().after_db.value_or(-999) < -90, qPrintable(told(r)));
      }
  }

  /// A file of 16 bits was rounded to them whatever lies on top of it.
  void what_was_added_to_16_bits_is_no_shaping() {
    for (const char* name : {"from_silence", "choir", "dense"}) {
      const Planar sound = requantised(programme(name, 44100, 12, 34), 16, false);
      const auto noisy = told_of(folder_, sound, requantised(with_brown_noise(sound, 44100, 5e-4, 5), 16, false), 44100,
                                 WordFormat::pcm16);
      QVERIFY2(noisy.kind == Kind::noise && tells(noisy, "noise") && !tells(noisy, "word_length"),
               qPrintable(told(noisy)));
      QVERIFY2(is_near(value(noisy, "noise", "level_dbfs").get<double>(), 20 * std::log10(5e-4), 1.5),
               qPrintable(told(noisy)));
    }
    const Planar sound = requantised(programme("choir", 44100, 12, 35), 16, false);
    Planar both = sound;
    const Planar other = programme("near_mono", 44100, 12, 36);
    for (int c = 0; c < 2; ++c)
      for (size_t n = 0; n < size_t(both.frames()); ++n) both.channel(c)[n] += 2e-3 * other.channel(c)[n];
    const auto r = told_of(folder_, sound, requantised(both, 16, false), 44100, WordFormat::pcm16);
    QVERIFY2(tells(r, "other_programme") && !tells(r, "word_length"), qPrintable(told(r)));
  }

  /// Far under what an EQ took out another programme shows, and what the EQ is not known better by is none.
  void another_programme_far_under_an_eq_is_told() {
    for (const auto& [name, other] : {std::pair{"loop", "dense"}, {"wide", "speech"}, {"drums", "choir"}}) {
      const Planar sound = programme(name, 44100, 12, 38), top = programme(other, 44100, 12, 39);
      const Planar eq = filtered(scaled(sound, 0.7), 44100, "bell", 2500, 1.2, 4);
      Planar both = eq;
      for (int c = 0; c < 2; ++c)
        for (size_t n = 0; n < size_t(both.frames()); ++n) both.channel(c)[n] += 8e-3 * top.channel(c)[n];
      const auto r = told_of(folder_, sound, both, 44100, WordFormat::pcm24);
      QVERIFY2(tells(r, "eq") && tells(r, "other_programme"), qPrintable(told(r)));
      const auto alone = told_of(folder_, sound, requantised(eq, 12, false), 44100, WordFormat::pcm16);
      QVERIFY2(tells(alone, "eq") && !tells(alone, "other_programme"), qPrintable(told(alone)));
    }
  }

  /// A curve with a memory bends a bass as no cause does; what follows it a few milliseconds later is no echo.
  void a_bass_that_is_bent_behind_a_high_pass_has_no_echo() {
    for (const uint64_t seed : {40u, 41u, 42u}) {
      const Planar sound = programme("bass", 44100, 12, seed);
      Planar bent = sound;
      for (int c = 0; c < 2; ++c) {
        double before = 0, out = 0;
        for (double& x : bent.channel(c)) {
          const double y = std::clamp(2.8 * x, -1.0, 1.0), now = y - y * y * y / 3;
          out = now - before + 0.995 * out, before = now;
          x = 0.125 * x + 0.19 * out;
        }
      }
      const auto r = told_of(folder_, sound, bent, 44100, WordFormat::float32);
      const Cause* echo = cause(r, "echo");
      QVERIFY2(!echo || echo->values["level_db"].get<double>() > -25, qPrintable(told(r)));
    }
  }

  /// Five taps of Lipshitz, Wannamaker and Vanderkooy (J. Audio Eng. Soc. 39, 1991, table 1), two zeros at half the
  /// rate, and one.
  void shaping_is_shaping() {
    const Planar sound = programme("dense", 44100, 8, 37);
    for (const std::vector<double>& taps : {std::vector{-2.033, 2.165, -1.959, 1.590, -0.6149}, {-2.0, 1.0}, {-1.0}}) {
      const auto r =
          explained_null_of(save(folder_ / "m.wav", sound, 44100, WordFormat::pcm24),
                            save(folder_ / "r.wav", shaped_to_16_bits(sound, taps, 7), 44100, WordFormat::pcm16));
      QVERIFY2(r.kind == Kind::word_length && value(r, "word_length", "dither") == "shaped", qPrintable(told(r)));
    }
  }

  /// Gerzon and Craven's theorem: the mean of a shaped error's logarithm is the unshaped one's.
  void a_loop_moves_an_error_and_leaves_its_logarithm() {
    dsp::Noise chance(11);
    constexpr size_t size = 1 << 13;
    for (int n = 0; n < 200; ++n) {
      const double variance = 0.05 + chance.uniform();
      dsp::RealFft<double> fft(size);
      const auto taps = least_phase_taps(chance);
      std::fill(fft.time().begin(), fft.time().end(), 0.0);
      std::copy(taps.begin(), taps.end(), fft.time().begin());
      fft.forward();
      std::vector<double> power;
      for (const auto& x : fft.spectrum()) power.push_back(variance / double(size / 2 + 1) * std::norm(x));
      QVERIFY(is_near(log_mean_density(power), variance, 0.01 * variance));
    }
  }

 private:
  const Folder folder_{};
};

SHARED_MAIN(TestAddedTold)
#include "test_added_told.moc"
