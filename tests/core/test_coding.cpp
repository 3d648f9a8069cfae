// Traces of a coder in plain samples: found where one was, at its grid, and nowhere else.
#include <QProcess>
#include <QStandardPaths>
#include <QtTest>
#include <cmath>
#include <numbers>

#include "core/measure/coders.hpp"
#include "core/measure/coding.hpp"
#include "core/stages/encoder.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

double pi_over(double m) { return std::numbers::pi / m; }

}  // namespace

class TestCoding : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  void no_programme_of_ours_was_coded_data() {
    QTest::addColumn<QString>("name");
    for (const auto& name : programme_names()) QTest::newRow(name.c_str()) << QString::fromStdString(name);
  }
  void no_programme_of_ours_was_coded() {
    QFETCH(QString, name);
    const auto sound = programme(name.toStdString(), 48000, 8, 21);
    for (const WordFormat word : {WordFormat::pcm16, WordFormat::float32}) {
      const auto found = find_coding(*Clip::open(save(folder_ / "m.wav", sound, 48000, word)));
      QVERIFY2(!found, found ? qPrintable(QString("%1 %2").arg(found->family.c_str()).arg(found->depth_db)) : "");
    }
    // Low-passed as a coder does, and rounded with its noise shaped: neither is coding.
    Planar dull = sound;
    dsp::Noise chance(3);
    for (int c = 0; c < 2; ++c) {
      double y[8]{}, error = 0;
      for (double& x : dull.channel(c)) {
        double in = x;
        for (double& state : y) in = state += 0.9 * (in - state);
        const double wanted = in - error, step = std::ldexp(1.0, -15);
        x = std::nearbyint(wanted / step + chance.triangular()) * step, error = x - wanted;
      }
    }
    QVERIFY(!find_coding(*Clip::open(save(folder_ / "d.wav", dull, 48000, WordFormat::pcm16))));
  }

  /// Between beats there is next to nothing, whatever the offset: a few blocks are small at any by chance.
  void beats_between_silences_were_not_coded() {
    for (const uint64_t seed : {40, 74}) {
      const auto found = find_coding(
          *Clip::open(save(folder_ / "beats.wav", programme("loop", 44100, 8, seed), 44100, WordFormat::pcm24)));
      QVERIFY2(!found, found ? found->family.c_str() : "");
    }
  }

  void a_decode_bears_its_coder_data() {
    QTest::addColumn<QString>("encoder");
    QTest::addColumn<QString>("family");
    QTest::addColumn<int>("bits");
    QTest::newRow("mp3 128") << "libmp3lame"
                             << "mp3" << 128000;
    QTest::newRow("mp3 192") << "libmp3lame"
                             << "mp3" << 192000;
    QTest::newRow("aac 128") << "aac"
                             << "aac" << 128000;
    QTest::newRow("vorbis 128") << "libvorbis"
                                << "vorbis" << 128000;
    QTest::newRow("opus 96") << "libopus"
                             << "opus" << 96000;
    QTest::newRow("layer II 160") << "mp2"
                                  << "mp2" << 160000;
    QTest::newRow("layer II 256") << "mp2"
                                  << "mp2" << 256000;
  }
  /// In a plain file, late by any number of samples, turned down and inverted.
  void a_decode_bears_its_coder() {
    QFETCH(QString, encoder);
    QFETCH(QString, family);
    QFETCH(int, bits);
    for (const char* name : {"swells", "choir"}) {
      const auto master = save(folder_ / "m.wav", programme(name, 48000, 10, 8), 48000, WordFormat::pcm24);
      encode(*Clip::open(master), {encoder.toStdString(), bits}, folder_ / "coded.mka");
      const auto coded = Clip::open(folder_ / "coded.mka");
      Planar all;
      std::optional<int64_t> first;
      for (const int64_t late : {0, 777}) {
        coded->reader()->read(-late, coded->format().frames + late, all);
        const auto found =
            find_coding(*Clip::open(save(folder_ / "r.wav", scaled(all, -0.5), 48000, WordFormat::pcm24)));
        QVERIFY2(found && found->family == family.toStdString(), found ? found->family.c_str() : name);
        QVERIFY(found->confidence > 0.5 && found->confidence <= 1);
        if (first && family != "opus") {
          const int64_t hop = family == "mp3"   ? 576
                              : family == "mp2" ? 32
                                                : 1024,
                        moved = found->frame_offset - *first - late;
          QVERIFY2((moved % hop + hop) % hop == 0, qPrintable(QString::number(moved)));
        }
        first = found->frame_offset;
        const double least = family == "mp2" ? 0.7e-3 : 0.45e-3, most = family == "mp2" ? 1.3e-3 : 2e-3;
        if (family != "opus" && family != "aac")  // which fill bands with noise that costs nothing
          QVERIFY2(*found->about_kbps > least * bits && *found->about_kbps < most * bits,
                   qPrintable(QString::number(*found->about_kbps)));
      }
    }
  }

  /// Short blocks shift the grid of the long ones behind them; at a good quality little is nothing at all.
  void of_dense_blocks_between_short_ones_the_coder_is_told_data() {
    QTest::addColumn<QString>("name");
    QTest::addColumn<int>("rate");
    QTest::addColumn<int>("quality");
    for (const char* name : {"loop", "piano", "wide", "speech"}) QTest::newRow(name) << name << 44100 << 6;
    // where its treble is loudest nothing is nothing
    for (const int quality : {6, 7, 8}) QTest::addRow("wide at %d", quality) << "wide" << 48000 << quality;
  }
  void of_dense_blocks_between_short_ones_the_coder_is_told() {
    if (QStandardPaths::findExecutable("oggenc").isEmpty() || QStandardPaths::findExecutable("oggdec").isEmpty())
      QSKIP("oggenc and oggdec are not there");
    QFETCH(QString, name);
    QFETCH(int, rate);
    QFETCH(int, quality);
    const auto sound = programme(name.toStdString(), rate, 8, rate == 48000 ? 43 : 41);
    const auto master = save(folder_ / "m.wav", sound, rate, WordFormat::pcm24);
    const auto path = [&](const char* file) { return QString::fromStdString((folder_ / file).string()); };
    QCOMPARE(QProcess::execute("oggenc", {"-Q", "-q", QString::number(quality), path("m.wav"), "-o", path("m.ogg")}),
             0);
    QCOMPARE(QProcess::execute("oggdec", {"-Q", path("m.ogg"), "-o", path("d.wav")}), 0);
    const auto found = find_coding(*Clip::open(folder_ / "d.wav"));
    QVERIFY(found);
    QCOMPARE(found->family, std::string("vorbis"));
    const double kbps = double(std::filesystem::file_size(folder_ / "m.ogg")) / 1000;  // of 8 s
    QVERIFY2(*found->about_kbps > 0.45 * kbps && *found->about_kbps < 2 * kbps,
             qPrintable(QString("%1 of %2").arg(*found->about_kbps).arg(kbps)));
    QVERIFY(!find_coding(*Clip::open(master)));
  }

  /// The transforms of blocks that overlap by half, by their sums: X[k] = sum w x cos(pi / M (n + 1/2 + M/2) (k +
  /// 1/2)), with a window whose squares and those half a block on come to one (Princen and Bradley 1986).
  void transforms_are_their_sums() {
    std::vector<double> noise(4096);
    dsp::Noise chance(12);
    for (double& v : noise) v = chance.between(-1, 1);
    int compared = 0;
    for (const auto& t : coder_transforms()) {
      if (t->reach != 2 * t->size) continue;  // the banks of the layers
      const auto transform = [&](std::span<const double> x) {
        std::vector<double> out(t->size);
        t->take(x);
        t->forward(0, out);
        return out;
      };
      std::vector<double> window(t->reach);  // of single samples: each comes to w[n] times its cosine
      for (size_t n = 0; n < t->reach; ++n) {
        std::vector<double> one(t->reach, 0);
        one[n] = 1;
        const auto out = transform(one);
        const double m = double(t->size), at = pi_over(m) * (double(n) + 0.5 + m / 2) * 10.5;
        if (std::abs(std::cos(at)) > 0.1) window[n] = out[10] / std::cos(at);
        if (n % 97) continue;
        for (size_t k = 0; k < t->size; k += 13)
          QVERIFY(std::abs(out[k] * std::cos(at) -
                           out[10] * std::cos(pi_over(m) * (double(n) + 0.5 + m / 2) * (double(k) + 0.5))) < 1e-11);
        ++compared;
      }
      int whole = 0;
      for (size_t n = 0; n < t->size; ++n) {
        const double a = window[n], b = window[n + t->size];
        if (a == 0 || b == 0) continue;  // its cosine was too small, or the window is
        QVERIFY2(std::abs(a * a + b * b - 1) < 1e-9, qPrintable(QString("%1 %2").arg(t->family.c_str()).arg(n)));
        ++whole;
      }
      QVERIFY(whole > 60);
      const auto out = transform(std::span(noise).first(t->reach));
      double power = 0;
      for (const double v : out) power += v * v;
      QVERIFY(power > 0);
    }
    QVERIFY(compared > 60);
  }

  void what_is_too_short_or_silent_tells_nothing() {
    QVERIFY(!find_coding(*Clip::open(save(folder_ / "s.wav", Planar(2, 48000), 48000))));
    QVERIFY(!find_coding(*Clip::open(save(folder_ / "s.wav", Planar(1, 10), 48000))));
    QVERIFY(!find_coding(*Clip::open(save(folder_ / "s.wav", with_noise(Planar(1, 3000), 0.1, 1), 8000))));
  }

 private:
  Folder folder_;
};

SHARED_MAIN(TestCoding)
#include "test_coding.moc"
