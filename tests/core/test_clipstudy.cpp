// What is studied of one clip by itself: word length, origin, flat tops, overs, and the masking model.
#include <QtTest>
#include <cmath>
#include <numbers>

#include "core/compare/dynamics.hpp"
#include "core/dsp/fft.hpp"
#include "core/measure/masking.hpp"
#include "core/measure/origin.hpp"
#include "core/measure/survey.hpp"
#include "core/measure/word_length.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

Planar with_tone(Planar sound, double hz, double level, int rate) {
  for (int c = 0; c < sound.channels(); ++c)
    for (int64_t n = 0; n < sound.frames(); ++n)
      sound.channel(c)[size_t(n)] += level * std::sin(2 * std::numbers::pi * hz * double(n) / rate);
  return sound;
}

}  // namespace

class TestClipstudy : public QObject {
  Q_OBJECT

  std::shared_ptr<const Clip> clip(const Planar& sound, int rate, WordFormat word = WordFormat::float64) {
    return Clip::open(save(folder_ / QString("c%1.wav").arg(++made_).toStdString(), sound, rate, word));
  }

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  // ISO/IEC 11172-3, table D.1b (44.1 kHz): frequency, critical band rate, threshold in quiet.
  void thresholds_and_bark_are_those_of_the_standard() {
    struct Line {
      double hz, bark, threshold;
    };
    for (const Line& line : {Line{86.13, 0.850, 25.87},
                             {172.27, 1.694, 14.85},
                             {258.40, 2.525, 10.72},
                             {344.53, 3.337, 8.50},
                             {430.66, 4.124, 7.10},
                             {516.80, 4.882, 6.11},
                             {602.93, 5.608, 5.37},
                             {689.06, 6.301, 4.79},
                             {775.20, 6.959, 4.32},
                             {861.33, 7.581, 3.92},
                             {947.46, 8.169, 3.57},
                             {1033.59, 8.723, 3.25}}) {
      QVERIFY2(std::abs(bark_of(line.hz) - line.bark) < 0.002, qPrintable(QString::number(line.hz)));
      QVERIFY2(std::abs(threshold_in_quiet_db(line.hz) - line.threshold) < 0.02, qPrintable(QString::number(line.hz)));
    }
  }

  // The masking function of D.1 step 6, by its own corners: it is continuous and has the slopes that are written there.
  void the_masking_function_has_its_slopes() {
    const Masker tone{10, 80, true}, noise{10, 80, false};
    const double index = -1.525 - 0.275 * 10 - 4.5;
    QVERIFY(std::abs(masked_level_db(tone, 10) - (80 + index)) < 1e-9);
    QVERIFY(std::abs(masked_level_db(noise, 10) - (80 - 1.525 - 1.75 - 0.5)) < 1e-9);
    QVERIFY(std::abs(masked_level_db(tone, 11) - (80 + index - 17)) < 1e-9);
    QVERIFY(std::abs(masked_level_db(tone, 9) - (80 + index - (0.4 * 80 + 6))) < 1e-9);
    QVERIFY(std::abs(masked_level_db(tone, 8) - (80 + index - 17 - 38)) < 1e-9);
    QVERIFY(std::abs(masked_level_db(tone, 13) - (80 + index - 17 - 2 * (17 - 12))) < 1e-9);
    QVERIFY(masked_level_db(tone, 18.01) <= -200 && masked_level_db(tone, 6.9) <= -200);
    for (double z = 7.05; z < 17.9; z += 0.01)
      QVERIFY(std::abs(masked_level_db(tone, z) - masked_level_db(tone, z + 0.01)) < 0.5);
  }

  void a_tone_masks_its_neighbours_and_a_steady_noise_more() {
    const size_t size = 1024;
    const auto window = dsp::hann(size);
    auto levels = [&](auto sample) {
      dsp::RealFft<double> fft(size);
      for (size_t n = 0; n < size; ++n) fft.time()[n] = window[n] * sample(n);
      fft.forward();
      std::vector<double> db;
      for (const auto& x : fft.spectrum())
        db.push_back(96 + 10 * std::log10(16 * std::norm(x) / double(size * size) + 1e-30));
      return db;
    };
    const double bin_hz = 48000.0 / size;
    const auto tone = find_maskers(
        levels([](size_t n) { return 0.1 * std::sin(2 * std::numbers::pi * 1000 * double(n) / 48000); }), bin_hz);
    const auto strongest =
        *std::max_element(tone.begin(), tone.end(), [](auto& a, auto& b) { return a.level_db < b.level_db; });
    QVERIFY(strongest.tonal && std::abs(strongest.bark - bark_of(1000)) < 0.3);
    QVERIFY2(std::abs(strongest.level_db - 76 - 1.76) < 1,
             qPrintable(QString::number(strongest.level_db)));  // three bins of a Hann window
    dsp::Noise chance(4);
    const auto noise = find_maskers(levels([&](size_t) { return 0.1 * chance.gaussian(); }), bin_hz);
    QVERIFY(std::count_if(noise.begin(), noise.end(), [](auto& m) { return !m.tonal; }) >= 15);
    const auto edges = critical_band_edges(24000);
    QCOMPARE(edges.size(), size_t(26));
    const auto by_tone = band_thresholds_db(tone, edges), by_noise = band_thresholds_db(noise, edges),
               quiet = band_thresholds_db({}, edges);
    QVERIFY(by_tone[8] > quiet[8] + 30);  // the tone's own band
    QVERIFY(by_tone[1] < quiet[1] + 1);   // far below it nothing is covered
    for (size_t b = 2; b < 20; ++b) QVERIFY(by_noise[b] > quiet[b] + 20);
    QVERIFY(find_maskers(std::vector<double>(513, -200.0), bin_hz).empty());
  }

  void words_are_counted_by_channel_and_over_time() {
    const int rate = 48000;
    auto sound = requantised(scaled(Programme(4, 3).render(rate), 0.4), 24, true);
    const auto coarse = requantised(sound, 16, false);
    for (int64_t n = 0; n < sound.frames(); ++n) {
      sound.channel(1)[size_t(n)] = coarse.channel(1)[size_t(n)];                // one channel with 16 bits
      if (n < rate) sound.channel(0)[size_t(n)] = coarse.channel(0)[size_t(n)];  // the other for the first second
    }
    const auto c = clip(sound, rate, WordFormat::pcm24);
    const auto study = study_words(*c, survey(*c).levels.bits_used.value()).value();
    QCOMPARE(study.channels[0].bits_used, 24);
    QCOMPARE(study.channels[1].bits_used, 16);
    QCOMPARE(int(study.bits_over_time.front()), 16);
    QCOMPARE(int(study.bits_over_time[size_t(2 / study.column_s)]), 24);
    QVERIFY(study.channels[1].activity[16] == 0 && study.channels[1].activity[23] == 0);
    QVERIFY(std::abs(study.channels[0].activity[23] - 0.375) < 0.06);  // three quarters of the time dither runs in it
    QVERIFY(study.channels[1].activity[15] > 0.2);
    QVERIFY(!study.idle_in_silence());
    QVERIFY(!study_words(*clip(sound, rate), 24));  // floating point has no word length
  }

  /// Against the words themselves, bit by bit.
  void how_often_a_bit_changes_is_counted_to_the_sample() {
    dsp::Noise chance(31);
    for (const auto& [bits, format] : {std::pair{16, WordFormat::pcm16}, {24, WordFormat::pcm24}}) {
      const int64_t frames = 3000 + int64_t(chance.between(0, 400000));
      Planar sound(2, frames);
      for (int c = 0; c < 2; ++c)
        for (double& x : sound.channel(c))
          x = std::ldexp(std::round(std::ldexp(chance.between(-1, 0.999), bits - 1)), 1 - bits);
      const auto study = study_words(*clip(sound, 44100, format), bits).value();
      for (size_t bit = 0; bit < size_t(bits); ++bit) {
        int64_t changes = 0;
        uint32_t last = 0;
        for (const double x : sound.channel(1)) {
          const auto word = uint32_t(int32_t(std::ldexp(x, 31)));
          changes += ((word ^ last) >> (31 - bit)) & 1, last = word;
        }
        QVERIFY(is_near(study.channels[1].activity[bit], double(changes) / double(frames), 1e-9));
      }
    }
  }

  void idle_silence_and_empty_codes_are_seen() {
    const int rate = 44100;
    auto sound = requantised(scaled(Programme(4, 5).render(rate), 0.02), 16, false);
    for (int64_t n = rate; n < 2 * rate; ++n) sound.channel(0)[size_t(n)] = sound.channel(1)[size_t(n)] = 0;
    auto c = clip(sound, rate, WordFormat::pcm16);
    QVERIFY(study_words(*c, 16)->idle_in_silence());
    QVERIFY(study_words(*c, 16)->channels[0].empty_share < 0.02);
    auto dithered = requantised(sound, 16, true);
    QVERIFY(!study_words(*clip(dithered, rate, WordFormat::pcm16), 16)->idle_in_silence());
    auto louder = requantised(scaled(sound, 1.5), 16, false);  // two codes in three are hit
    const double empty = study_words(*clip(louder, rate, WordFormat::pcm16), 16)->channels[0].empty_share;
    QVERIFY2(std::abs(empty - 1.0 / 3) < 0.05, qPrintable(QString::number(empty)));
    louder = requantised(scaled(sound, 1.5), 16, true);
    QVERIFY(study_words(*clip(louder, rate, WordFormat::pcm16), 16)->channels[0].empty_share < 0.02);
  }

  void hum_and_pilot_tones_are_named() {
    const int rate = 48000;
    const auto music = scaled(Programme(20, 7, 15000).render(rate), 0.1);
    const auto clean = study_origin(*clip(with_noise(music, 1e-5, 1), rate));
    QVERIFY(!clean.hum_hz && clean.pilot_tones.empty() && !clean.folded_about_hz);
    auto dirty = with_noise(music, 1e-5, 1);
    for (const double hz : {60.0, 120.0, 180.0}) dirty = with_tone(dirty, hz, 2e-3, rate);
    dirty = with_tone(dirty, 19000, 3e-4, rate);
    const auto origin = study_origin(*clip(dirty, rate));
    QCOMPARE(origin.hum_hz.value_or(0), 60.0);
    QVERIFY2(origin.hum_dbfs > -54.5 && origin.hum_dbfs < -51.5, qPrintable(QString::number(origin.hum_dbfs)));
    QCOMPARE(origin.pilot_tones.size(), size_t(1));
    QVERIFY(std::abs(origin.pilot_tones[0].hz - 19000) < 1 && std::abs(origin.pilot_tones[0].dbfs + 73.47) < 0.5);
  }

  void band_edges_and_images_are_seen() {
    const int rate = 96000;
    const auto narrow = with_noise(scaled(Programme(12, 8, 20000).render(rate), 0.3), 1e-6, 2);
    const auto origin = study_origin(*clip(narrow, rate));
    QVERIFY(origin.bandwidth_hz.value_or(0) < 24000 && !origin.folded_about_hz);
    QVERIFY(origin.ultrasonic_dbfs.value_or(0) < -110);
    // Zero-order doubling of a 48 kHz clip mirrors its spectrum about 24 kHz.
    const auto half = with_noise(scaled(Programme(12, 9, 22000).render(48000), 0.3), 1e-3, 3);
    Planar doubled(2, half.frames() * 2);
    for (int c = 0; c < 2; ++c)
      for (int64_t n = 0; n < doubled.frames(); ++n) doubled.channel(c)[size_t(n)] = half.channel(c)[size_t(n / 2)];
    const auto mirrored = study_origin(*clip(doubled, rate));
    QCOMPARE(mirrored.folded_about_hz.value_or(0), 24000.0);
    QVERIFY(mirrored.fold_likeness > 0.8);
    for (const double hz : {997.0, 5000.0, 11025.0}) {  // a steady tone looks alike on both sides of anything
      Planar tone(2, 8 * 44100);
      for (int c = 0; c < 2; ++c)
        for (size_t n = 0; n < size_t(tone.frames()); ++n)
          tone.channel(c)[n] = 0.7 * std::sin(2 * std::numbers::pi * std::remainder(hz * double(n) / 44100, 1.0));
      for (const double noise : {0.0, 1e-7, 1e-4})
        QVERIFY(!study_origin(*clip(noise > 0 ? with_noise(tone, noise, 4) : tone, 44100)).folded_about_hz);
    }
  }

  /// The attack of a note is as even about any frequency, and notes on a grid are so all alike: no image of anything.
  void attacks_on_a_grid_are_no_images() {
    for (const auto& [rate, every_s] : {std::pair{44100, 0.45}, {48000, 0.5}, {96000, 0.45}}) {
      Planar notes(2, 12 * rate);
      for (size_t n = 0; n < size_t(notes.frames()); ++n) {
        const double s = double(n) / rate, note = std::floor(s / every_s), t = s - note * every_s;
        const double rise = std::min(1.0, t / 0.01), pitch = 36 + 7 * std::floor(note / 4);
        for (int k = 1; k <= 20; ++k)
          for (int c = 0; c < 2; ++c)
            notes.channel(c)[n] += 0.2 / k * rise * std::exp(-t * std::sqrt(double(k)) / 0.5) *
                                   std::sin(2 * std::numbers::pi * k * pitch * t + k * (c + 1));
      }
      const auto origin = study_origin(*clip(requantised(notes, 24, true), rate));
      QVERIFY2(!origin.folded_about_hz, qPrintable(QString::number(origin.folded_about_hz.value_or(0))));
    }
  }

  /// Straight lines between samples leave images that fall off quickly, and stand in all that sounds.
  void images_of_straight_lines_are_seen() {
    const auto half = with_noise(scaled(Programme(12, 10, 10500).render(22050), 0.3), 1e-4, 3);
    Planar doubled(2, half.frames() * 2 - 2);
    for (int c = 0; c < 2; ++c)
      for (int64_t n = 0; n < doubled.frames(); ++n)
        doubled.channel(c)[size_t(n)] = (half.channel(c)[size_t(n / 2)] + half.channel(c)[size_t((n + 1) / 2)]) / 2;
    QCOMPARE(study_origin(*clip(requantised(doubled, 24, true), 44100)).folded_about_hz.value_or(0), 11025.0);
  }

  void flat_tops_are_found_wherever_they_sit() {
    dsp::Noise chance(3);
    for (const double turned_down : {1.0, 0.8, 0.31}) {
      auto sound = scaled(Programme(6, 11).render(44100), 0.8);
      double peak = 0;
      for (const double x : sound.channel(0)) peak = std::max(peak, std::abs(x));
      const double ceiling = 0.5 * peak;
      for (int c = 0; c < 2; ++c)
        for (double& x : sound.channel(c)) x = std::clamp(x, -ceiling, ceiling) * turned_down;
      const auto c = clip(sound, 44100);
      const auto tops = find_flat_tops(*c, survey(*c).levels.sample_peak);
      QVERIFY(tops.runs > 10 && std::abs(tops.level_dbfs - 20 * std::log10(ceiling * turned_down)) < 1e-6);
      QVERIFY(tops.at_s.size() == std::min<size_t>(100, size_t(tops.runs)) || tops.at_s.size() == 100);
    }
    const auto whole = clip(Programme(6, 11).render(44100), 44100);
    QCOMPARE(find_flat_tops(*whole, survey(*whole).levels.sample_peak).runs, int64_t(0));
    QCOMPARE(find_flat_tops(*clip(Planar(1, 100), 8000), 0).runs, int64_t(0));
  }

  void true_peaks_over_full_scale_are_found_between_samples() {
    const int rate = 48000;
    Planar sound(2, rate * 2);
    // A quarter-rate tone at 45 degrees: samples at 0.75, peaks at 0.75 sqrt(2) = +0.51 dBTP, in three bursts.
    for (const int64_t start : {4800, 40000, 41000})
      for (int64_t n = 0; n < 480; ++n) {
        const double fade = std::min({1.0, n / 100.0, (480 - n) / 100.0});
        sound.channel(1)[size_t(start + n)] =
            fade * 0.75 * std::numbers::sqrt2 * std::sin(std::numbers::pi / 2 * double(n) + std::numbers::pi / 4);
      }
    const auto c = clip(sound, rate);
    const auto s = survey(*c);
    QVERIFY(s.levels.sample_peak < 0.76);
    const auto overs = find_overs(*c, s.overview);
    QCOMPARE(overs.size(), size_t(2));  // the last two bursts are one moment
    QCOMPARE(overs[0].channel, 1);
    QVERIFY2(std::abs(overs[0].dbtp - 0.511) < 0.05, qPrintable(QString::number(overs[0].dbtp)));
    QVERIFY(std::abs(overs[0].at_s - 0.105) < 0.006);
    for (double& x : sound.channel(1)) x *= 0.9;
    QVERIFY(find_overs(*clip(sound, rate), survey(*clip(sound, rate)).overview).empty());
  }

 private:
  Folder folder_;
  int made_ = 0;
};

QTEST_GUILESS_MAIN(TestClipstudy)
#include "test_clipstudy.moc"
