// Reverberation as rooms and their stand-ins make it: dense, dying away, across the channels.
#include <QProcess>
#include <QStandardPaths>
#include <QtTest>
#include <array>
#include <cmath>

#include "core/compare/explain.hpp"
#include "core/dsp/fft.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

class TestRooms : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  /// What rooms do: each channel is heard in both, dense, and dying away.
  void a_room_that_crosses_the_channels_is_told_data() {
    QTest::addColumn<QString>("name");
    QTest::addColumn<double>("t60_s");
    QTest::addColumn<double>("direct_to_tail_db");
    for (const auto& [name, t60, drr] : std::vector<std::tuple<const char*, double, double>>{
             {"dense", 0.4, 12}, {"drums", 0.6, 18}, {"choir", 0.3, 10}, {"wide", 0.5, 20}})
      QTest::addRow("%s, %.1f s, %.0f dB", name, t60, drr) << name << t60 << drr;
  }
  void a_room_that_crosses_the_channels_is_told() {
    QFETCH(QString, name);
    QFETCH(double, t60_s);
    QFETCH(double, direct_to_tail_db);
    constexpr int rate = 44100;
    const Planar sound = programme(name.toStdString(), rate, 10, 17);
    dsp::Noise chance(8);
    const auto frames = size_t(sound.frames());
    dsp::RealFft<double> fft(1 << 20);
    const auto spectrum_of = [&](std::span<const double> x) {
      std::fill(fft.time().begin(), fft.time().end(), 0.0);
      std::copy(x.begin(), x.end(), fft.time().begin());
      fft.forward();
      return std::vector<std::complex<double>>(fft.spectrum().begin(), fft.spectrum().end());
    };
    std::array<std::vector<std::complex<double>>, 2> in{spectrum_of(sound.channel(0)), spectrum_of(sound.channel(1))};
    Planar ret = sound;
    for (int to = 0; to < 2; ++to) {
      std::vector<std::complex<double>> out(fft.bins());
      for (size_t from = 0; from < 2; ++from) {  // half of the tail's energy comes from either channel
        std::vector<double> tail(size_t(1.5 * t60_s * rate), 0);
        double energy = 0;
        for (size_t n = size_t(0.006 * rate); n < tail.size(); ++n) {
          tail[n] = chance.gaussian() * std::pow(10, -3 * double(n) / rate / t60_s);
          energy += tail[n] * tail[n];
        }
        const double scale = std::sqrt(0.5 * std::pow(10, -direct_to_tail_db / 10) / energy);
        for (double& v : tail) v *= scale;
        const auto h = spectrum_of(tail);
        for (size_t k = 0; k < out.size(); ++k) out[k] += h[k] * in[from][k];
      }
      std::copy(out.begin(), out.end(), fft.spectrum().begin());
      fft.inverse();
      for (size_t n = 0; n < frames; ++n) ret.channel(to)[n] += fft.time()[n] / (1 << 20);
    }
    const auto r = told_of(folder_, sound, ret, rate, WordFormat::float64);
    const Cause* room = cause(r, "reverb");
    QVERIFY2(room && r.kind == Kind::linear, qPrintable(told(r)));
    QVERIFY2(is_near(number(room, "t60_s"), t60_s, 0.25 * t60_s), qPrintable(told(r)));
    QVERIFY2(is_near(number(room, "direct_to_reverberant_db"), direct_to_tail_db, 2), qPrintable(told(r)));
    QVERIFY2(!tells(r, "echo") && !tells(r, "eq") && !tells(r, "crosstalk"), qPrintable(told(r)));
  }

  /// One that Debian carries, by its own law.
  void a_room_from_elsewhere_has_a_name() {
    if (QStandardPaths::findExecutable("sox").isEmpty()) QSKIP("sox");
    for (const char* name : {"drums", "choir"}) {
      const auto master = save(folder_ / "m.wav", programme(name, 44100, 12, 6), 44100, WordFormat::pcm24);
      const auto ret = folder_ / "r.wav";
      std::filesystem::remove(ret);
      QCOMPARE(QProcess::execute("sox", {"-D", QString::fromStdString(master.string()),
                                         QString::fromStdString(ret.string()), "gain", "-4", "reverb", "20"}),
               0);
      const auto r = explained_null_of(master, ret);
      QVERIFY2(tells(r, "reverb"), qPrintable(told(r)));
    }
  }

 private:
  Folder folder_;
};

SHARED_MAIN(TestRooms)
#include "test_rooms.moc"
