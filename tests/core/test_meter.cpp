// The meter against EBU Tech 3341 and 3342, against analysis at every rate, and against an independent witness.
#include <ebur128.h>

#include <QtTest>
#include <cmath>
#include <numeric>

#include "core/dsp/inter_sample.hpp"
#include "core/measure/meter.hpp"
#include "tests/support/share.hpp"
#include "tests/support/stages.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

struct Level {
  double dbfs, seconds;
};

/// Tones in series, the same in every channel, without a jump of phase.
Planar tones(const std::vector<Level>& levels, int rate = 48000, int channels = 2, double hz = 1000) {
  int64_t frames = 0;
  for (const Level& l : levels) frames += std::llround(l.seconds * rate);
  Planar sound(channels, frames);
  size_t at = 0;
  for (const Level& l : levels) {
    const double level = std::pow(10, l.dbfs / 20);
    const size_t end = at + size_t(std::llround(l.seconds * rate));
    for (const size_t from = at; at < end; ++at)  // every channel alike; a whole second of a whole frequency repeats
      sound.channel(0)[at] = at >= from + size_t(rate) && hz == std::floor(hz)
                                 ? sound.channel(0)[at - size_t(rate)]
                                 : level * std::sin(2 * pi * std::remainder(hz * double(at) / rate, 1.0));
  }
  for (int c = 1; c < channels; ++c)
    std::copy(sound.channel(0).begin(), sound.channel(0).end(), sound.channel(c).begin());
  return sound;
}

Loudness heard(const Planar& sound, int rate = 48000, const MeterOptions& options = {}) {
  Meter meter(rate, sound.channels(), options);
  meter.add(sound);
  return meter.finish();
}

std::vector<Level> repeated(const std::vector<Level>& cycle, int times) {
  std::vector<Level> all;
  for (int n = 0; n < times; ++n) all.insert(all.end(), cycle.begin(), cycle.end());
  return all;
}

constexpr double silent = -400;

struct Witness {
  double integrated, range, momentary = -1e9, short_term = -1e9, true_peak = 0;
};
/// `maxima`: momentary every 10 ms and short-term every `short_step` of these as well, which takes the witness its
/// time.
Witness witness(const Planar& sound, int rate, bool maxima = true, int short_step = 1) {
  ebur128_state* state = ebur128_init(unsigned(sound.channels()), unsigned(rate),
                                      EBUR128_MODE_I | EBUR128_MODE_LRA | EBUR128_MODE_TRUE_PEAK);
  std::vector<double> interleaved;
  Witness w{};
  const int64_t step = rate / 100;
  for (int64_t n = 0; n < sound.frames(); ++n) {
    for (int c = 0; c < sound.channels(); ++c) interleaved.push_back(sound.channel(c)[size_t(n)]);
    if ((n + 1) % step != 0 && n + 1 != sound.frames()) continue;
    ebur128_add_frames_double(state, interleaved.data(), interleaved.size() / size_t(sound.channels()));
    interleaved.clear();
    if (!maxima) continue;
    double value = 0;
    if (ebur128_loudness_momentary(state, &value); n >= rate * 2 / 5) w.momentary = std::max(w.momentary, value);
    if ((n + 1) / step % short_step) continue;
    if (ebur128_loudness_shortterm(state, &value); n >= rate * 3) w.short_term = std::max(w.short_term, value);
  }
  ebur128_loudness_global(state, &w.integrated);
  ebur128_loudness_range(state, &w.range);
  for (int c = 0; c < sound.channels(); ++c) {
    double peak = 0;
    ebur128_true_peak(state, unsigned(c), &peak);
    w.true_peak = std::max(w.true_peak, peak);
  }
  ebur128_destroy(&state);
  return w;
}

/// How a value lies by another, in words where it lies too far.
#define NEAR(got, wanted, tolerance)                                        \
  QVERIFY2((got).has_value() && std::abs(*(got) - (wanted)) <= (tolerance), \
           qPrintable(QString("%1 for %2").arg((got).value_or(-999), 0, 'f', 4).arg(double(wanted))))

}  // namespace

class TestMeter : public StageTest {
  Q_OBJECT

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  void tech_3341_integrated() {  // cases 1 to 6
    for (const double level : {-23.0, -33.0}) {
      const auto l = heard(tones({{level, 20}}));
      NEAR(l.integrated_lufs, level, 0.1);
      NEAR(l.momentary_max_lufs, level, 0.1);
      NEAR(l.short_term_max_lufs, level, 0.1);
    }
    NEAR(heard(tones({{-36, 10}, {-23, 60}, {-36, 10}})).integrated_lufs, -23, 0.1);
    NEAR(heard(tones({{-72, 10}, {-36, 10}, {-23, 60}, {-36, 10}, {-72, 10}})).integrated_lufs, -23, 0.1);
    NEAR(heard(tones({{-26, 20}, {-20, 20.1}, {-26, 20}})).integrated_lufs, -23, 0.1);
    Planar five = tones({{0, 20}}, 48000, 5);
    for (const auto& [channel, level] : {std::pair{0, -28.0}, {1, -28.0}, {2, -24.0}, {3, -30.0}, {4, -30.0}})
      for (double& x : five.channel(channel)) x *= std::pow(10, level / 20);
    NEAR(heard(five).integrated_lufs, -23, 0.1);
  }

  void tech_3341_short_term() {  // cases 9 to 11
    NEAR(heard(tones(repeated({{-20, 1.34}, {-30, 1.66}}, 5))).short_term_max_lufs, -23, 0.1);
    for (int n = 0; n < 20; ++n)
      NEAR(heard(tones({{silent, 0.15 * n}, {-23, 3}, {silent, 1}})).short_term_max_lufs, -23, 0.1);
    std::vector<Level> rising;
    for (int n = 0; n < 20; ++n) {
      const double wait = 0.15 * n;
      rising.insert(rising.end(), {{silent, wait}, {-38.0 + n, 3}, {silent, 3 - wait}});
      if (n % 12 == 7) NEAR(heard(tones(rising)).short_term_max_lufs, -38 + n, 0.1);
    }
  }

  void tech_3341_momentary() {  // cases 12 to 14
    NEAR(heard(tones(repeated({{-20, 0.18}, {-30, 0.22}}, 25))).momentary_max_lufs, -23, 0.1);
    std::vector<Level> rising;
    for (int n = 0; n < 20; ++n) {
      const double wait = 0.02 * n;
      NEAR(heard(tones({{silent, wait}, {-23, 0.4}, {silent, 1}})).momentary_max_lufs, -23, 0.1);
      rising.insert(rising.end(), {{silent, wait}, {-38.0 + n, 0.4}, {silent, 0.4 - wait}});
      if (n % 12 == 7) NEAR(heard(tones(rising)).momentary_max_lufs, -38 + n, 0.1);
    }
  }

  void tech_3341_true_peak() {  // cases 15 to 19: phase and level of a tone at a part of the rate
    struct Case {
      double part, degrees, level, dbtp;
    };
    for (const auto& c : {Case{4, 0, 0.5, -6.02},
                          {4, 45, 0.5, -6.02},
                          {6, 60, 0.5, -6.02},
                          {8, 67.5, 0.5, -6.02},
                          {4, 45, 1.41, 2.98}}) {
      Planar sound(2, 48000);
      for (size_t n = 0; n < 48000; ++n)
        for (int k = 0; k < 2; ++k)
          sound.channel(k)[n] = c.level * std::sin(2 * pi * double(n) / c.part + c.degrees * pi / 180) *
                                std::min(1.0, double(std::min(n, 47999 - n)) / 4800);
      NEAR(heard(sound).true_peak_dbtp, c.dbtp, 0.02);
    }
    for (int quarter = 0; quarter < 4; ++quarter) {  // cases 20 to 23: one louder swell, a quarter of a sample apart
      Planar sound(2, 48000);
      for (size_t n = 0; n < 48000; ++n) {
        const double t = double(n) - 24000 + quarter / 4.0;
        for (int k = 0; k < 2; ++k)
          sound.channel(k)[n] = std::cos(2 * pi * t / 6) * (0.5 + 0.5 * std::exp(-t * t / 200)) *
                                std::min(1.0, double(std::min(n, 47999 - n)) / 4800);
      }
      const auto l = heard(sound);
      NEAR(l.true_peak_dbtp, 0, 0.01);
      QVERIFY(std::abs(l.true_peak_at_s - (24000 - quarter / 4.0) / 48000) < 1e-6);
    }
  }

  void tech_3342_range() {  // cases 1 to 4
    NEAR(range(tones({{-20, 20}, {-30, 20}})), 10, 1);
    NEAR(range(tones({{-20, 20}, {-15, 20}})), 5, 1);
    NEAR(range(tones({{-40, 20}, {-20, 20}})), 20, 1);
    NEAR(range(tones({{-50, 20}, {-35, 20}, {-20, 20}, {-35, 20}, {-50, 20}})), 15, 1);
  }

  void any_rate_gives_the_analytic_value_data() {
    QTest::addColumn<int>("rate");
    for (const int rate : {8000, 11025, 16000, 22050, 32000, 44100, 48000, 88200, 96000, 192000, 384000})
      QTest::newRow(QByteArray::number(rate)) << rate;
  }
  /// Analysis: the weighting's gain at a frequency is that of the 48 kHz filter of BS.1770.
  void any_rate_gives_the_analytic_value() {
    QFETCH(int, rate);
    for (const double hz : {50.0, 400.0, 997.0, 2000.0, 3500.0}) {
      const double truth = -0.691 + 20 * std::log10(gain_at(hz)) - 20;  // two channels of a tone: its peak level
      const auto l = heard(tones({{-20, 5}}, rate, 2, hz), rate);
      const double tolerance = hz == 997 ? 0.02 : 0.03;  // beside it the transform bends by another hundredth
      NEAR(l.integrated_lufs, truth, tolerance);
      NEAR(l.momentary_max_lufs, truth, tolerance);
      NEAR(l.short_term_max_lufs, truth, tolerance);
      NEAR(l.rms_dbfs, -20 - 3.0103, 0.01);
    }
    dsp::Noise chance{uint64_t(rate)};
    for (const double share : {0.003, 0.1, 0.2, 0.25, 1 / 3.0, 0.4, 0.4375, 0.45}) {
      const double phase = chance.between(0, 6.28);
      Planar sound(1, rate / 4);
      const size_t frames = size_t(sound.frames());
      for (size_t n = 0; n < frames; ++n)
        sound.channel(0)[n] = 0.8 * std::sin(2 * pi * std::remainder(share * double(n), 1.0) + phase) *
                              std::min(1.0, double(std::min(n, frames - 1 - n)) / 400);
      NEAR(heard(sound, rate).true_peak_dbtp, 20 * std::log10(0.8), 0.05);
    }
  }

  void a_hundred_programmes_agree_with_the_witness() {
    dsp::Noise chance(2026);
    for (int n = 0; n < 100; ++n) {
      const int rates[] = {44100, 48000, 48000, 96000}, rate = rates[n % 4];
      Planar sound = scaled(Programme(chance.between(4, 7), uint64_t(n), 18000).render(rate), chance.between(0.05, 2));
      const auto quiet = size_t(chance.between(0, 0.5) * double(sound.frames()));
      for (int c = 0; c < 2; ++c)
        for (double& x : sound.channel(c).first(quiet)) x *= 0.03;
      const auto ours = heard(sound, rate);
      const bool closely = n % 5 == 0;  // the others' short-term maximum falls between two reads of the witness
      const auto theirs = witness(sound, rate, true, closely ? 1 : 20);
      NEAR(ours.integrated_lufs, theirs.integrated, 0.02);
      NEAR(ours.momentary_max_lufs, theirs.momentary, 0.02);
      QVERIFY(theirs.short_term < *ours.short_term_max_lufs + 0.02);
      NEAR(ours.short_term_max_lufs, theirs.short_term, closely ? 0.02 : 0.5);
      QVERIFY(*ours.true_peak_dbtp > 20 * std::log10(theirs.true_peak) - 0.05);
      QVERIFY(*ours.true_peak_dbtp < 20 * std::log10(theirs.true_peak) + 0.7);  // the witness reads at four places
    }
  }

  void the_range_of_a_long_programme_agrees_with_the_witness() {  // which reads every second; we every 0.1 s
    dsp::Noise chance(5);
    std::vector<Level> levels;
    for (int n = 0; n < 60; ++n) levels.push_back({chance.between(-38, -12), chance.between(2, 7)});
    const Planar sound = tones(levels);
    NEAR(range(sound), witness(sound, 48000, false).range, 0.3);
  }

  void blocks_and_threads_change_nothing() {
    for (const int rate : {44100, 11025, 192000}) {
      const Planar sound = with_noise(Programme(40.0 * 44100 / rate, 4).render(rate), 0.01, 3);
      const auto file = clip(sound, rate);
      const Loudness whole = measure_loudness(*file, {}, Job{{}, {}, 1}),
                     two = measure_loudness(*file, {}, Job{{}, {}, 2});
      dsp::Noise chance(6);
      Meter meter(rate, 2);
      for (int64_t at = 0; at < sound.frames();) {
        const int64_t frames = std::min(sound.frames() - at, int64_t(chance.between(1, 20000)));
        Planar block(2, frames);
        for (int c = 0; c < 2; ++c) std::copy_n(sound.channel(c).begin() + at, frames, block.channel(c).begin());
        meter.add(block);
        at += frames;
      }
      const Loudness pieced = meter.finish();
      for (const Loudness* other : {&two, &pieced}) {
        QVERIFY(other->pieces == whole.pieces && other->peaks == whole.peaks);
        QVERIFY(other->integrated_lufs == whole.integrated_lufs && other->true_peak_dbtp == whole.true_peak_dbtp);
        QVERIFY(other->momentary_max_lufs == whole.momentary_max_lufs && other->psr_min_db == whole.psr_min_db);
        QVERIFY(other->rms_dbfs == whole.rms_dbfs && other->over_count == whole.over_count);
        QVERIFY(other->true_peak_at_s == whole.true_peak_at_s);
      }
    }
  }

  /// Every window's true peak, read without passing anything over, gives the same least PSR and the same overs.
  void what_is_passed_over_does_not_matter() {
    Planar sound = scaled(Programme(14, 9, 19000).render(44100), 9);
    for (int c = 0; c < 2; ++c)
      for (double& x : sound.channel(c)) x = std::clamp(x, -0.97, 0.97);
    const auto l = heard(sound, 44100);
    const dsp::InterSample between;
    std::vector<double> tops;
    double greatest = 0;
    for (int c = 0; c < 2; ++c) {
      std::vector<double> in(size_t(sound.frames()) + 400);
      std::copy(sound.channel(c).begin(), sound.channel(c).end(), in.begin() + 100);
      tops.resize(size_t(sound.frames()) / between.chunk, 0.0);
      for (size_t m = 0; m < tops.size(); ++m) {
        tops[m] = std::max(tops[m], between.top(in.data() + 100 + m * between.chunk).level);
        greatest = std::max(greatest, tops[m]);
      }
    }
    NEAR(l.true_peak_dbtp, 20 * std::log10(greatest), 1e-9);
    double least = 1e9;
    for (size_t n = 30; n <= l.pieces.size(); ++n) {
      double mean = 0, top = 0;  // at 10 ms steps there are lower ones between
      for (size_t k = n - 30; k < n; ++k) mean += l.pieces[k] / 30;
      for (size_t m = (n - 30) * 4410 / 32; m < std::min(tops.size(), n * 4410 / 32); ++m) top = std::max(top, tops[m]);
      least = std::min(least, 20 * std::log10(top) - *lufs(mean));
    }
    QVERIFY2(*l.psr_min_db < least + 0.02 && *l.psr_min_db > least - 0.6,
             qPrintable(QString("%1 %2").arg(*l.psr_min_db).arg(least)));
    int64_t moments = 0;
    double last = -1;
    for (size_t m = 0; m < tops.size(); ++m) {
      if (tops[m] <= 1) continue;
      moments += last < 0 || double(m * 32) / 44100 - last >= 0.1;
      last = double(m * 32) / 44100;
    }
    QVERIFY2(std::abs(double(l.over_count - moments)) <= 1,
             qPrintable(QString("%1 %2").arg(l.over_count).arg(moments)));
    QVERIFY(moments > 5);
  }

  void mid_side_one_channel_and_dual_mono() {
    Planar sound = Programme(8, 2).render(48000);
    Planar mid(1, sound.frames()), side(1, sound.frames()), right(1, sound.frames());
    for (size_t n = 0; n < size_t(sound.frames()); ++n) {
      const double l = sound.channel(0)[n], r = sound.channel(1)[n];
      mid.channel(0)[n] = (l + r) / 2, side.channel(0)[n] = (l - r) / 2, right.channel(0)[n] = r;
    }
    using Listen = MeterOptions::Listen;
    for (const auto& [listen, alone] : {std::pair{Listen::mid, &mid}, {Listen::side, &side}, {Listen::one, &right}}) {
      MeterOptions options;
      options.listen = listen, options.channel = 1;
      NEAR(heard(sound, 48000, options).integrated_lufs, *heard(*alone).integrated_lufs, 1e-9);
      NEAR(heard(sound, 48000, options).true_peak_dbtp, *heard(*alone).true_peak_dbtp, 1e-9);
      NEAR(heard(sound, 48000, options).rms_dbfs, *heard(*alone).rms_dbfs, 1e-9);
      options.dual_mono = true;
      NEAR(heard(sound, 48000, options).integrated_lufs, *heard(*alone).integrated_lufs + 3.0103, 1e-3);
    }
    MeterOptions none;
    none.listen = Listen::one, none.channel = 2;
    QVERIFY_EXCEPTION_THROWN(heard(sound, 48000, none), std::invalid_argument);
  }

  void surrounds_weigh_more_and_the_lfe_nothing() {
    for (const int channels : {6, 7, 8}) {
      const Planar all = tones({{-20, 3}}, 48000, channels);
      for (int c = 0; c < channels; ++c) {
        Planar one(channels, all.frames());
        std::copy(all.channel(c).begin(), all.channel(c).end(), one.channel(c).begin());
        const auto l = heard(one);
        const bool side = c >= (channels == 6 ? 4 : channels == 7 ? 5 : 6);
        if (c == 3)
          QVERIFY(!l.integrated_lufs && l.true_peak_dbtp);
        else
          NEAR(l.integrated_lufs, -23.01 + (side ? 10 * std::log10(1.41) : 0), 0.02);
      }
    }
  }

  void a_selection_is_measured_by_itself() {
    const auto file = clip(tones({{-30, 10}, {-18, 10}, {-40, 10}}));
    MeterOptions options;
    options.first = 10 * 48000, options.last = 20 * 48000;
    const auto l = measure_loudness(*file, options);
    NEAR(l.integrated_lufs, -18, 0.02);
    NEAR(l.rms_dbfs, -18 - 3.01, 0.01);
    QVERIFY(l.true_peak_at_s >= 10 && l.true_peak_at_s <= 20 && l.duration_s == 10);
  }

  void what_does_not_exist_is_empty() {
    const auto nothing = heard(Planar(2, 0));
    QVERIFY(!nothing.integrated_lufs && !nothing.true_peak_dbtp && !nothing.rms_dbfs && nothing.pieces.empty());
    const auto silence = heard(Planar(2, 48000 * 5));
    QVERIFY(!silence.integrated_lufs && !silence.momentary_max_lufs && !silence.range && !silence.psr_min_db);
    QVERIFY(!silence.plr_db && !silence.crest_db && silence.over_count == 0);
    const auto one = heard(tones({{-6, 1.0 / 48000}}));
    QVERIFY(!one.integrated_lufs && one.duration_s > 0);
    const auto brief = heard(tones({{-20, 2}}));
    QVERIFY(brief.integrated_lufs && brief.momentary_max_lufs && !brief.short_term_max_lufs && !brief.range);
  }

  void an_album_is_one_programme() {
    const Planar first = tones({{-20, 30}}), second = tones({{-32, 30}});
    const auto a = heard(first), b = heard(second), album = album_of({&a, &b});
    QVERIFY(album.duration_s == 60);
    NEAR(album.integrated_lufs, *heard(tones({{-20, 30}, {-32, 30}})).integrated_lufs, 0.05);
    NEAR(album.true_peak_dbtp, -20, 0.01);
    NEAR(std::optional(album.range->lu()), 12, 0.1);
  }

  void histograms_sum_to_one() {
    const auto l = heard(tones({{-20, 30}, {-32, 10}}));
    const auto h = loudness_histogram(l.pieces, 4);
    QVERIFY(std::abs(std::accumulate(h.share.begin(), h.share.end(), 0.0) - 1) < 1e-9);
    QVERIFY(h.share[size_t(-20.5 + 70)] + h.share[size_t(-19.5 + 70)] > 0.7);
  }

 private:
  static std::optional<double> range(const Planar& sound) {
    const auto l = heard(sound);
    return l.range ? std::optional(l.range->lu()) : std::nullopt;
  }
  /// Gain of the 48 kHz filters, from their coefficients.
  static double gain_at(double hz) {
    const KWeighting k(48000);
    auto of = [&](const std::array<double, 5>& f) {
      const auto z = std::polar(1.0, -2 * pi * hz / 48000);
      return std::abs((f[0] + f[1] * z + f[2] * z * z) / (1.0 + f[3] * z + f[4] * z * z));
    };
    return of(k.shelf()) * of(k.high_pass());
  }

  /// Three seconds of a tone between two clicks that no window on whole tenths of a second fits between.
  void the_least_psr_is_read_every_10_ms() {
    for (const int rate : {44100, 48000, 96000}) {
      Planar sound(1, rate * 12);
      for (size_t n = 0; n < size_t(sound.frames()); ++n)
        sound.channel(0)[n] = 0.1 * std::sin(2 * std::numbers::pi * 997 * double(n) / rate);
      for (double at = 0.036; at < 12; at += 3.02) sound.channel(0)[size_t(at * rate)] = 1;
      const auto l = heard(sound, rate);
      const double tone = -20 - (*l.short_term_max_lufs);  // its peak against its loudness
      QVERIFY2(*l.psr_min_db < tone + 0.5, qPrintable(QString("%1 for %2").arg(*l.psr_min_db).arg(tone)));
      const double since = l.psr_min_at_s - 0.036, into = since - 3.02 * std::floor(since / 3.02);
      QVERIFY2(into > 3 && into < 3.02, qPrintable(QString::number(into)));
    }
  }
};

SHARED_MAIN(TestMeter)
#include "test_meter.moc"
