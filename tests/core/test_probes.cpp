// Probes: found again whatever became of them, and read as theory says.
#include <set>

#include "core/boards/converter_board.hpp"
#include "tests/support/share.hpp"
#include "tests/support/stages.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

ProbeFit in_place(const ProbeScore& score) { return {score.rate_hz, -score.body_s, 1, 0, false}; }

/// Kernels of the interpolators over the input's samples, and what each passes at v cycles a sample.
double kernel(const std::string& by, double t) {
  const double a = std::abs(t);
  if (by == "hold") return t > -1 && t <= 0 ? 1 : 0;
  if (by == "linear") return std::max(0.0, 1 - a);
  return a < 1 ? (1.5 * a - 2.5) * a * a + 1 : a < 2 ? ((-0.5 * a + 2.5) * a - 4) * a + 2 : 0;  // Catmull-Rom
}

/// The interpolated signal is sampled at multiples of the new rate alone, where only `places` phases of the kernel are
/// met: the sum over these is what passes, images that always land together included.
double passed_db(const std::string& by, double v, int places) {
  std::complex<double> sum = 0;
  for (int p = -2 * places; p <= 2 * places; ++p)
    sum += kernel(by, double(p) / places) * std::polar(1.0, -2 * pi * v * p / places);
  return 20 * std::log10(std::abs(sum) / places + 1e-300);
}

}  // namespace

class TestProbes : public StageTest {
  Q_OBJECT

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  void frequencies_fold_where_theory_says() {
    QCOMPARE(folded_hz(27400, 44100), 16700.0);
    QCOMPARE(folded_hz(22050, 44100), 22050.0);
    QCOMPARE(folded_hz(50000, 44100), 5900.0);
    QCOMPARE(folded_hz(-100, 44100), 100.0);
    const auto all = landings(1000, 44100, 96000, 2);
    QCOMPARE(all.size(), size_t(5));
    QCOMPARE(all[1].image, -1);
    QCOMPARE(all[1].out_hz, 43100.0);
    QCOMPARE(all[3].before_hz, 87200.0);
    QCOMPARE(all[3].out_hz, 8800.0);
    QCOMPARE(distinct_images(48000, 96000).size(), size_t(2));  // for whole ratios most images fall on one another
    QCOMPARE(distinct_images(96000, 48000).size(), size_t(1));
    dsp::Noise chance(4);
    for (int n = 0; n < 1000; ++n) {  // sampling is what folds: a tone and where it lands have the same samples
      const double rate = chance.between(8000, 192000), hz = chance.between(0, 400000), out = folded_hz(hz, rate);
      QVERIFY(out >= 0 && out <= rate / 2);
      for (int k = 0; k < 5; ++k)
        QVERIFY(std::abs(std::cos(2 * pi * std::remainder(hz * k / rate, 1.0)) -
                         std::cos(2 * pi * std::remainder(out * k / rate, 1.0))) < 1e-8);
    }
  }

  void a_probe_is_found_whatever_its_delay_rate_and_level_data() {
    QTest::addColumn<int>("rate");
    QTest::addColumn<int>("to");
    QTest::addColumn<double>("delay_s");
    QTest::addColumn<double>("gain");
    QTest::newRow("as it was") << 48000 << 48000 << 0.0 << 1.0;
    QTest::newRow("late, quiet, inverted") << 44100 << 44100 << 7.31234 << -0.01;
    QTest::newRow("early") << 96000 << 96000 << -0.2 << 0.5;
    QTest::newRow("another rate") << 96000 << 44100 << 1.5 << 0.9;
    QTest::newRow("up") << 44100 << 192000 << 0.33 << 0.9;
  }
  void a_probe_is_found_whatever_its_delay_rate_and_level() {
    QFETCH(int, rate);
    QFETCH(int, to);
    QFETCH(double, delay_s);
    QFETCH(double, gain);
    const auto score = probe_score("tone", rate);
    const auto file = folder_ / "probe.wav";
    write_probe(score, {file, true}, ProbeWord::pcm24);
    Chain chain = chain_of({{{"type", "delay"}, {"delay_samples", delay_s * rate}},
                            {{"type", "gain"}, {"gain_db", 20 * std::log10(std::abs(gain))}},
                            {{"type", "polarity"}}});
    chain.stages.back().on = gain < 0;
    auto ret = pass(Clip::open(file), chain).ret;
    if (to != rate) ret = Clip::at_rate(ret, to);
    const auto fit = find_probe(*ret, "tone");
    QVERIFY(fit);
    QCOMPARE(fit->probe_rate_hz, rate);
    QVERIFY2(std::abs(fit->at_s - delay_s) * to < 0.01, qPrintable(QString::number((fit->at_s - delay_s) * to)));
    QVERIFY2(std::abs(fit->stretch - 1) < 1e-8, qPrintable(QString::number(fit->stretch - 1)));
    QVERIFY(std::abs(fit->level_db - 20 * std::log10(std::abs(gain))) < 0.01);
    QCOMPARE(fit->inverted, gain < 0);
  }

  void what_is_no_probe_is_not_taken_for_one() {
    QVERIFY(!find_probe(*clip(Programme(20, 3).render(48000)), "sweep"));
    QVERIFY(!find_probe(*clip(Planar(1, 48000)), "sweep"));
    QVERIFY_EXCEPTION_THROWN(probe_score("warble", 48000), std::invalid_argument);
    QVERIFY_EXCEPTION_THROWN(probe_score("sweep", 47999), std::invalid_argument);
  }

  void poor_interpolation_reads_as_theory_says_data() {
    QTest::addColumn<QString>("by");
    QTest::addColumn<int>("from");
    QTest::addColumn<int>("to");
    for (const char* by : {"hold", "linear", "cubic"})
      for (const auto& [from, to] : {std::pair{44100, 96000}, {96000, 44100}})
        QTest::newRow(qPrintable(QString("%1 %2 %3").arg(by).arg(from).arg(to))) << by << from << to;
  }
  void poor_interpolation_reads_as_theory_says() {
    QFETCH(QString, by);
    QFETCH(int, from);
    QFETCH(int, to);
    const auto score = probe_score("sweep", from);
    const auto ret = run(body_clip(score), {{{"type", "converter"}, {"rate_hz", to}, {"by", by.toStdString()}}});
    const auto reading = read_sweep(*ret, score, in_place(score));
    const int places = to / int(std::gcd(from, to));
    int compared = 0, near = 0;
    for (const auto& point : reading.points)
      for (size_t k = 0; k < reading.images.size(); ++k) {
        const double truth = passed_db(by.toStdString(), double(reading.images[k]) + point.in_hz / from, places);
        if (truth < -85 || std::abs(reading.images[k]) > 2) continue;  // higher ones are crossed by those not asked for
        const double off = std::abs(point.image_db[k] - truth);
        ++compared, near += off < 0.5;
        const bool low = point.in_hz < 400;  // images of opposite sign cross there
        QVERIFY2(off < (low ? 2 : 1), qPrintable(QString("%1 Hz, image %2: %3 for %4")
                                                     .arg(point.in_hz)
                                                     .arg(reading.images[k])
                                                     .arg(point.image_db[k])
                                                     .arg(truth)));
      }
    QVERIFY2(near > 0.99 * compared, qPrintable(QString("%1 of %2").arg(near).arg(compared)));
    QVERIFY(compared > 1000);
  }

  /// The stretch that the marks tell is never exactly one: images that fall together for whole ratios must not part.
  void a_sweep_from_a_file_reads_as_one_in_place() {
    for (const auto& [from, to] : {std::pair{48000, 96000}, {96000, 48000}, {48000, 44100}}) {
      const auto score = probe_score("sweep", from);
      write_probe(score, {folder_ / "sweep.wav", true}, ProbeWord::float32);
      const auto late = chain_of({{{"type", "delay"}, {"delay_samples", 1000}},  // whole: a part would bend the top
                                  {{"type", "converter"}, {"rate_hz", to}, {"by", "linear"}}});
      const auto read = read_probe(*pass(Clip::open(folder_ / "sweep.wav"), late).ret, "sweep");
      const auto place = run(body_clip(score), {{{"type", "converter"}, {"rate_hz", to}, {"by", "linear"}}});
      const auto truth = read_sweep(*place, score, in_place(score));
      QCOMPARE(read.sweep->images, truth.images);
      for (size_t n = 0; n < truth.points.size(); ++n) {
        const SweepPoint &a = read.sweep->points[n], &b = truth.points[n];
        const bool turns = std::abs(a.in_hz - to / 2) < 150;  // into its fold: read from either side
        QVERIFY2(std::abs(a.wanted_db() - b.wanted_db()) < (turns ? 0.2 : 0.02), qPrintable(QString::number(a.in_hz)));
        for (size_t k = 1; k < truth.images.size(); ++k)
          if (b.image_db[k] > -60)
            QVERIFY2(std::abs(a.image_db[k] - b.image_db[k]) < 0.5, qPrintable(QString("%1 Hz, image %2: %3 %4")
                                                                                   .arg(a.in_hz)
                                                                                   .arg(truth.images[k])
                                                                                   .arg(a.image_db[k])
                                                                                   .arg(b.image_db[k])));
      }
    }
  }

  /// Wanted line, folded line and harmonics of known levels along a sweep: each is read as it was put in.
  void what_folds_and_what_bends_are_told_apart() {
    const int from = 96000, to = 44100;
    const auto score = probe_score("sweep", from);
    Planar sound(1, int64_t(score.body_seconds * to));
    for (size_t n = 0; n < size_t(sound.frames()); ++n) {
      const double t = double(n) / to, turn = 2 * pi * std::remainder(score.sweep->cycles(t), 1.0);
      const double carrier = 2 * pi * std::remainder(-96000 * t, 1.0);
      sound.channel(0)[n] = 0.7 * std::sin(turn) + 0.7e-3 * std::sin(turn + carrier) + 0.7e-4 * std::cos(2 * turn) +
                            0.7e-5 * std::sin(3 * turn);
    }
    const auto reading = read_sweep(*clip(sound, to), score, in_place(score));
    const auto first = size_t(std::find(reading.images.begin(), reading.images.end(), -1) - reading.images.begin());
    QVERIFY(first < reading.images.size());
    int clear = 0;
    for (const auto& p : reading.points) {
      const double scale = 20 * std::log10(0.7) - score.level_dbfs;
      const bool turns = std::abs(std::remainder(p.in_hz, to / 2)) < 150;  // into its fold: read from either side
      QVERIFY2(std::abs(p.wanted_db() - scale) < (turns ? 0.3 : 0.01),
               qPrintable(QString("%1 %2").arg(p.in_hz).arg(p.wanted_db())));
      QVERIFY2(std::abs(p.image_db[first] - scale + 60) < 0.5,
               qPrintable(QString("%1 %2").arg(p.in_hz).arg(p.image_db[first])));
      clear += std::abs(p.harmonic_db[0] - scale + 80) < 0.5 && std::abs(p.harmonic_db[1] - scale + 100) < 0.5;
    }
    QVERIFY2(clear > 0.96 * double(reading.points.size()), qPrintable(QString::number(clear)));
  }

  void the_best_converters_read_clean() {
    for (const auto& [from, to] : {std::pair{96000, 44100}, {44100, 96000}, {48000, 44100}}) {
      const auto score = probe_score("sweep", from);
      const auto ret = run(body_clip(score), {{{"type", "converter"}, {"rate_hz", to}, {"by", "libsoxr"}}});
      const auto r = read_sweep(*ret, score, in_place(score));
      QVERIFY2(r.audible.db < -140,
               qPrintable(QString("%1 at %2 to %3").arg(r.audible.db).arg(r.audible.in_hz).arg(r.audible.out_hz)));
      QVERIFY2(r.harmonic.db < -140, qPrintable(QString("%1 at %2").arg(r.harmonic.db).arg(r.harmonic.in_hz)));
      QVERIFY2(r.rest_db < -140, qPrintable(QString::number(r.rest_db)));
      QVERIFY2(r.ripple_db < 0.01 && std::abs(r.delay_s) * to < 0.001,
               qPrintable(QString("%1 %2").arg(r.ripple_db).arg(r.delay_s * to)));
    }
  }

  /// What a sweep tells of a first-class converter is what steady tones tell, at the edge and at every crossing.
  void a_sweep_tells_what_steady_tones_tell() {
    const std::vector<Json> ways{{{"type", "converter"}, {"rate_hz", 44100}, {"by", "libsoxr"}},
                                 {{"type", "converter"}, {"rate_hz", 44100}, {"by", "speexdsp"}, {"speex_quality", 3}}};
    for (const Json& way : ways)
      for (const char* kind : {"sweep", "log_sweep"}) {
        const auto score = probe_score(kind, 96000);
        const auto r = read_sweep(*run(body_clip(score), {way}), score, in_place(score));
        for (const double near :
             {3900.0,  11700.0, 14250.0, 18150.0, 21000.0, 21700.0, 21900.0, 22000.0, 22050.0, 22150.0,
              22250.0, 22400.0, 22500.0, 22850.0, 23100.0, 24500.0, 25950.0, 28800.0, 36100.0, 44100.0}) {
          const auto p = *std::min_element(r.points.begin(), r.points.end(), [&](const auto& a, const auto& b) {
            return std::abs(a.in_hz - near) < std::abs(b.in_hz - near);
          });
          const auto back = run(clip(tone(p.in_hz, 0.5, 3, 96000), 96000), {way});
          SpectraOptions o;
          o.first = 30000, o.last = 100000, o.fft_size = 32768;
          const auto lines = spectra_of(*back, o).average;
          auto level_at = [&](double hz) {
            double power = 0;
            for (int64_t k = std::llround(hz / lines.bin_hz) - 10; k <= std::llround(hz / lines.bin_hz) + 10; ++k)
              if (k >= 0 && k < int64_t(lines.power.size())) power += lines.power[size_t(k)];
            return 10 * std::log10(2 * power / 0.25 + 1e-30);
          };
          const double out = folded_hz(p.in_hz, 44100);
          const double least = -140;
          const double truth = std::max(least, level_at(out)), read = std::max(least, p.wanted_db());
          // in the notches of a stop band many images are as loud as what is wanted
          QVERIFY2(std::abs(read - truth) < (truth < -110  ? 2.5
                                             : truth < -80 ? 1.0
                                                           : 0.5),
                   qPrintable(QString("%1 at %2 Hz: %3 for %4").arg(kind).arg(p.in_hz).arg(read).arg(truth)));
        }
        const auto top = r.edges.minus_60_db;
        QVERIFY(!top || *top <= 22050);
        QVERIFY(!r.edges.minus_3_db || *r.edges.minus_3_db <= 22050);
        double least = 1e9, greatest = -1e9;
        for (const auto& p : r.points)
          if (p.in_hz <= r.pass_band_hz)
            least = std::min(least, p.wanted_db()), greatest = std::max(greatest, p.wanted_db());
        QVERIFY(std::abs(r.ripple_db - (greatest - least)) < 1e-9);
      }
  }

  /// It was flushed in the middle of a programme once, which no steady tone showed.
  void no_converter_breaks_off_in_the_middle() {
    const auto score = probe_score("sweep", 96000);
    for (const auto& [by, key, value] : {std::tuple{"libswresample", "swresample_filter_size", 128},
                                         {"speexdsp", "speex_quality", 10},
                                         {"zita_resampler", "zita_half_length", 96}}) {
      const auto ret = run(body_clip(score), {{{"type", "converter"}, {"rate_hz", 44100}, {"by", by}, {key, value}}});
      const auto r = read_sweep(*ret, score, in_place(score));
      for (const auto& p : r.points)
        QVERIFY2(p.rest_db < -100, qPrintable(QString("%1 at %2 Hz: %3").arg(by).arg(p.in_hz).arg(p.rest_db)));
    }
  }

  /// Edges of a known filter: a Butterworth low pass of second order has them in closed form.
  void edges_are_found_within_a_thousandth() {
    const auto score = probe_score("sweep", 96000);
    const auto ret =
        run(body_clip(score), {{{"type", "filter"}, {"shape", "low_pass"}, {"hz", 4000.0}, {"q", 0.70710678118}}});
    const auto r = read_sweep(*ret, score, in_place(score));
    const double warp = std::tan(pi * 4000 / 96000);
    auto truth = [&](double db) {  // of the bilinear transform
      return 96000 / pi * std::atan(warp * std::pow(std::pow(10, db / 10) - 1, 0.25));
    };
    QVERIFY(r.edges.minus_3_db && r.edges.minus_60_db && r.edges.minus_0_1_db);
    const double at = 1000, drop = 10 * std::log10(1 + std::pow(std::tan(pi * at / 96000) / warp, 4));
    for (const auto& [db, edge] :
         {std::pair{3.0103, *r.edges.minus_3_db}, {0.1, *r.edges.minus_0_1_db}, {60.0, *r.edges.minus_60_db}})
      QVERIFY2(std::abs(edge / truth(db + drop) - 1) < 1e-3,
               qPrintable(QString("%1 dB: %2 for %3").arg(db).arg(edge).arg(truth(db + drop))));
  }

  /// Chirps alone are not enough: what lies between them must be the probe that was named.
  void the_wrong_kind_is_refused_and_either_sweep_is_read() {
    for (const char* kind : {"log_sweep", "tone"}) {
      const auto file = folder_ / (std::string(kind) + ".wav");
      write_probe(probe_score(kind, 48000), {file, true}, ProbeWord::pcm24);
      QVERIFY_EXCEPTION_THROWN(read_probe(*Clip::open(file), "sweep"), InputError);
    }
    const auto refused = [](const std::filesystem::path& file, const std::string& as) {
      try {
        read_probe(*Clip::open(file), as);
      } catch (const InputError& error) {
        return std::string(error.what());
      }
      return std::string();
    };
    for (const char* is : {"tone", "twin_tone", "silence", "ultrasonic", "sweep", "log_sweep", "levels", "impulse"}) {
      const auto file = folder_ / "is.wav";
      write_probe(probe_score(is, 44100), {file, true}, ProbeWord::pcm24);
      for (const char* as : {"tone", "twin_tone", "silence", "ultrasonic", "sweep", "log_sweep", "multitone"}) {
        const auto told = refused(file, as);
        const bool may_be = is == std::string("silence") && as == std::string("ultrasonic");  // a filter took it
        QVERIFY2(told.empty() == (may_be || is == std::string(as)), qPrintable(QString("%1 as %2").arg(is, as)));
        if (told.empty() || is == std::string("silence")) continue;
        const bool alike = probe_kind(is)->body_s == 6 && probe_kind(as)->body_s != 6;  // told by length alone
        QVERIFY2(alike || told.find(std::string("'") + is + "'") != told.npos || told.find(is) != told.npos,
                 told.c_str());
      }
    }
    const auto row = read_returned_sweep(folder_ / "log_sweep.wav");
    QVERIFY(std::abs(row.sweep.gain_db) < 0.01 && row.sweep.audible.db < -100 && row.sweep.delay_s * 48000 < 0.01);
    const auto cut = samples_of(*Clip::open(folder_ / "log_sweep.wav"), 0, 48000 * 17);
    QVERIFY_EXCEPTION_THROWN(read_probe(*clip(cut), "log_sweep"), InputError);
  }

  /// Eight impulses fall between the frames of another rate at eight places.
  void impulses_are_met_at_different_places() {
    const auto score = probe_score("impulse", 96000);
    std::set<long> places;
    for (const double at : score.impulses_s) {
      QVERIFY(std::abs(at * 96000 - std::round(at * 96000)) < 1e-6);
      const double frame = (at - score.body_s) * 44100;
      places.insert(std::lround((frame - std::floor(frame)) * 1000));
    }
    QCOMPARE(places.size(), size_t(8));
  }

  void impulses_ring_as_long_as_their_filter() {
    const auto score = probe_score("impulse", 96000);
    for (const auto& [by, longest_ms] : {std::pair{"linear", 0.03}, {"cubic", 0.05}}) {
      const auto ret = run(body_clip(score), {{{"type", "converter"}, {"rate_hz", 192000}, {"by", by}}});
      const auto r = read_impulses(*ret, score, in_place(score));
      QVERIFY(std::abs(r.peak_dbfs - score.level_dbfs) < 0.01 && !r.inverted && std::abs(r.delay_s) < 1e-9);
      QVERIFY(r.pre_ringing_s < longest_ms / 1000 && r.post_ringing_s < longest_ms / 1000);
    }
    const auto steep = run(body_clip(score), {{{"type", "converter"}, {"rate_hz", 44100}, {"by", "libsoxr"}}});
    const auto r = read_impulses(*steep, score, in_place(score));
    QVERIFY(r.pre_ringing_s > 0.001 && std::abs(r.pre_ringing_s - r.post_ringing_s) < 0.0005);
  }
};

SHARED_MAIN(TestProbes)
#include "test_probes.moc"
