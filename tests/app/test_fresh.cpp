// Nothing shown is stale: files that change while the bench is open, or while it is not, undo, and what waits for what.
#include <QElapsedTimer>
#include <QSignalSpy>
#include <QtTest>
#include <fstream>

#include "app/model/file_watch.hpp"
#include "app/shell/main_window.hpp"
#include "core/audio/fingerprint.hpp"
#include "tests/support/share.hpp"
#include "tests/support/window.hpp"

using namespace heathmist;
using namespace heathmist::app;
using namespace heathmist::test;

class TestFresh : public WindowTest {
  Q_OBJECT

 private slots:
  void initTestCase() {
    prepare_window(folder_);
    sound_ = requantised(scaled(Programme(8, 1).render(48000), 0.5), 24, true);
    master_ = write("mill.wav", sound_);
  }

  /// One byte anywhere, and the fingerprint is another; the same bytes elsewhere have the same.
  void every_byte_counts() {
    const auto file = (folder_ / "bytes").string();
    std::string bytes(3000000, 'a');
    const auto put = [&](const std::string& name) { std::ofstream(name, std::ios::binary) << bytes; };
    put(file);
    const auto first = fingerprint(file);
    QVERIFY(is_fingerprint(first) && !is_fingerprint("2dc6c0-9a3f") && !is_fingerprint(""));
    QCOMPARE(fingerprint(file), first);
    dsp::Noise chance(3);
    for (int round = 0; round < 20; ++round) {
      const auto at = size_t(chance.between(0, 2999999));
      bytes[at] = 'b';
      put(file);
      QVERIFY(fingerprint(file) != first);
      bytes[at] = 'a';
      put(file);
      QCOMPARE(fingerprint(file), first);
    }
    put(file + " again");
    QCOMPARE(fingerprint(file + " again"), first);
    QCOMPARE(fingerprint(folder_ / "not there"), std::string());
  }

  void a_return_that_is_bounced_anew_is_measured_anew_data() {
    QTest::addColumn<bool>("replaced");
    QTest::newRow("written over") << false;
    QTest::newRow("replaced by another file") << true;
  }
  void a_return_that_is_bounced_anew_is_measured_anew() {
    QFETCH(bool, replaced);
    const QString ret = write("bounce.wav", sound_);
    take({master_, ret});
    QCOMPARE(kind_of(0, 0), std::string("identical"));
    bounce(ret, scaled(sound_, 0.5), replaced);
    QTRY_COMPARE_WITH_TIMEOUT(kind_of(0, 0), std::string("level"), 20000);
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result() && window_->workspace().current_result()->why,
                             20000);
    QTRY_VERIFY(!window_->findings()->sentences().isEmpty());
    QVERIFY(window_->findings()->sentences().front().contains("level"));
    QTRY_VERIFY(window_->part<TrialsView>()->csv().contains("level") &&
                !window_->part<TrialsView>()->csv().contains("identical"));
    QVERIFY(!window_->workspace().states().at(trial(0, 0)).anew.isEmpty());
    QCOMPARE(window_->workspace().states().at(trial(0, 0)).file, FileState::present);
    bounce(ret, sound_, replaced);  // and back
    QTRY_COMPARE_WITH_TIMEOUT(kind_of(0, 0), std::string("identical"), 20000);
  }

  void a_master_that_changes_is_measured_anew_with_all_its_trials() {
    const QString master = write("own.wav", sound_), first = write("a.wav", sound_), second = write("b.wav", sound_);
    take({master, first, second});
    QTRY_COMPARE_WITH_TIMEOUT(kind_of(0, 1), std::string("identical"), 20000);
    bounce(master, scaled(sound_, 0.5), false);
    QTRY_VERIFY_WITH_TIMEOUT(kind_of(0, 0) == "level" && kind_of(0, 1) == "level", 30000);
  }

  /// Pages that hold numbers of a file let them go with it.
  void no_page_keeps_the_numbers_of_a_file_that_changed() {
    const QString master = write("pages.wav", sound_);
    take({master, write("pages-back.wav", sound_)});
    window_->workspace().model().edit("chains", [](Bench& bench) { bench.chains = {{"Cut", {{"word_length"}}, 1}}; });
    MatrixView* matrix = window_->part<MatrixView>();
    window_->show_page("matrix");
    QSignalSpy rested(matrix, &MatrixView::rested);
    matrix->start();
    QVERIFY(rested.wait(60000));
    QTRY_VERIFY(matrix->matrix().at(0, 0).done);
    window_->show_page("spectrum");
    QSignalSpy drawn(window_->part<SpectrumView>(), &SpectrumView::drawn);
    QTRY_VERIFY_WITH_TIMEOUT(drawn.count() > 0, 60000);
    window_->show_page("loudness");
    const std::string id = window_->workspace().bench().masters.front().id;
    const auto lufs = [&] {
      const LoudnessRow* row = window_->loudness().row(id);
      return row && row->measured ? row->measured->loudness.integrated_lufs : std::nullopt;
    };
    QTRY_VERIFY_WITH_TIMEOUT(lufs(), 60000);
    const double before = *lufs();
    window_->show_page("spectrum");
    drawn.clear();
    bounce(master, scaled(sound_, 0.5), false);
    QTRY_VERIFY_WITH_TIMEOUT(!matrix->matrix().at(0, 0).done, 20000);
    QVERIFY(matrix->note().contains("run it again"));
    QVERIFY(!lufs());
    QTRY_VERIFY_WITH_TIMEOUT(drawn.count() > 0, 60000);
    window_->show_page("loudness");
    QTRY_VERIFY_WITH_TIMEOUT(lufs(), 60000);
    QVERIFY(is_near(*lufs(), before - 6.02, 0.01));
  }

  /// Read while it was being written, and then as it was: no failure stays.
  void what_failed_on_a_file_that_was_being_written_is_tried_again() {
    const QString ret = write("half.wav", sound_);
    QFile file(ret);
    QVERIFY(file.open(QIODevice::ReadOnly));
    const QByteArray whole = file.readAll();
    file.close();
    const auto put = [&](const QByteArray& bytes) {
      QVERIFY(file.open(QIODevice::WriteOnly) && file.write(bytes) == bytes.size());
      file.close();
    };
    take({master_, ret});
    put("Not yet");
    QTRY_VERIFY_WITH_TIMEOUT(!window_->workspace().states().at(trial(0, 0)).failure.isEmpty(), 20000);
    put(whole);
    QTRY_COMPARE_WITH_TIMEOUT(kind_of(0, 0), std::string("identical"), 20000);
    QVERIFY(window_->workspace().states().at(trial(0, 0)).failure.isEmpty());
  }

  /// Far from any of a few places that could be looked at; and of a trial that is not the one that is looked at.
  void what_changed_while_the_bench_was_closed_is_seen() {
    const QString first = write("c.wav", sound_), second = write("d.wav", sound_);
    take({master_, first, second});
    QTRY_COMPARE_WITH_TIMEOUT(kind_of(0, 1), std::string("identical"), 20000);
    const QString bench = QString::fromStdString((folder_ / "closed.heathmist").string());
    QVERIFY(window_->files()->save_to(bench));
    QTRY_VERIFY_WITH_TIMEOUT(!window_->workspace().queue().is_busy("files"), 5000);
    window_.reset();
    Planar other = sound_;
    other.channel(0)[size_t(other.frames() / 2 + 12345)] += 0.1;
    write("d.wav", other);
    init();
    window_->take_files({bench});
    QTRY_VERIFY_WITH_TIMEOUT(!kind_of(0, 1).empty() && kind_of(0, 1) != "identical", 30000);
    QCOMPARE(kind_of(0, 0), std::string("identical"));
  }

  void undo_takes_its_numbers_with_it_wherever_one_looks() {
    const QString first = write("e.wav", scaled(sound_, 0.5)), second = write("f.wav", sound_);
    take({master_, first, second});
    const std::string held = trial(0, 0), other = trial(0, 1);
    const auto before = depth_of(held);
    FitHold hold;
    hold.delay_samples = 700;
    window_->workspace().hold(hold, "held");
    QTRY_VERIFY_WITH_TIMEOUT(depth_of(held) && depth_of(held) != before, 20000);
    window_->workspace().look_at(other);
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result() && window_->workspace().current_result()->why,
                             20000);
    window_->workspace().model().undo_stack().undo();
    QVERIFY(depth_of(held) == before || !depth_of(held));  // at once: never the undone number
    QTRY_VERIFY_WITH_TIMEOUT(depth_of(held) == before, 20000);
  }

  void pointing_at_the_same_file_keeps_nobody_waiting() {
    const QString first = write("g.wav", sound_), second = write("h.wav", sound_), third = write("i.wav", sound_);
    take({master_, first, second, third});
    QTRY_COMPARE_WITH_TIMEOUT(kind_of(0, 2), std::string("identical"), 30000);
    window_->workspace().point_anew(trial(0, 0), first);
    QTRY_COMPARE_WITH_TIMEOUT(kind_of(0, 0), std::string("identical"), 20000);
    for (const double gain : {0.5, 0.25})
      window_->workspace().add_files({write(gain < 0.3 ? "k.wav" : "j.wav", scaled(sound_, gain))});
    QTRY_VERIFY_WITH_TIMEOUT(kind_of(0, 3) == "level" && kind_of(0, 4) == "level", 30000);
  }

  void an_edit_while_a_trial_runs_is_no_stop() {
    const QString ret = write("l.wav", with_noise(sound_, 0.01, 5));
    QSignalSpy failed(&window_->workspace(), &Workspace::trial_failed);
    window_->take_files({master_, ret});
    for (const double delay : {10.0, 20.0, 30.0}) {
      QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().results().is_busy(), 5000);
      FitHold hold;
      hold.delay_samples = delay;
      window_->workspace().hold(hold, "held");
    }
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result() && window_->workspace().current_result()->why,
                             60000);
    QCOMPARE(window_->workspace().current_result()->report->fit.delay_samples, 30.0);
    QCOMPARE(failed.count(), 0);
  }

  /// A part of a trial that was measured is told while another one is being explained.
  void a_selection_does_not_wait_for_an_explanation() {
    const QString ret = write("m.wav", with_noise(sound_, 0.01, 5));
    take({master_, ret});
    const auto result = window_->workspace().current_result();
    const Planar dense = Programme(120, 4).render(48000);
    window_->workspace().add_files({write("n.wav", with_noise(scaled(dense, 0.3), 0.01, 6))});
    TrialResults& runner = window_->workspace().results();
    QTRY_VERIFY_WITH_TIMEOUT(runner.is_busy(), 10000);
    QSignalSpy looked(&runner, &TrialResults::looked);
    RegionRequest look{result, result->report->fit, {}, false};
    look.options.first = 48000, look.options.last = 96000;
    QElapsedTimer waited;
    waited.start();
    runner.look(look);
    QTRY_COMPARE_WITH_TIMEOUT(looked.count(), 1, 5000);
    QVERIFY(runner.is_busy());  // the long one still is
  }

  void a_watch_tells_of_one_write_once_and_of_coming_and_going() {
    const auto file = folder_ / "watched";
    std::ofstream(file) << "a";
    FileWatch watch;
    watch.watch({file});
    QSignalSpy settled(&watch, &FileWatch::settled);
    for (int n = 0; n < 5; ++n) {
      std::ofstream(file, std::ios::app) << "more";
      QTest::qWait(30);
    }
    QTRY_COMPARE_WITH_TIMEOUT(settled.count(), 1, 5000);
    std::filesystem::remove(file);
    QTRY_COMPARE_WITH_TIMEOUT(settled.count(), 2, 5000);
    std::ofstream(folder_ / "beside") << "b";
    std::filesystem::rename(folder_ / "beside", file);
    QTRY_COMPARE_WITH_TIMEOUT(settled.count(), 3, 5000);
    watch.watch({});
    std::ofstream(file, std::ios::app) << "more";
    QTest::qWait(700);
    QCOMPARE(settled.count(), 3);
  }

 private:
  QString write(const std::string& name, const Planar& sound) {
    return QString::fromStdString(save(folder_ / name, sound, 48000, WordFormat::pcm24).string());
  }
  void bounce(const QString& file, const Planar& sound, bool replaced) {
    if (!replaced) return void(write(std::filesystem::path(file.toStdString()).filename().string(), sound));
    std::filesystem::rename(write("beside.wav", sound).toStdString(), file.toStdString());
  }
  void take(const QStringList& files) {
    window_->take_files(files);
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result() && window_->workspace().current_result()->why,
                             60000);
    QTRY_VERIFY_WITH_TIMEOUT(!window_->workspace().queue().is_busy("files"), 5000);
  }
  std::string trial(size_t master, size_t n) const {
    return window_->workspace().bench().masters.at(master).trials.at(n).id;
  }
  std::string kind_of(size_t master, size_t n) const {
    const auto& states = window_->workspace().states();
    const auto row = states.find(trial(master, n));
    return row == states.end() || !row->second.summary ? std::string() : row->second.summary->kind;
  }
  std::optional<double> depth_of(const std::string& id) const {
    const auto row = window_->workspace().states().find(id);
    return row == window_->workspace().states().end() || !row->second.summary
               ? std::nullopt
               : row->second.summary->residual_relative_db;
  }
  Planar sound_;
  QString master_;
};

SHARED_WINDOW_MAIN(TestFresh)
#include "test_fresh.moc"
