// A master laid on its return's clock: what is written nulls against the return without any fit.
#include <QtTest>

#include "core/delivery/aligned.hpp"
#include "core/stages/encoder.hpp"
#include "tests/support/cli.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

Planar all_of(const std::filesystem::path& file) {
  const auto clip = Clip::open(file);
  Planar all;
  clip->reader()->read(0, clip->format().frames, all);
  return all;
}

/// dB of the difference within the middle of both, where both have sound.
double apart_db(const Planar& a, const Planar& b, int64_t from, int64_t until) {
  double difference = 0, all = 0;
  for (int64_t n = from; n < until; ++n) {
    const double x = a.channel(0)[size_t(n)], y = b.channel(0)[size_t(n)];
    difference += (x - y) * (x - y), all += x * x;
  }
  return 10 * std::log10(difference / all + 1e-30);
}

}  // namespace

class TestAligned : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  void a_whole_delay_moves_samples_and_changes_none() {
    const int rate = 44100;
    const auto sound = requantised(Programme(6, 3).render(rate), 24, false);
    const auto master = save(folder_ / "m.wav", sound, rate, WordFormat::pcm24);
    for (const int64_t late : {4567, -3000}) {
      Planar ret(2, sound.frames() + 9000);
      for (int c = 0; c < 2; ++c)
        for (int64_t n = 0; n < ret.frames(); ++n)
          if (const int64_t k = n - late; k >= 0 && k < sound.frames())
            ret.channel(c)[size_t(n)] = -0.3 * sound.channel(c)[size_t(k)];  // gain and polarity are left alone
      const auto file = save(folder_ / "r.wav", ret, rate, WordFormat::pcm24);
      const auto a = write_aligned(Clip::open(master), Clip::open(file), Destination(folder_ / "out.wav", true));
      QCOMPARE(a.frames, ret.frames());
      const auto out = all_of(folder_ / "out.wav");
      QCOMPARE(out.frames(), ret.frames());
      for (int64_t n = 0; n < out.frames(); ++n) {
        const int64_t k = n - late;
        QCOMPARE(out.channel(1)[size_t(n)], k >= 0 && k < sound.frames() ? sound.channel(1)[size_t(k)] : 0.0);
      }
    }
  }
  void drift_and_fractions_are_put_in() {
    const int rate = 48000;
    const Programme music(20, 8, 18000);
    const auto master = save(folder_ / "m.wav", music.render(rate), rate);
    const auto ret = music.render(rate, 321.4, 1 + 25e-6);
    const auto a = write_aligned(Clip::open(master), Clip::open(save(folder_ / "r.wav", ret, rate)),
                                 Destination(folder_ / "out.wav", true));
    QCOMPARE(a.frames, ret.frames());
    QVERIFY(a.splices.empty());
    const double apart = apart_db(ret, all_of(folder_ / "out.wav"), rate, 18 * rate);
    QVERIFY2(apart < -90, qPrintable(QString::number(apart)));
  }
  /// The master keeps its own rate, whatever the return's is.
  void a_coded_return_of_another_rate() {
    const auto sound = programme("piano", 96000, 12, 4);
    const auto master = save(folder_ / "m.wav", sound, 96000, WordFormat::pcm24);
    encode(*Clip::at_rate(Clip::open(master), 48000), {"aac", 128000}, folder_ / "r.m4a");
    const auto answer = call({"align", path("m.wav"), path("r.m4a"), "-o", path("laid.wav"), "--json"});
    QVERIFY2(answer.status == 0, answer.err);
    QCOMPARE(answer.json()["sample_rate_hz"].toInt(), 96000);
    QVERIFY(answer.json()["splices"].toArray().isEmpty());
    const auto clip = Clip::open(folder_ / "laid.wav");
    QVERIFY(std::abs(clip->format().duration_s() - Clip::open(folder_ / "r.m4a")->format().duration_s()) < 1e-4);
    const auto null = null_of(folder_ / "laid.wav", folder_ / "r.m4a");
    QVERIFY2(std::abs(null.fit.delay_samples) < 0.1, qPrintable(QString::number(null.fit.delay_samples)));
  }
  /// The film was cut: half a second is gone from it, and later a second of something else was put in.
  void cuts_are_followed() {
    const int rate = 48000;
    const auto sound = requantised(programme("dense", rate, 20, 5), 24, false);
    const int64_t gone_at = 6 * rate + 123, gone = rate / 2, put_at = 12 * rate + 77, put = rate;  // of the return
    const auto other = programme("speech", rate, 2, 3);
    Planar ret(2, sound.frames() - gone + put);
    for (int c = 0; c < 2; ++c)
      for (int64_t n = 0; n < ret.frames(); ++n)
        ret.channel(c)[size_t(n)] = 0.5 * (n < gone_at        ? sound.channel(c)[size_t(n)]
                                           : n < put_at       ? sound.channel(c)[size_t(n + gone)]
                                           : n < put_at + put ? other.channel(c)[size_t(n - put_at)]
                                                              : sound.channel(c)[size_t(n + gone - put)]);
    const auto master = save(folder_ / "m.wav", sound, rate, WordFormat::pcm24);
    const auto a = write_aligned(Clip::open(master), Clip::open(save(folder_ / "r.wav", ret, rate, WordFormat::pcm24)),
                                 Destination(folder_ / "cut.wav", true));
    QCOMPARE(a.splices.size(), size_t(2));
    QVERIFY2(std::abs(a.splices[0].at_s - double(gone_at) / rate) < 0.003,
             qPrintable(QString::number(a.splices[0].at_s)));
    const auto out = all_of(folder_ / "cut.wav");
    QCOMPARE(out.frames(), ret.frames());
    const int64_t margin = rate / 50;  // of the places themselves
    int64_t wrong = 0, silent = 0;
    for (int64_t n = 0; n < out.frames(); ++n) {
      const bool near =
          std::abs(n - gone_at) < margin || std::abs(n - put_at) < margin || std::abs(n - put_at - put) < margin;
      if (near) continue;
      const bool in_other = n > put_at && n < put_at + put;
      wrong += !in_other && out.channel(0)[size_t(n)] != 2 * ret.channel(0)[size_t(n)];
      silent += in_other && out.channel(0)[size_t(n)] == 0;
    }
    QCOMPARE(wrong, int64_t(0));
    QCOMPARE(silent, put - 2 * margin + 1);
  }
  /// As from the far end of a room: other tone, noise, echoes.
  void a_far_microphone_is_laid_on() {
    const int rate = 48000;
    const auto sound = programme("dense", rate, 12, 6);
    Planar far(2, sound.frames() + 20000);
    dsp::Noise chance(3);
    for (int c = 0; c < 2; ++c)
      for (int echo = 0; echo < 60; ++echo) {
        const auto at = int64_t(9000 + (echo == 0 ? 0 : chance.uniform() * 0.15 * rate));
        const double gain = echo == 0 ? 0.3 : 0.12 * chance.gaussian() * std::exp(-double(at - 9000) / (0.05 * rate));
        for (int64_t n = 0; n < sound.frames(); ++n)
          far.channel(c)[size_t(n + at)] += gain * sound.channel(c)[size_t(n)];
      }
    save(folder_ / "m.wav", sound, rate), save(folder_ / "r.wav", with_noise(far, 0.003, 9), rate);
    const auto answer = call({"align", path("m.wav"), path("r.wav"), "-o", path("far.wav"), "--json"});
    QVERIFY2(answer.status == 0, answer.err);
    QVERIFY2(answer.json()["splices"].toArray().isEmpty(), answer.out);  // echoes are no cuts
    QVERIFY2(std::abs(answer.json()["delay_samples"].toDouble() - 9000) < 30,
             qPrintable(QString::number(answer.json()["delay_samples"].toDouble())));
  }
  void what_cannot_be_is_refused() {
    save(folder_ / "m.wav", programme("piano", 44100, 6, 4), 44100);
    save(folder_ / "other.wav", programme("speech", 44100, 6, 9), 44100);
    auto a = call({"align", path("m.wav"), path("other.wav"), "-o", path("never.wav")});
    QCOMPARE(a.status, 1);
    QVERIFY2(a.err.contains("other.wav"), a.err);
    QVERIFY(!std::filesystem::exists(folder_ / "never.wav"));
    save(folder_ / "dense.wav", programme("dense", 44100, 6, 4), 44100);  // two that share a beat
    save(folder_ / "bass.wav", programme("bass", 44100, 6, 9), 44100);
    QCOMPARE(call({"align", path("dense.wav"), path("bass.wav"), "-o", path("never.wav")}).status, 1);
    for (const char* input : {"m.wav", "other.wav"})
      QCOMPARE(call({"align", path("m.wav"), path("other.wav"), "-o", path(input), "--force"}).status, 2);
    QCOMPARE(call({"align", path("m.wav"), path("gone.wav"), "-o", path("never.wav")}).status, 1);
    QCOMPARE(call({"align", path("m.wav")}).status, 2);
  }

 private:
  QString path(const std::string& name) const { return QString::fromStdString((folder_ / name).string()); }
  Folder folder_;
};

SHARED_MAIN(TestAligned)
#include "test_aligned.moc"
