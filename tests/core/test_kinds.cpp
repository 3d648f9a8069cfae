// Kinds and findings on generated truths.
#include <QtTest>
#include <cmath>
#include <map>
#include <numbers>

#include "core/compare/explain.hpp"
#include "core/stages/encoder.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

/// 22 cases each, with another kind of programme every other time; test_confusion asks for causes over other
/// programmes.
uint64_t many() { return qEnvironmentVariableIsSet("HEATHMIST_FULL") ? 11 : 1; }

Planar filtered(Planar sound, double amount) {  // a gentle shelf: y[n] = x[n] + a x[n-1]
  for (int c = 0; c < sound.channels(); ++c) {
    double last = 0;
    for (double& x : sound.channel(c)) {
      const double y = x + amount * last;
      last = x;
      x = y;
    }
  }
  return sound;
}

Planar clipped(Planar sound, double at) {
  for (int c = 0; c < sound.channels(); ++c)
    for (double& x : sound.channel(c)) x = std::clamp(x, -at, at);
  return sound;
}

bool says(const NullReport& report, const char* code) {
  return std::any_of(report.findings.begin(), report.findings.end(), [&](const Finding& f) { return f.code == code; });
}

}  // namespace

class TestKinds : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  void kinds_are_told_apart_over_random_programmes() {
    int wrong = 0;
    QString table;
    auto expect = [&](Kind kind, const NullReport& report, uint64_t seed) {
      if (report.kind == kind) return;
      ++wrong;
      table += QString("seed %1: %2 taken for %3 (%4 dB)\n")
                   .arg(seed)
                   .arg(name_of(kind), name_of(report.kind))
                   .arg(db(report.residual_relative_db()));
    };
    for (uint64_t seed = 1; seed <= many(); ++seed) {
      const int rate = seed % 2 ? 48000 : 44100;
      auto sound = Programme(6, seed, 18000).render(rate);
      sound = requantised(scaled(sound, 0.7 / peak_of(sound)), 24, true, seed);
      const auto master = save(folder_ / "m.wav", sound, rate, WordFormat::pcm24);
      auto null = [&](const Planar& ret, WordFormat word) {
        return null_of(master, save(folder_ / "r.wav", ret, rate, word));
      };
      expect(Kind::identical, null(sound, WordFormat::pcm24), seed);
      expect(Kind::level, null(scaled(sound, 0.6), WordFormat::pcm24), seed);
      expect(Kind::level, null(scaled(sound, -1), WordFormat::pcm24), seed);
      expect(Kind::word_length, null(sound, WordFormat::pcm16), seed);
      expect(Kind::word_length, null(requantised(sound, 16, true, seed), WordFormat::pcm16), seed);
      expect(Kind::noise, null(with_noise(sound, 1e-3, seed + 9000), WordFormat::pcm24), seed);
      expect(Kind::noise, null(with_noise(sound, 1e-4, seed + 9000), WordFormat::pcm24), seed);
      expect(Kind::linear, null(filtered(sound, 0.3), WordFormat::pcm24), seed);
      expect(Kind::limited, null(clipped(sound, 0.4), WordFormat::pcm24), seed);
      expect(Kind::unrelated, null_of(master, save(folder_ / "r.wav", Programme(6, seed + 90).render(rate), rate)),
             seed);
      for (const auto& [encoder, bits] : {std::pair{"libmp3lame", 128000}, {"libvorbis", 96000}}) {
        encode(*Clip::open(master), {encoder, bits}, folder_ / "lossy.mka");
        const auto decoded = Clip::open(folder_ / "lossy.mka");
        expect(Kind::lossy, null_of(master, folder_ / "lossy.mka"), seed);
        Planar all;  // the same decoded to a plain file: its codec must be seen in the sound
        decoded->reader()->read(0, decoded->format().frames, all);
        expect(Kind::lossy, null(all, WordFormat::pcm24), seed);
      }
    }
    QVERIFY2(wrong == 0, qPrintable(table));
  }

  /// Music-like noise with a moving level and a falling spectrum: the opposite of the grains of Programme.
  static Planar moving_noise(double seconds, int rate, uint64_t seed) {
    dsp::Noise chance(seed);
    Planar sound(2, int64_t(seconds * rate));
    for (int c = 0; c < 2; ++c) {
      double low = 0, slow = 0, level = 1;
      for (int64_t n = 0; n < sound.frames(); ++n) {
        if (n % (rate / 5) == 0) level = chance.between(0.15, 1);
        const double white = level * chance.gaussian();
        low += 0.3 * (white - low);
        slow += 0.02 * (white - slow);
        sound.channel(c)[size_t(n)] = 0.05 * white + 0.2 * low + slow;
      }
    }
    return requantised(scaled(sound, 0.7 / peak_of(sound)), 24, true, seed);
  }

  /// A gain that rises along the way: no filter, no limiter, no noise.
  static Planar faded(Planar sound, double rise) {
    for (int c = 0; c < 2; ++c)
      for (int64_t n = 0; n < sound.frames(); ++n)
        sound.channel(c)[size_t(n)] *= 0.6 + rise * double(n) / double(sound.frames());
    return sound;
  }

  static Planar high_passed(Planar sound, double rate, double hz) {
    const double keep = std::exp(-2 * std::numbers::pi * hz / rate);
    for (int c = 0; c < 2; ++c)
      for (int order = 0; order < 2; ++order) {
        double last_in = 0, last_out = 0;
        for (double& x : sound.channel(c)) {
          last_out = keep * (last_out + x - last_in);
          last_in = x;
          x = last_out;
        }
      }
    return sound;
  }

  static Planar limited(Planar sound, int rate, double threshold) {
    double gain = 1;
    const double release = 1 - std::exp(-1 / (0.1 * rate));
    for (int64_t n = 0; n < sound.frames(); ++n) {
      const double peak = std::max(std::abs(sound.channel(0)[size_t(n)]), std::abs(sound.channel(1)[size_t(n)]));
      gain += (std::min(1.0, threshold / std::max(peak, 1e-9)) - gain) * release;
      gain = std::min(gain, threshold / std::max(peak, 1e-9));
      for (int c = 0; c < 2; ++c) sound.channel(c)[size_t(n)] *= gain;
    }
    return sound;
  }

  void a_confusion_table_over_random_cases() {
    const std::vector<Kind> kinds{Kind::identical, Kind::shifted,   Kind::level,    Kind::word_length,
                                  Kind::linear,    Kind::converted, Kind::lossy,    Kind::limited,
                                  Kind::noise,     Kind::changed,   Kind::unrelated};
    std::map<Kind, std::map<Kind, int>> table;
    QStringList missed;
    for (uint64_t seed = 1; seed <= many(); ++seed) {
      const int rate = seed % 3 ? 48000 : 44100;
      dsp::Noise chance(seed + 500);
      const auto make = [&](uint64_t s) {
        if (seed % 2) return moving_noise(4.5, rate, s);
        const auto grains = with_noise(Programme(4.5, s, 19000).render(rate), 1e-3, s);
        return requantised(scaled(grains, 0.7 / peak_of(grains)), 24, true, s);
      };
      const auto sound = make(seed);
      const double peak = peak_of(sound);
      const auto master = save(folder_ / "m.wav", sound, rate, WordFormat::pcm24);
      auto take = [&](Kind truth, const Planar& ret, WordFormat word = WordFormat::pcm24, int at_rate = 0) {
        const auto report = explained_null_of(master, save(folder_ / "r.wav", ret, at_rate ? at_rate : rate, word));
        ++table[truth][report.kind];
        if (report.kind != truth)
          missed << QString("seed %1: %2 taken for %3, residual %4, remainder %5")
                        .arg(seed)
                        .arg(name_of(truth), name_of(report.kind))
                        .arg(db(report.residual_relative_db()))
                        .arg(db(report.sums.remainder_relative_db()));
      };
      const auto late = int64_t(chance.between(1, 30000));
      Planar shifted(2, sound.frames() + late);
      for (int c = 0; c < 2; ++c)
        std::copy(sound.channel(c).begin(), sound.channel(c).end(), shifted.channel(c).begin() + late);
      take(Kind::identical, sound);
      take(Kind::shifted, shifted);
      take(Kind::level, scaled(shifted, chance.between(0.2, 0.95)));
      take(Kind::level, scaled(sound, -1));
      take(Kind::level, requantised(scaled(sound, 0.7), 16, true, seed), WordFormat::pcm16);
      take(Kind::word_length, requantised(sound, 16, seed % 2, seed), WordFormat::pcm16);
      take(Kind::word_length, requantised(sound, 12, true, seed));
      take(Kind::linear, filtered(sound, chance.between(0.2, 0.6)));
      take(Kind::linear, high_passed(shifted, rate, chance.between(15, 60)));
      take(Kind::limited, clipped(sound, chance.between(0.4, 0.7) * peak));
      take(Kind::limited, limited(sound, rate, 0.4 * peak));
      take(Kind::noise, with_noise(shifted, chance.between(3e-4, 1e-2), seed + 9000));
      take(Kind::noise, with_noise(scaled(sound, 0.5), 1e-3, seed + 9000));
      take(Kind::changed, faded(sound, chance.between(0.3, 0.6)));
      take(Kind::unrelated, make(seed + 70));
      const auto converted = Clip::at_rate(Clip::open(master), seed % 2 ? 32000 : 96000);
      Planar all;
      converted->reader()->read(0, converted->format().frames, all);
      take(Kind::converted, all, WordFormat::pcm24, converted->format().sample_rate_hz);
      for (const auto& [encoder, bits] : {std::pair{"aac", 128000}, {"libvorbis", 128000}, {"libmp3lame", 160000}}) {
        encode(*Clip::open(master), {encoder, bits}, folder_ / "lossy.mka");
        const auto decoded = Clip::open(folder_ / "lossy.mka");
        decoded->reader()->read(0, decoded->format().frames, all);
        take(Kind::lossy, all);
      }
    }
    int wrong = 0;
    QString text = "truth \\ found";
    for (const Kind found : kinds) text += QString(" %1").arg(name_of(found), 11);
    for (const Kind truth : kinds) {
      text += QString("\n%1").arg(name_of(truth), 13);
      for (const Kind found : kinds) {
        text += QString(" %1").arg(table[truth][found], 11);
        if (found != truth) wrong += table[truth][found];
      }
    }
    qInfo().noquote() << text;
    QVERIFY2(wrong == 0, qPrintable(missed.join('\n')));
  }

  void the_first_sentence_is_the_answer() {
    const auto sound = requantised(Programme(4, 30).render(48000), 24, true);
    const auto master = save(folder_ / "m.wav", sound, 48000, WordFormat::float32);
    const auto same = null_of(master, save(folder_ / "r.wav", sound, 48000, WordFormat::float32));
    QCOMPARE(QString::fromStdString(same.findings.front().text), QString("Identical: every sample is equal."));
    QVERIFY(!same.residual_relative_db());
    const auto noisy = null_of(master, save(folder_ / "r.wav", with_noise(sound, 1e-3, 4), 48000, WordFormat::float32));
    QCOMPARE(noisy.findings.front().code, std::string("noise"));
    QVERIFY(QString::fromStdString(noisy.findings.front().text).contains("dB under the master"));
  }

  void findings_carry_their_numbers() {
    auto sound = requantised(scaled(Programme(6, 31).render(48000), 0.3), 16, true);
    Planar later(2, sound.frames() + 480);
    for (int c = 0; c < 2; ++c)
      for (int64_t n = 0; n < sound.frames(); ++n)
        later.channel(1 - c)[size_t(n + 480)] = std::clamp(-4 * sound.channel(c)[size_t(n)], -1.0, 1.0 - 0x1p-23);
    const auto report = null_of(save(folder_ / "m.wav", sound, 48000, WordFormat::pcm24),
                                save(folder_ / "r.wav", later, 48000, WordFormat::pcm24));
    for (const char* code :
         {"delay", "length_differs", "polarity_inverted", "channels_swapped", "bits_used_master", "gain"})
      QVERIFY2(says(report, code), code);
    for (const auto& f : report.findings) {
      if (f.code == "delay") QCOMPARE(f.value.value(), 480.0);
      if (f.code == "bits_used_master") QCOMPARE(f.value.value(), 16.0);
      if (f.code == "length_differs") QVERIFY(std::abs(f.value.value() - 0.01) < 1e-9);
      QVERIFY(!f.text.empty() && f.text.back() == '.');
    }
    for (size_t n = 2; n < report.findings.size(); ++n)
      QVERIFY(report.findings[n - 1].severity >= report.findings[n].severity);
  }

  void clipped_runs_of_the_return_are_a_fault() {
    const auto sound = scaled(Programme(5, 32).render(48000), 0.5);
    const double over = 2.5 / peak_of(sound);
    const auto report = null_of(save(folder_ / "m.wav", sound, 48000, WordFormat::pcm24),
                                save(folder_ / "r.wav", scaled(sound, over), 48000, WordFormat::pcm24));
    QVERIFY(says(report, "clipped_return"));
    QVERIFY(!says(report, "clipped_master"));
    QCOMPARE(report.kind, Kind::limited);
  }

  void a_low_pass_is_seen_in_the_bandwidth() {
    const auto sound = requantised(Programme(8, 33, 20000).render(48000), 24, true);
    const auto master = save(folder_ / "m.wav", sound, 48000, WordFormat::pcm24);
    encode(*Clip::open(master), {"libmp3lame", 96000}, folder_ / "b.mp3");
    const auto report = null_of(master, folder_ / "b.mp3");
    const double edge = report.return_bandwidth_hz.value_or(0);
    QVERIFY2(edge < 16500 && edge > 12000, qPrintable(QString::number(edge)));
    QVERIFY(says(report, "bandwidth"));
  }

  /// The end of the band is told once, whoever tells it.
  void the_end_of_the_band_is_told_once() {
    const auto sound = requantised(Programme(8, 34, 20000).render(48000), 24, true);
    const auto master = save(folder_ / "m.wav", sound, 48000, WordFormat::pcm24);
    for (const auto& [encoder, rate] : {std::pair{"libmp3lame", 64000}, {"aac", 96000}, {"mp2", 128000}}) {
      encode(*Clip::open(master), {encoder, rate}, folder_ / "b.mka");
      const auto r = explained_null_of(master, folder_ / "b.mka");
      const auto ends = std::count_if(r.findings.begin(), r.findings.end(), [](const Finding& f) {
        return f.code == "bandwidth" || (f.code == "band_limit" && f.text.starts_with("The band ends"));
      });
      QVERIFY2(ends <= 1, qPrintable(told(r)));
    }
  }

  void silence_and_single_samples_are_survived() {
    const auto silent = save(folder_ / "m.wav", Planar(2, 48000), 48000, WordFormat::pcm16);
    QCOMPARE(null_of(silent, save(folder_ / "r.wav", Planar(2, 48000), 48000, WordFormat::pcm16)).kind,
             Kind::identical);
    null_of(silent, save(folder_ / "r.wav", Programme(2, 3).render(48000), 48000));
    null_of(save(folder_ / "one.wav", Planar(1, 1), 48000), silent);
    null_of(silent, save(folder_ / "one.wav", Planar(1, 1), 48000));
    Planar eight(8, 4000);
    for (int c = 0; c < 8; ++c) eight.channel(c)[size_t(100 * c + 7)] = 0.5;
    QCOMPARE(null_of(save(folder_ / "m.wav", eight, 48000), save(folder_ / "r.wav", scaled(eight, 0.5), 48000)).kind,
             Kind::level);
  }

 private:
  Folder folder_;
};

SHARED_MAIN(TestKinds)
#include "test_kinds.moc"
