// What is built on chains: returns that are kept, the ceiling search, the setting matrix, probe signals.
#include <QtTest>
#include <cmath>

#include "core/audio/fingerprint.hpp"
#include "core/boards/matrix.hpp"
#include "core/delivery/ceiling.hpp"
#include "core/measure/spectra.hpp"
#include "core/stages/returns.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

Stage codec(const char* name, int kbps) { return {"codec", {{"codec", name}, {"bit_rate_kbps", kbps}}}; }
Stage gain(double db) { return {"gain", {{"gain_db", db}}}; }
Chain chain(std::vector<Stage> stages) { return {"", std::move(stages), 1}; }

}  // namespace

class TestReturns : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() {
    qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str()));
    // loud, dense, limited: an encode of it goes over
    Planar loud = with_noise(scaled(Programme(8, 40, 9000).render(44100), 4), 0.05, 3);
    double peak = 0;
    for (int c = 0; c < 2; ++c)
      for (double& x : loud.channel(c)) x = std::tanh(x), peak = std::max(peak, std::abs(x));
    file_ = save(folder_ / "loud.wav", scaled(loud, 0.998 / peak), 44100, WordFormat::pcm24);
    master_ = Clip::open(file_);
  }

  void an_edit_at_the_end_does_not_encode_again() {
    Returns returns;
    const auto print = fingerprint(file_);
    const auto first = returns.make(master_, print, chain({codec("mp3", 128), gain(-1)}), {});
    QCOMPARE(returns.stages_run(), int64_t(2));
    const auto second = returns.make(master_, print, chain({codec("mp3", 128), gain(-2)}), {});
    QCOMPARE(returns.stages_run(), int64_t(3));
    QVERIFY(second.stages[0].encoded_bytes == first.stages[0].encoded_bytes);
    const auto again = returns.make(master_, print, chain({codec("mp3", 128), gain(-1)}), {});
    QCOMPARE(returns.stages_run(), int64_t(3));
    QVERIFY(again.ret == first.ret);
    Stage off = gain(5);
    off.on = false;
    QVERIFY(returns.make(master_, print, chain({off, codec("mp3", 128), gain(-1)}), {}).ret == first.ret);
    QVERIFY(returns.make(master_, "another", chain({codec("mp3", 128), gain(-1)}), {}).ret != first.ret);
    try {
      returns.make(master_, print, chain({codec("mp3", 128), {"convolution"}}), {});
      QFAIL("a convolution without a response ran");
    } catch (const ChainError& error) {
      QVERIFY2(QString(error.what()).startsWith("stage 2 (convolution)"), error.what());
    }
  }

  void marks_follow_what_a_chain_reads() {
    save(folder_ / "ir.wav", with_noise(Planar(1, 100), 0.1, 1), 44100);
    const Chain c = chain({{"convolution", {{"response", (folder_ / "ir.wav").string()}}}});
    const auto before = chain_fingerprint(c);
    save(folder_ / "ir.wav", with_noise(Planar(1, 100), 0.1, 2), 44100);
    QVERIFY(chain_fingerprint(c) != before);
    Chain named = chain({gain(1)});
    named.name = "named";
    QCOMPARE(chain_fingerprint(named), chain_fingerprint(chain({gain(1)})));
  }

  /// The answer holds with all around it, and a little more does not: tried again from outside.
  void the_ceiling_is_found_to_a_twentieth_of_a_decibel_data() {
    QTest::addColumn<bool>("limiter");
    QTest::newRow("gain") << false;
    QTest::newRow("limiter") << true;
  }
  void the_ceiling_is_found_to_a_twentieth_of_a_decibel() {
    QFETCH(bool, limiter);
    const std::vector<Chain> chains{chain({codec("mp3", 96)}), chain({codec("aac", 96)}), chain({codec("opus", 64)})};
    CeilingOptions options;
    options.limiter = limiter;
    options.limit_dbtp = -0.5;
    int told = 0, before_any = 0;
    double last = 0;
    bool forward = true;
    Job job;
    job.progress = [&](double fraction) {
      forward &= fraction >= last && fraction <= 1;
      last = fraction;
      before_any += told == 0 && fraction > 0;
    };
    const auto found = find_ceiling(master_, chains, options, job, [&](size_t, const CeilingAnswer&) { ++told; });
    QCOMPARE(told, 3);
    QVERIFY(forward && last > 0.999 && before_any > 3);
    for (size_t n = 0; n < chains.size(); ++n) {
      const auto& answer = found.answers[n];
      QVERIFY2(answer.failure.empty() && answer.set_db, answer.failure.c_str());
      auto peak_at = [&](double db) {
        Chain tried = chains[n];
        tried.stages.insert(tried.stages.begin(), limiter ? Stage{"limiter", {{"ceiling_dbtp", db}}} : gain(db));
        return *true_peaks(*pass(master_, tried).ret).dbtp;
      };
      QVERIFY(peak_at(*answer.set_db) <= options.limit_dbtp);
      QVERIFY(std::is_sorted(answer.points.begin(), answer.points.end(),
                             [](const auto& a, const auto& b) { return a.set_db < b.set_db; }));
      const auto next = std::find_if(answer.points.begin(), answer.points.end(),
                                     [&](const auto& p) { return p.set_db > *answer.set_db; });
      if (*answer.set_db < (limiter ? 0 : 24)) {  // something above it did not hold
        QVERIFY(next != answer.points.end());
        QVERIFY(std::any_of(next, answer.points.end(), [&](const auto& p) {
          return p.set_db - *answer.set_db < 4 && p.true_peak_dbtp > options.limit_dbtp && p.overs > 0;
        }));
      }
      for (const auto& p : answer.points)  // and nothing near under it
        if (p.set_db <= *answer.set_db && p.set_db > *answer.set_db - 0.2)
          QVERIFY(p.true_peak_dbtp <= options.limit_dbtp);
      QVERIFY(answer.neighbours >= 12 && *answer.margin_db >= 0 && std::abs(*answer.risk_at_most - 0.22) < 0.05);
      for (const double under : {0.03, 0.11}) {  // tried anew, elsewhere in the encoder's blocks
        Chain tried = chains[n];
        tried.stages.insert(tried.stages.begin(), limiter ? Stage{"limiter", {{"ceiling_dbtp", *answer.set_db - under}}}
                                                          : gain(*answer.set_db - under));
        tried.stages.insert(tried.stages.begin(), Stage{"delay", {{"delay_samples", 333.0}}});
        QVERIFY(*true_peaks(*pass(master_, tried).ret).dbtp <= options.limit_dbtp + 0.1);
      }
      if (!limiter)
        QVERIFY(*answer.set_db < 0 && !answer.worst.empty() && answer.worst.front().dbtp >= answer.worst.back().dbtp);
    }
    QVERIFY(found.for_all_db() && *found.for_all_db() <= *found.answers[0].set_db);
    QVERIFY(ceiling_json(found)["answers"].size() == 3);
  }

  void tries_that_lie_together_are_drawn_as_one() {
    CeilingAnswer answer;
    answer.points = {{-3, -2, 0, 0}, {-1.05, -1.2, 0, 0}, {-1.02, -0.6, 0, 211}, {-1, -0.9, 0, 0}, {0, 0.5, 3, 0}};
    const auto spread = spread_of(answer);
    QCOMPARE(spread.size(), size_t(3));
    QVERIFY(spread[0].low_dbtp == -2 && spread[0].high_dbtp == -2 && spread[0].set_db == -3);
    QVERIFY(spread[1].low_dbtp == -1.2 && spread[1].high_dbtp == -0.6 && std::abs(spread[1].set_db + 1.02333) < 1e-4);
    QVERIFY(spread[2].high_dbtp == 0.5 && spread_of(CeilingAnswer()).empty());
  }

  void a_ceiling_that_cannot_be_tried_leaves_the_others() {
    const auto found = find_ceiling(master_, {chain({codec("g722", 64)}), chain({gain(-6)})}, {});
    QVERIFY(QString::fromStdString(found.answers[0].failure).contains("G.722 takes 1 channel"));
    QVERIFY(std::abs(*found.answers[1].set_db - 6) < 0.6);
    std::stop_source stop;
    stop.request_stop();
    QVERIFY_EXCEPTION_THROWN(find_ceiling(master_, {chain({gain(1)})}, {}, Job{stop.get_token(), {}, 0}), Cancelled);
  }

  void tones_are_read_against_theory() {
    for (const double distortion_db : {-40.0, -80.0, -120.0, -140.0}) {
      Planar sound = render(*probe_signal("tone_997"), 44100, 8, 1);
      for (size_t n = 0; n < size_t(sound.frames()); ++n)
        sound.channel(0)[n] += 0.7079457843841379 * std::pow(10, distortion_db / 20) *
                               std::sin(2 * M_PI * std::remainder(2991.0 * double(n) / 44100, 1.0));
      const auto clip = Clip::open(save(folder_ / "tone.wav", sound, 44100));
      SpectraOptions whole;
      whole.fft_size = 1 << 17, whole.first = 22050, whole.last = clip->format().frames - 22050;
      const auto reading = read_tones(spectra_of(*clip, whole).average, std::vector<double>{997});
      QVERIFY(reading.has_value());
      QVERIFY(std::abs(reading->level_dbfs + 3) < 0.01);
      QVERIFY2(std::abs(reading->thd_n_db - distortion_db) < 0.1, qPrintable(QString::number(reading->thd_n_db)));
      QVERIFY(std::abs(reading->spurious_hz - 2991) < 0.4);
      QVERIFY(std::abs(reading->spurious_dbr - distortion_db) < 0.1);
    }
    QVERIFY(!read_tones(Spectrum{1, std::vector<double>(1000, 0.0)}, std::vector<double>{100}));
  }

  void probe_signals_are_what_they_say() {
    for (const ProbeSignal& signal : probe_signals()) {
      const Planar sound = render(signal, 44100, 2);
      double peak = 0, power = 0;
      for (const double x : sound.channel(1)) peak = std::max(peak, std::abs(x)), power += x * x;
      power = 10 * std::log10(power / double(sound.frames()) + 1e-30);
      if (signal.key == "silence")
        QCOMPARE(peak, 0.0);
      else if (signal.key == "noise_90")
        QVERIFY(std::abs(power + 90) < 0.3);
      else
        QVERIFY2(std::abs(20 * std::log10(peak) + 3) < 0.1, signal.key.c_str());
    }
    QVERIFY(!probe_signal("nothing"));
  }

  void the_matrix_holds_what_single_trials_say() {
    const std::vector<MatrixRow> rows{
        {"Loud", file_, ""}, {"Tone", {}, "tone_997"}, {"Silence", {}, "silence"}, {"Gone", folder_ / "gone.wav", ""}};
    const std::vector<Chain> columns{chain({codec("mp3", 128)}), chain({{"word_length", {{"bits", 16}}}}),
                                     chain({codec("g722", 64)})};
    int told = 0;
    double last = 0;
    Job job;
    job.progress = [&](double f) { last = f; };
    const auto matrix = run_matrix(rows, columns, job, [&](size_t, size_t, const MatrixCell&) { ++told; });
    QCOMPARE(told, 12);
    QCOMPARE(last, 1.0);
    const auto& lossy = matrix.at(0, 0);
    const auto alone = null_test(master_, pass(master_, columns[0]).ret);
    QCOMPARE(*lossy.depth_db, *alone.residual_relative_db());
    QCOMPARE(lossy.kind, std::string("lossy"));
    QVERIFY(lossy.encoded_bytes.value_or(0) > 100000 && lossy.bit_rate_bps.value_or(0) > 120000);
    const auto& cut = matrix.at(1, 1);
    QVERIFY(cut.tones.has_value());  // 16 bits with triangular dither: 3/12 step squared under a tone of -3 dBFS
    const double theory = 10 * std::log10(0.25 * std::pow(2, -30)) - (-3 - 3.0103);
    QVERIFY2(std::abs(cut.tones->thd_n_db - theory) < 0.2,
             qPrintable(QString("%1, theory %2").arg(cut.tones->thd_n_db).arg(theory)));
    QVERIFY(matrix.at(1, 0).tones->thd_n_db > cut.tones->thd_n_db);
    QVERIFY(QString::fromStdString(matrix.at(0, 2).failure).contains("G.722"));
    QVERIFY(QString::fromStdString(matrix.at(3, 0).failure).contains("no such file"));
    QVERIFY(matrix.at(2, 0).failure.empty());
    const QString csv = QString::fromStdString(matrix_csv(matrix));
    QCOMPARE(csv.count('\n'), 13);
    QVERIFY(!csv.contains("nan") && !csv.contains("inf"));
    QCOMPARE(int(matrix_json(matrix)["cells"].size()), 12);
  }

  void a_matrix_that_is_stopped_has_handed_over_what_was_done() {
    std::stop_source stop;
    std::vector<std::pair<size_t, size_t>> done;
    try {
      run_matrix({{"Loud", file_, ""}}, std::vector<Chain>(8, chain({codec("mp3", 128)})), Job{stop.get_token(), {}, 1},
                 [&](size_t r, size_t c, const MatrixCell& cell) {
                   QVERIFY(cell.failure.empty());
                   done.emplace_back(r, c);
                   if (done.size() == 2) stop.request_stop();
                 });
      QFAIL("it was not stopped");
    } catch (const Cancelled&) {
    }
    QCOMPARE(done.size(), size_t(2));
  }

 private:
  Folder folder_;
  std::filesystem::path file_;
  std::shared_ptr<const Clip> master_;
};

SHARED_MAIN(TestReturns)
#include "test_returns.moc"
