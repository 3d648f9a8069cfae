// Spectra and their lines against constructed truths.
#include "core/measure/lines.hpp"

#include "core/probes/readings.hpp"
#include "tests/support/stages.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

double level(double db) { return std::pow(10, db / 20); }

Planar mixed(const std::vector<std::pair<double, double>>& hz_and_dbfs, double seconds, int rate,
             double noise_rms = 0) {
  Planar sound(1, int64_t(seconds * rate));
  dsp::Noise chance(11);
  for (size_t n = 0; n < size_t(sound.frames()); ++n) {
    double x = noise_rms > 0 ? noise_rms * chance.gaussian() : 0;
    for (const auto& [hz, db] : hz_and_dbfs)
      x += level(db) * std::sin(2 * pi * std::remainder(hz * double(n) / rate, 1.0));
    sound.channel(0)[n] = x;
  }
  return sound;
}

const SpectralLine* line_at(const LineReading& r, double hz, double tolerance = 0.1) {
  for (const auto& l : r.lines)
    if (std::abs(l.hz - hz) < tolerance) return &l;
  return nullptr;
}

}  // namespace

class TestLines : public StageTest {
  Q_OBJECT

  Spectra spectra(const Planar& sound, int rate = 48000, const SpectraOptions& options = {}) {
    return spectra_of(*clip(sound, rate), options);
  }

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  void a_line_reads_its_level_in_every_window_and_unit() {
    const double bin = 48000.0 / 16384;
    const auto sound = mixed({{700 * bin, -6}}, 4, 48000);
    for (const auto window :
         {dsp::Window::hann, dsp::Window::blackman_harris, dsp::Window::flat_top, dsp::Window::kaiser}) {
      SpectraOptions o;
      o.fft_size = 16384, o.window = window;
      const auto s = spectra(sound, 48000, o);
      for (const Spectrum* which : {&s.average, &s.hold}) {
        const auto line = shown(s, *which, {});
        QVERIFY(std::abs(*std::max_element(line.db.begin(), line.db.end()) + 6) < 0.01);
      }
      const auto thirds = shown(s, s.average, {SpectrumUnit::third_octave});
      QVERIFY(std::abs(*std::max_element(thirds.db.begin(), thirds.db.end()) + 6) < 0.01);
    }
  }

  void lines_are_the_same_whatever_window_the_curve_has() {
    SpectraOptions o;
    o.window = dsp::Window::hann;
    const auto r = lines_of(*clip(mixed({{1000.3, 0}}, 6, 48000)), o);
    QCOMPARE(r.lines.size(), size_t(1));  // no shoulder is taken for a line
    const auto s = spectra(mixed({{1000, 0}}, 2, 48000));
    Showing wide;
    wide.high_hz = 96000;
    const auto line = shown(s, s.average, wide);
    QVERIFY(line.hz.back() > 95999 && line.db.back() == -300);
  }

  void silence_between_lines_is_deep() {
    const auto s = spectra(mixed({{1000.3, 0}}, 6, 48000));
    const auto line = shown(s, s.average, {SpectrumUnit::per_line, 0, 2000, 20000});
    QVERIFY2(*std::max_element(line.db.begin(), line.db.end()) < -200,
             qPrintable(QString::number(*std::max_element(line.db.begin(), line.db.end()))));
  }

  void noise_reads_its_density() {
    const double rms = 1e-4;  // white to half the rate; a sine's RMS is 3.01 dB under its peak
    const double truth = 20 * std::log10(rms) + 3.0103 - 10 * std::log10(24000);
    for (const size_t size : {4096UL, 65536UL})
      for (const auto window : {dsp::Window::hann, dsp::Window::kaiser, dsp::Window::flat_top}) {
        SpectraOptions o;
        o.fft_size = size, o.window = window;
        const auto s = spectra(mixed({}, 20, 48000, rms), 48000, o);
        const auto r = read_lines(s.average);
        QVERIFY2(std::abs(*r.noise_per_root_hz_dbfs - truth) < 0.1,
                 qPrintable(QString::number(*r.noise_per_root_hz_dbfs - truth)));
        QVERIFY(std::abs(*r.noise_dbfs - truth - 10 * std::log10(19980)) < 0.1);
        QVERIFY2(r.lines.empty(), qPrintable(QString::number(r.lines.size())));
      }
  }

  void thd_n_holds_down_to_minus_140() {
    for (const double wanted : {-60.0, -100.0, -120.0, -140.0}) {  // harmonic and noise of equal power
      const double each = wanted - 3.0103;
      const double noise_in_band = level(each - 1) / std::sqrt(2);
      const auto sound = mixed({{997, -1}, {2 * 997, each - 1}}, 20, 48000, noise_in_band * std::sqrt(24000 / 19980.0));
      const auto r = read_lines(spectra(sound).average);
      QVERIFY(r.thd_n_db && r.thd_db);
      QVERIFY2(std::abs(*r.thd_n_db - wanted) < 0.1, qPrintable(QString("%1 for %2").arg(*r.thd_n_db).arg(wanted)));
      QVERIFY(std::abs(*r.thd_db - each) < 0.1);
      QVERIFY(std::abs(*r.equivalent_bits - (-wanted + 1 - 1.76) / 6.02) < 0.02);
    }
  }

  void lines_are_named() {
    const auto r = read_lines(
        spectra(mixed({{997, -3}, {1994, -80}, {2991, -90}, {50, -95}, {100, -100}, {7123, -105}}, 10, 48000, 1e-8))
            .average);
    QCOMPARE(r.lines.size(), size_t(6));
    QCOMPARE(r.lines.front().kind, SpectralLine::Kind::fundamental);
    QCOMPARE(line_at(r, 1994)->name, std::string("2nd harmonic of 997 Hz"));
    QCOMPARE(line_at(r, 2991)->order, 3);
    QCOMPARE(line_at(r, 50)->kind, SpectralLine::Kind::hum);
    QCOMPARE(line_at(r, 100)->order, 2);
    QCOMPARE(line_at(r, 7123)->kind, SpectralLine::Kind::unknown);
    QVERIFY(std::abs(line_at(r, 7123)->dbr + 102) < 0.05);
    QVERIFY(std::abs(*r.sfdr_db - 77) < 0.05);
    const auto twin =
        read_lines(spectra(mixed({{11000, -7}, {12000, -7}, {1000, -90}, {10000, -80}}, 10, 48000, 1e-8)).average);
    QCOMPARE(line_at(twin, 1000)->order, 2);
    QCOMPARE(line_at(twin, 10000)->order, 3);
    QCOMPARE(twin.imd_method, Intermodulation::difference_tone);  // against the sum of the two tones
    QVERIFY(std::abs(*twin.imd_db - (10 * std::log10(1e-9 + 1e-8) + 7 - 6.0206)) < 0.05);
    const auto smpte = read_lines(
        spectra(mixed({{60, -3}, {7000, -15}, {6940, -75}, {7060, -75}, {7120, -85}}, 10, 48000, 1e-8)).average);
    QCOMPARE(smpte.imd_method, Intermodulation::smpte);
    QVERIFY(std::abs(*smpte.imd_db - (10 * std::log10(2e-6 + 1e-7))) < 0.05);
    const auto other = read_lines(spectra(mixed({{1000, -7}, {3100, -7}, {2100, -80}}, 10, 48000, 1e-8)).average);
    QCOMPARE(other.imd_method, Intermodulation::all_products);
    QVERIFY(std::abs(*other.imd_db + 76.01) < 0.05);
  }

  /// Harmonics over 20 kHz count for THD as little as they do for THD+N.
  void thd_and_thd_n_are_of_one_band() {
    const auto r = read_lines(
        spectra(mixed({{8000, -3}, {16000, -83}, {24000, -43}, {32000, -43}}, 10, 96000, 1e-8), 96000).average);
    QVERIFY(std::abs(*r.thd_db + 80) < 0.05);
    QVERIFY(std::abs(*r.thd_n_db + 80) < 0.1);
  }

  /// Two lines nearer than the resolution are said to be so, one line is not; the size offered parts them.
  void lines_too_near_to_part_are_told() {
    for (const double apart : {3.0, 6.0, 12.0, 30.0}) {
      for (const double lower : {0.0, 20.0}) {
        if (apart < 12 && lower > 0) continue;  // a bin away and under it: nothing shows
        const auto sound = mixed({{1000, -6}, {1000 + apart, -6 - lower}}, 30, 48000, 1e-7);
        SpectraOptions o;
        o.fft_size = 8192;
        const auto first = read_lines(spectra(sound, 48000, o).average);
        const std::string where = std::to_string(apart) + " Hz, " + std::to_string(lower) + " dB";
        QVERIFY2(first.fft_size_to_resolve > 8192, where.c_str());
        QVERIFY2(first.lines.front().unresolved, where.c_str());
        o.fft_size = first.fft_size_to_resolve;
        const auto then = read_lines(spectra(sound, 48000, o).average);
        QVERIFY2(line_at(then, 1000) && line_at(then, 1000 + apart) && then.lines.size() == 2, where.c_str());
        QCOMPARE(then.fft_size_to_resolve, size_t(0));
      }
    }
    const auto moving = [] {  // by half a hertz in ten seconds: no FFT parts that
      Planar sound(1, 48000 * 20);
      for (size_t n = 0; n < size_t(sound.frames()); ++n) {
        const double t = double(n) / 48000;
        sound.channel(0)[n] = 0.5 * std::sin(2 * pi * std::remainder(1000 * t + 0.2 * t * t, 1.0));
      }
      return sound;
    }();
    SpectraOptions longest;
    longest.fft_size = most_fft_size / 2;
    const auto smeared = read_lines(spectra(moving, 48000, longest).average);
    QVERIFY(smeared.fft_size_to_resolve > 0);
    const Json json = lines_json(smeared)["unresolved"];
    QVERIFY(json["fft_size"].is_null() == (smeared.fft_size_to_resolve > most_fft_size));
    dsp::Noise chance(5);
    for (int n = 0; n < 40; ++n) {
      const double hz = chance.between(100, 20000), rms = std::pow(10, chance.between(-8, -4));
      const auto one = read_lines(spectra(mixed({{hz, -6}}, 10, 48000, rms)).average);
      QVERIFY2(one.fft_size_to_resolve == 0, qPrintable(QString::number(hz)));
    }
  }

  /// A detour on the way names what came of a tone that is itself gone, though louder tones stand beside it.
  void what_came_of_a_detour_is_named_first() {
    Planar sound = tone(1000, 0.5, 4, 96000);
    const Planar high = tone(16700, 0.3, 4, 96000), image = tone(19600, 0.03, 4, 96000);
    for (size_t n = 0; n < size_t(sound.frames()); ++n) sound.channel(0)[n] += high.channel(0)[n] + image.channel(0)[n];
    LineOptions o;
    o.detours = {{96000, 44100, {27400}}};
    const auto told = read_lines(spectra(sound, 96000).average, o);
    QVERIFY(line_at(told, 16700) && line_at(told, 16700)->kind == SpectralLine::Kind::alias);
    QCOMPARE(line_at(told, 16700)->name, std::string("27.4 kHz folded at 44.1 kHz"));
    QVERIFY(line_at(told, 19600)->kind == SpectralLine::Kind::alias);
    QVERIFY(line_at(told, 1000)->kind == SpectralLine::Kind::fundamental);
    const auto plain = read_lines(spectra(sound, 96000).average);
    QVERIFY(line_at(plain, 16700)->kind == SpectralLine::Kind::fundamental);
  }

  void an_ultrasonic_tone_that_folds_is_named() {
    const auto out = run(clip(mixed({{27400, -3}}, 8, 96000), 96000),
                         {{{"type", "converter"}, {"rate_hz", 44100}, {"by", "linear"}}});
    LineOptions o;
    o.sources_hz = {27400}, o.source_rate_hz = 96000, o.reference_dbfs = -3;
    const auto r = read_lines(spectra_of(*out).average, o);
    const auto* alias = line_at(r, 16700);
    QVERIFY(alias);
    QCOMPARE(alias->kind, SpectralLine::Kind::alias);
    QCOMPARE(alias->name, std::string("27.4 kHz folded at 44.1 kHz"));
    const double v = 27400 / 96000.0;  // linear interpolation passes the square of the sinc
    QVERIFY2(std::abs(alias->dbr - 40 * std::log10(std::sin(pi * v) / (pi * v))) < 0.1,
             qPrintable(QString::number(alias->dbr)));
    QVERIFY(!r.thd_n_db);  // nothing of what was wanted is there
  }

  /// Every source lands where it was asked for, and none is left out: against all tones tried one by one.
  void sources_of_a_line_are_all_that_land_there() {
    for (const auto& [from, to] :
         {std::pair{96000.0, 44100.0}, {44100.0, 96000.0}, {192000.0, 48000.0}, {48000.0, 44100.0}})
      for (const double out : {100.0, 5000.0, 16700.0, 20000.0}) {
        if (out > to / 2) continue;
        const auto all = sources_of(out, from, to, 1);
        for (const auto& s : all) {
          QVERIFY(s.in_hz >= 0 && s.in_hz <= from / 2);
          QVERIFY(std::abs(std::abs(s.landing.image * from + s.in_hz) - s.landing.before_hz) < 1e-6);
          QVERIFY(std::abs(folded_hz(s.landing.before_hz, to) - out) < 1e-6);
        }
        const auto kept = distinct_images(from, to, 1);
        size_t expected = 0;
        for (int k : kept) {
          double before = folded_hz(k * from, to) - out;
          for (double f = 1; f <= from / 2; f += 1) {  // a change of sign is a landing
            const double now = folded_hz(k * from + f, to) - out;
            expected += (before < 0) != (now < 0);
            before = now;
          }
        }
        QVERIFY2(
            std::abs(int(all.size()) - int(expected)) <= 1,
            qPrintable(QString("%1 to %2, %3: %4 for %5").arg(from).arg(to).arg(out).arg(all.size()).arg(expected)));
      }
    const auto all = sources_of(16700, 96000, 44100);
    QVERIFY(std::any_of(all.begin(), all.end(), [](const auto& s) { return std::abs(s.in_hz - 27400) < 1e-6; }));
  }

  void weightings_are_those_of_their_standards() {
    for (const auto& [hz, a] :
         {std::pair{1000.0, 0.0}, {100.0, -19.1}, {31.623, -39.4}, {10000.0, -2.5}, {3162.3, 1.2}})
      QVERIFY2(std::abs(weighting_db(Weighting::a, hz) - a) < 0.1,
               qPrintable(QString::number(weighting_db(Weighting::a, hz))));
    for (const auto& [hz, db] :
         {std::pair{1000.0, 0.0}, {6300.0, 12.2}, {100.0, -19.8}, {31.5, -29.9}, {10000.0, 8.1}, {16000.0, -11.7}})
      QVERIFY2(std::abs(weighting_db(Weighting::ccir_468, hz) - db) < 0.3,
               qPrintable(QString("%1 %2").arg(hz).arg(weighting_db(Weighting::ccir_468, hz))));
    QVERIFY(std::abs(weighting_db(Weighting::k, 997) - 0.691) < 0.02 && weighting_db(Weighting::k, 10000) > 3.9);
  }

  void mid_and_side_are_apart() {
    Planar sound(2, 48000 * 4);
    const auto mid = mixed({{1000, -6}}, 4, 48000), side = mixed({{3000, -20}}, 4, 48000);
    for (size_t n = 0; n < size_t(sound.frames()); ++n) {
      sound.channel(0)[n] = mid.channel(0)[n] + side.channel(0)[n];
      sound.channel(1)[n] = mid.channel(0)[n] - side.channel(0)[n];
    }
    SpectraOptions o;
    o.listen = Listen::mid;
    const auto m = read_lines(spectra(sound, 48000, o).average);
    QVERIFY(line_at(m, 1000) && !line_at(m, 3000) && std::abs(line_at(m, 1000)->dbfs + 6) < 0.001);
    o.listen = Listen::side;
    const auto s = read_lines(spectra(sound, 48000, o).average);
    QVERIFY(!line_at(s, 1000) && std::abs(line_at(s, 3000)->dbfs + 20) < 0.001);
    o.fft_size = 100;
    QVERIFY_EXCEPTION_THROWN(spectra(sound, 48000, o), std::invalid_argument);
  }
};

QTEST_GUILESS_MAIN(TestLines)
#include "test_lines.moc"
