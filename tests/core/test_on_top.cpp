// Something of another make on top of a programme: told as another programme where its notes are its own, as noise only
// where it has none, never as a break of the return; and what is made of the programme itself is never told as another.
#include <QtTest>
#include <cmath>
#include <numbers>

#include "core/compare/null.hpp"
#include "core/dsp/fft.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

constexpr int rate = 44100;
constexpr double seconds = 12;

double power(const Planar& sound) {
  double sum = 0;
  for (int c = 0; c < sound.channels(); ++c)
    for (const double x : sound.channel(c)) sum += x * x;
  return sum;
}

Planar with_on_top(Planar sound, const Planar& other, double db) {
  const double gain = std::pow(10, db / 20) * std::sqrt(power(sound) / power(other));
  for (int c = 0; c < sound.channels(); ++c)
    for (size_t n = 0; n < size_t(sound.frames()); ++n) sound.channel(c)[n] += gain * other.channel(c)[n];
  return sound;
}

using Signal = std::vector<double>;

Signal one_pole(const Signal& x, double share) {
  Signal y;
  double last = 0;
  for (const double v : x) y.push_back(last += share * (v - last));
  return y;
}

/// The programme a little later, at a time that moves, beside itself.
Signal chorus(const Signal& x) {
  Signal y = x;
  for (size_t n = 1000; n < x.size(); ++n) {
    const double late = 660 + 132 * std::sin(2 * std::numbers::pi * 0.8 * double(n) / rate),
                 part = late - std::floor(late);
    const auto from = n - size_t(late);
    y[n] = 0.8 * x[n] + 0.4 * ((1 - part) * x[from] + part * x[from - 1]);
  }
  return y;
}
/// The square of what lies low: a curve, but one that remembers.
Signal bent_low(const Signal& x) {
  Signal squares = one_pole(x, 0.1), y = x;
  for (double& v : squares) v *= v;
  const Signal slow = one_pole(squares, 0.001);
  for (size_t n = 0; n < x.size(); ++n) y[n] += 0.3 * (squares[n] - slow[n]);
  return y;
}
/// A curve whose middle moves with the level.
Signal leaning(const Signal& x) {
  Signal sizes = x, y;
  for (double& v : sizes) v = std::abs(v);
  const Signal level = one_pole(sizes, 0.0005);
  for (size_t n = 0; n < x.size(); ++n) y.push_back((std::tanh(1.5 * x[n] - level[n]) + std::tanh(level[n])) / 1.5);
  return y;
}
/// Lines that are quiet go, moment by moment, as a denoiser does it.
Signal denoised(const Signal& x) {
  constexpr size_t size = 2048, hop = size / 2;
  constexpr double quiet = 0.4;
  Signal y(x.size(), 0);
  dsp::RealFft<double> fft(size);
  for (size_t at = 0; at + size <= x.size(); at += hop) {
    const auto window = [](size_t n) { return std::sin(std::numbers::pi * (double(n) + 0.5) / size); };
    for (size_t n = 0; n < size; ++n) fft.time()[n] = x[at + n] * window(n);
    fft.forward();
    for (auto& line : fft.spectrum()) line *= std::norm(line) / (std::norm(line) + quiet);
    fft.inverse();
    for (size_t n = 0; n < size; ++n) y[at + n] += fft.time()[n] / size * window(n);
  }
  for (size_t n = 0; n < hop; ++n) y[n] = x[n];  // where only one block lies
  for (size_t n = x.size() / hop * hop - hop; n < x.size(); ++n) y[n] = x[n];
  return y;
}
/// Longer at the same pitch: pieces that overlap are laid a little farther apart.
Signal stretched_to(double speed, const Signal& x) {
  constexpr size_t piece = 4000, hop = piece / 2;
  Signal y(x.size(), 0);
  for (size_t at = 0; at + piece <= y.size(); at += hop) {
    const auto from = size_t(double(at) * speed);
    for (size_t n = 0; n < piece; ++n)
      y[at + n] += x[from + n] * std::pow(std::sin(std::numbers::pi * (double(n) + 0.5) / piece), 2);
  }
  return y;
}
Signal stretched(const Signal& x) { return stretched_to(0.999, x); }
/// Low and high go up and down by themselves.
Signal trembling(const Signal& x) {
  const Signal low = one_pole(x, 0.05);
  Signal y;
  for (size_t n = 0; n < x.size(); ++n) {
    const double turn = 2 * std::numbers::pi * double(n) / rate;
    y.push_back(low[n] * (1 + 0.3 * std::sin(3.3 * turn)) + (x[n] - low[n]) * (1 - 0.3 * std::sin(2.1 * turn)));
  }
  return y;
}

}  // namespace

class TestOnTop : public QObject {
  Q_OBJECT

  Folder folder_;

  NullReport told_of(const Planar& master, const Planar& ret) const {
    return test::told_of(folder_, master, ret, rate, WordFormat::pcm24);
  }

 private slots:
  void another_programme_is_told_data() {
    QTest::addColumn<QString>("top");
    QTest::addColumn<QString>("master");
    for (const auto& [top, master] : {std::pair{"drone", "wide"},
                                      {"drone", "loop"},
                                      {"drone", "drone"},
                                      {"choir", "speech"},
                                      {"piano", "piano"},
                                      {"piano", "drone"},
                                      {"speech", "from_silence"},
                                      {"speech", "loop"},
                                      {"dense", "dense"},
                                      {"from_silence", "loop"}})
      QTest::addRow("%s on %s", top, master) << top << master;
  }
  void another_programme_is_told() {
    QFETCH(QString, top);
    QFETCH(QString, master);
    const Planar sound = programme(master.toStdString(), rate, seconds, 61);
    const auto r = told_of(sound, with_on_top(sound, programme(top.toStdString(), rate, seconds, 507), -18));
    QCOMPARE(r.kind, Kind::changed);
    QVERIFY2(tells(r, "other_programme"), qPrintable(told(r)));
    for (const char* wrong : {"noise", "splice", "insert", "repeat", "channel_gain", "crosstalk"})
      QVERIFY2(!tells(r, wrong), qPrintable(told(r)));
  }

  void noise_stays_noise_data() {
    QTest::addColumn<QString>("master");
    for (const char* master : {"drone", "loop", "piano", "speech"}) QTest::newRow(master) << master;
  }
  void noise_stays_noise() {
    QFETCH(QString, master);
    const Planar sound = programme(master.toStdString(), rate, seconds, 63);
    const auto r = told_of(sound, with_noise(sound, 0.01, 9));
    QVERIFY2(tells(r, "noise") && !tells(r, "other_programme"), qPrintable(told(r)));
  }

  void what_is_made_of_the_programme_is_no_other_data() {
    QTest::addColumn<int>("what");
    QTest::addColumn<QString>("master");
    const char* names[] = {"chorus", "bent low", "leaning", "trembling", "denoised", "stretched"};
    for (int what = 0; what < 6; ++what)
      for (const char* master : {"piano", "wide", "drone"})
        QTest::addRow("%s of %s", names[what], master) << what << master;
  }
  void what_is_made_of_the_programme_is_no_other() {
    QFETCH(int, what);
    QFETCH(QString, master);
    const Planar sound = programme(master.toStdString(), rate, 8, 65);
    Planar ret = sound;
    for (int c = 0; c < 2; ++c) {
      const auto channel = sound.channel(c);
      const Signal x(channel.begin(), channel.end());
      const Signal y = std::array{chorus, bent_low, leaning, trembling, denoised, stretched}[size_t(what)](x);
      std::copy(y.begin(), y.end(), ret.channel(c).begin());
    }
    const auto r = told_of(sound, ret);
    for (const char* wrong : {"other_programme", "noise", "fade", "gain_step", "clicks"})
      QVERIFY2(!tells(r, wrong), qPrintable(told(r)));
  }

  /// What the samples say by themselves is told even where no cause explains anything.
  void a_word_length_is_told_of_what_nothing_explains() {
    const Planar sound = programme("wide", rate, 8, 65);
    Planar ret = sound;
    for (int c = 0; c < 2; ++c) {
      const auto channel = sound.channel(c);
      const Signal y = stretched_to(0.99, Signal(channel.begin(), channel.end()));
      std::copy(y.begin(), y.end(), ret.channel(c).begin());
    }
    const auto r = told_of(sound, requantised(ret, 12, true));
    QVERIFY2(tells(r, "word_length") && number(cause(r, "word_length"), "bits") == 12, qPrintable(told(r)));
    QVERIFY2(!tells(r, "fade") && !tells(r, "gain_step") && !tells(r, "gain"), qPrintable(told(r)));
    QCOMPARE(r.kind, Kind::changed);
  }

  /// What was added sets in and ends: where, and how strong it is there.
  void what_is_added_in_part_is_told_where_it_is_data() {
    QTest::addColumn<QString>("code");
    QTest::addColumn<double>("from");
    QTest::addColumn<double>("until");
    for (const char* code : {"hum", "tone", "noise"})
      for (const auto& [from, until] : {std::pair{3.3, 7.1}, {0.0, 5.0}, {6.2, 10.0}})
        QTest::addRow("%s from %.1f", code, from) << code << from << until;
  }
  void what_is_added_in_part_is_told_where_it_is() {
    QFETCH(QString, code);
    QFETCH(double, from);
    QFETCH(double, until);
    const Planar sound = programme("dense", 44100, 10, 21);
    dsp::Noise chance(4);
    const double hz = code == "hum" ? 50 : 1234.5;
    Planar ret = sound;
    for (size_t n = size_t(from * 44100); n < size_t(until * 44100); ++n)
      for (int c = 0; c < 2; ++c)
        ret.channel(c)[n] += code == "noise"
                                 ? 1e-3 * chance.gaussian()
                                 : std::sqrt(2e-6) * std::sin(2 * std::numbers::pi * hz * double(n) / 44100);
    const auto r = told_of(sound, ret);
    const Cause* added = cause(r, code.toUtf8().constData());
    QVERIFY2(added && is_near(number(added, "level_dbfs"), -60, 0.3) && r.kind == Kind::noise, qPrintable(told(r)));
    QVERIFY2(added->from_s && is_near(*added->from_s, from, 0.06) && is_near(*added->until_s, until, 0.06),
             qPrintable(told(r)));
    if (code != "noise") QVERIFY2(added->after_db.value_or(-999) < -75, qPrintable(told(r)));
  }

  /// Two programmes with the same drums in the same places: what is alike in both lies in both channels.
  void what_is_shared_is_no_gain_of_one_channel() {
    const Planar sound = programme("dense", rate, seconds, 65);
    const auto r = told_of(sound, with_on_top(sound, programme("loop", rate, seconds, 507), -18));
    QVERIFY2(!tells(r, "channel_gain"), qPrintable(told(r)));
  }
};

SHARED_MAIN(TestOnTop)
#include "test_on_top.moc"
