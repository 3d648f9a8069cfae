// Impulse responses whose decay is known in closed form.
#include <array>

#include "core/delivery/responses.hpp"
#include "tests/support/stages.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

/// Noise that falls by 60 dB in `t60_s`, after `onset` frames of nothing; steady noise under it.
Planar decaying(double t60_s, double seconds, int rate, uint64_t seed, int64_t onset = 0, double noise = 0) {
  dsp::Noise chance(seed);
  Planar out(2, int64_t(seconds * rate));
  for (int c = 0; c < 2; ++c)
    for (int64_t n = 0; n < out.frames(); ++n) {
      const double t = double(n - onset) / rate;
      out.channel(c)[size_t(n)] =
          noise * chance.gaussian() + (t < 0 ? 0 : 0.2 * chance.gaussian() * std::pow(10, -3 * t / t60_s));
    }
  if (onset < out.frames()) out.channel(0)[size_t(onset)] = 0.9;
  return out;
}

}  // namespace

class TestResponses : public StageTest {
  Q_OBJECT

 private slots:
  void the_decay_is_the_one_that_was_put_in() {
    for (const double t60 : {0.3, 1.2, 2.5})
      for (const int rate : {44100, 96000}) {
        const auto r = study_response(*clip(decaying(t60, 2 * t60, rate, 5, 480), rate));
        const QString label = QString("%1 s at %2 Hz: T20 %3, T30 %4")
                                  .arg(t60)
                                  .arg(rate)
                                  .arg(r.t20_s.value_or(-1))
                                  .arg(r.t30_s.value_or(-1));
        QVERIFY2(r.t20_s && std::abs(*r.t20_s / t60 - 1) < 0.05, qPrintable(label));
        QVERIFY2(r.t30_s && std::abs(*r.t30_s / t60 - 1) < 0.04, qPrintable(label));
        QVERIFY(std::abs(r.onset_s - 480.0 / rate) < 1e-9);
        QVERIFY(!r.noise_dbr);
        // of an even decay the first 80 ms hold 1 - exp(-13.8 t / T60) of the energy; the one sample at its start adds
        // to it
        QVERIFY(r.clarity_db && r.decay.front().second == 0);
      }
  }

  void its_gain_is_that_of_convolving_with_it() {
    for (const int rate : {16000, 44100, 96000}) {
      // a one-pole low pass, whose gain is known at every frequency, and one sample of 0.5 in the other channel
      const double hold = std::exp(-2 * pi * 1000 / rate);
      Planar response(2, rate);
      for (int64_t n = 0; n < rate; ++n) response.channel(0)[size_t(n)] = (1 - hold) * std::pow(hold, double(n));
      response.channel(1)[0] = 0.5;
      const SpectrumLine gain = study_response(*clip(response, rate)).gain;
      QCOMPARE(gain.hz.size(), size_t(response_lines));
      for (size_t n = 0; n < gain.hz.size(); ++n) {
        if (gain.hz[n] > rate / 2.0) {
          QCOMPARE(gain.db[n], -200.0);
        } else if (gain.hz[n] < 0.4 * rate) {
          const double w = 2 * pi * gain.hz[n] / rate;
          const double power = std::pow(1 - hold, 2) / (1 - 2 * hold * std::cos(w) + hold * hold);
          const double truth = 10 * std::log10(0.5 * (power + 0.25));
          QVERIFY2(
              std::abs(gain.db[n] - truth) < 0.1,
              qPrintable(QString("%1 Hz of %2: %3, truth %4").arg(gain.hz[n]).arg(rate).arg(gain.db[n]).arg(truth)));
        }
      }
    }
  }

  void noise_shortens_no_time_and_a_short_range_tells_none() {
    const auto r = study_response(*clip(decaying(1, 3, 48000, 6, 0, 1e-4)));
    QVERIFY(r.noise_dbr && std::abs(*r.noise_dbr - 20 * std::log10(1e-4 * std::sqrt(2.0) / 0.92)) < 1.5);
    QVERIFY2(r.t30_s && std::abs(*r.t30_s - 1) < 0.06, qPrintable(QString::number(r.t30_s.value_or(-1))));
    const auto loud = study_response(*clip(decaying(1, 3, 48000, 7, 0, 1e-2)));
    QVERIFY(!loud.t30_s);
  }

  /// What is left out is measured by leaving it out.
  void enough_is_enough() {
    const auto response = clip(decaying(0.8, 1.6, 48000, 8));
    const auto master = clip(Programme(6, 21).render(48000));
    const auto programme = average_spectrum(*master, 8192, 0, -1, 200);
    const auto enough = enough_frames(*response, std::array{-30.0, -50.0}, &programme);
    for (size_t n = 0; n < enough.size(); ++n) {
      QVERIFY(enough[n].has_value());
      Planar tail = samples_of(*response);
      for (int c = 0; c < 2; ++c)
        for (size_t k = 0; k < size_t(*enough[n]); ++k) tail.channel(c)[k] = 0;
      const double asked = n == 0 ? -30 : -50;
      const double left = convolved_db(master, tail) - convolved_db(master, samples_of(*response));
      QVERIFY2(std::abs(left - asked) < 1.5, qPrintable(QString("%1 for %2").arg(left).arg(asked)));
    }
    QVERIFY(!enough_frames(*clip(decaying(9, 0.2, 48000, 9)), std::array{-100.0})[0]);
    const auto white = enough_frames(*response, std::array{-60.0});  // by time alone: 60 dB of decay
    QVERIFY2(white[0] && std::abs(double(*white[0]) / 48000 - 0.8) < 0.12,
             qPrintable(QString::number(double(white[0].value_or(0)) / 48000)));
  }

  void two_are_nulled_early_and_late() {
    const Planar a = decaying(1, 1.5, 48000, 10);
    Planar b = a;
    for (int c = 0; c < 2; ++c)
      for (size_t n = 9600; n < size_t(b.frames()); ++n) b.channel(c)[n] *= 1.1;  // 20 dB under, from 200 ms on
    const auto null = null_responses(clip(a), clip(b));
    double late = 0, whole = 0;
    for (int c = 0; c < 2; ++c)
      for (size_t n = 0; n < size_t(a.frames()); ++n)
        whole += a.channel(c)[n] * a.channel(c)[n], late += n >= 9600 ? 0.01 * a.channel(c)[n] * a.channel(c)[n] : 0;
    QVERIFY2(std::abs(null.whole_db - 10 * std::log10(late / whole)) < 0.1, qPrintable(QString::number(null.whole_db)));
    QVERIFY(std::abs(null.late_db - null.whole_db) < 0.01);
    QVERIFY(null.early_db < -200);
    Planar cut(2, 24000);
    for (int c = 0; c < 2; ++c) std::copy_n(a.channel(c).begin(), 24000, cut.channel(c).begin());
    const auto shorter = null_responses(clip(a), clip(cut));  // 0.5 s of 60 dB a second
    QVERIFY2(std::abs(shorter.whole_db + 30) < 3, qPrintable(QString::number(shorter.whole_db)));
    QVERIFY(null_responses(clip(a), clip(a)).whole_db < -250);
  }

  /// As the page asks: a file, for a master's file, with what running each length costs.
  void a_file_is_studied_for_a_master() {
    const auto file = save(folder_ / "hall.wav", decaying(0.6, 1.2, 48000, 12), 48000);
    const auto master = save(folder_ / "master.wav", Programme(4, 5).render(48000), 48000);
    const auto programme = programme_spectrum(master);
    const auto study = study_response_file(file, programme.get());
    QCOMPARE(study.cuts.size(), std::size(response_cuts_db));
    for (size_t n = 0; n < study.cuts.size(); ++n) {
      QCOMPARE(study.cuts[n].frames, enough_frames(*Clip::open(file), response_cuts_db, programme.get())[n]);
      QVERIFY(!study.cuts[n].frames || (study.cuts[n].work && *study.cuts[n].work > 0));
      QVERIFY(n == 0 || study.cuts[n].frames.value_or(57600) >= study.cuts[n - 1].frames.value_or(57600));
    }
    QVERIFY(study.work && *study.work > 0);
    const Json line = response_json(file, study);
    for (const char* key : {"response", "t30_s", "enough_at_60_s", "enough_at_60_work_share", "work_share"})
      QVERIFY2(line.contains(key), key);
    QVERIFY(
        !study_response_file(save(folder_ / "three.wav", Planar(with_noise(Planar(3, 48000), 0.1, 3)), 48000)).work);
    QVERIFY_EXCEPTION_THROWN(study_response_file(folder_ / "gone.wav"), InputError);
  }

  void a_wrong_rate_shifts_everything() {
    const auto wrong = at_wrong_rate(48000, 44100);
    QVERIFY(std::abs(wrong.cents + 146.7) < 0.1);
    QVERIFY(std::abs(wrong.length_factor - 48000.0 / 44100) < 1e-12);
    QCOMPARE(at_wrong_rate(96000, 96000).cents, 0.0);
  }

  void what_is_no_response_is_refused() {
    QVERIFY_EXCEPTION_THROWN(study_response(*clip(Planar(2, 4800))), InputError);
    QVERIFY_EXCEPTION_THROWN(null_responses(clip(Planar(1, 4800)), clip(Planar(1, 4800))), InputError);
  }

 private:
  /// Mean power of a master through a response, by the convolution itself.
  double convolved_db(std::shared_ptr<const Clip> master, const Planar& response) {
    const auto file = save(folder_ / QString("r%1.wav").arg(count_++).toStdString(), response, 48000);
    const auto made =
        pass(master, chain_from_json({{"stages", {{{"type", "convolution"}, {"response", file.string()}}}}})).ret;
    const Planar x = samples_of(*made);
    return 10 * std::log10(mean_square(x.channel(0)) + mean_square(x.channel(1)));
  }
};

QTEST_GUILESS_MAIN(TestResponses)
#include "test_responses.moc"
