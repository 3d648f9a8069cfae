// The window driven for real: two files dropped, the answer read, the fit nudged, lanes switched while playing, saved,
// reopened.
#include <QMimeData>
#include <QSignalSpy>
#include <QtTest>

#include "app/shell/finder.hpp"
#include "app/shell/main_window.hpp"
#include "app/theme/theme.hpp"
#include "core/audio/fingerprint.hpp"
#include "tests/support/share.hpp"
#include "tests/support/window.hpp"

using namespace heathmist;
using namespace heathmist::app;
using namespace heathmist::test;

namespace {

void drop(QWidget& on, const QStringList& files) {
  QMimeData data;
  QList<QUrl> urls;
  for (const QString& file : files) urls << QUrl::fromLocalFile(file);
  data.setUrls(urls);
  QDragEnterEvent enter(QPoint(300, 300), Qt::CopyAction, &data, Qt::LeftButton, Qt::NoModifier);
  QApplication::sendEvent(&on, &enter);
  QVERIFY(enter.isAccepted());
  QDropEvent event(QPointF(300, 300), Qt::CopyAction, &data, Qt::LeftButton, Qt::NoModifier);
  QApplication::sendEvent(&on, &event);
}

}  // namespace

class TestWindow : public WindowTest {
  Q_OBJECT

 private slots:
  void initTestCase() {
    prepare_window(folder_);
    const auto sound = requantised(scaled(Programme(8, 1).render(48000), 0.5), 24, true);
    Planar late(2, sound.frames() + 1000);
    for (int c = 0; c < 2; ++c)
      for (int64_t n = 0; n < sound.frames(); ++n)
        late.channel(c)[size_t(n + 1000)] = 0.5 * sound.channel(c)[size_t(n)];
    master_ = QString::fromStdString(save(folder_ / "mill.wav", sound, 48000, WordFormat::pcm24).string());
    ret_ = QString::fromStdString(save(folder_ / "mill-back.wav", late, 48000, WordFormat::pcm24).string());
    noisy_ = QString::fromStdString(
        save(folder_ / "mill-noisy.wav", with_noise(sound, 1e-3, 3), 48000, WordFormat::pcm24).string());
  }

  void two_files_dropped_are_nulled() {
    drop(*window_, {master_, ret_});
    QTRY_VERIFY_WITH_TIMEOUT(!window_->findings()->sentences().isEmpty(), 20000);
    QVERIFY(window_->findings()->sentences().front().startsWith("Only level and timing differ"));
    QVERIFY(window_->findings()->sentences().contains("The return is 1000 samples late."));
    QCOMPARE(window_->part<NullView>()->strip()->delay()->value(), 1000.0);
    QVERIFY(std::abs(window_->part<NullView>()->strip()->gain()->value() + 6.0206) < 0.002);
    QCOMPARE(window_->ledger()->list()->count(), 2);
    QVERIFY(window_->isVisible() && window_->player().has_source());
  }

  void the_fit_is_nudged_live_and_undone() {
    show_pair(ret_);
    auto* strip = window_->part<NullView>()->strip();
    const QString before = strip->residual_text();
    auto* edit = strip->delay()->findChild<QLineEdit*>();
    edit->setFocus();
    QTest::keyClick(edit, Qt::Key_Up);
    QCOMPARE(strip->delay()->value(), 1001.0);
    QTRY_VERIFY_WITH_TIMEOUT(strip->residual_text() != before, 5000);
    QTRY_COMPARE_WITH_TIMEOUT(window_->workspace().current_hold().delay_samples.value_or(0), 1001.0, 5000);
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result() &&
                                 window_->workspace().current_result()->report->fit.delay_samples == 1001.0,
                             20000);
    window_->workspace().model().undo_stack().undo();
    QVERIFY(!window_->workspace().current_hold().any());
    QTRY_COMPARE_WITH_TIMEOUT(strip->delay()->value(), 1000.0, 20000);
    window_->workspace().model().undo_stack().redo();
    QTRY_COMPARE_WITH_TIMEOUT(strip->delay()->value(), 1001.0, 20000);
    auto resets = strip->delay()->findChildren<QToolButton*>();
    const auto reset = std::find_if(resets.begin(), resets.end(), [](auto* b) { return b->text() == "measured"; });
    QTest::mouseClick(*reset, Qt::LeftButton);
    QTRY_COMPARE_WITH_TIMEOUT(strip->delay()->value(), 1000.0, 20000);
  }

  void lanes_are_switched_while_playing() {
    show_pair(ret_);
    window_->part<NullView>()->lanes()->setFocus();
    QTest::keyClick(window_.get(), Qt::Key_Space);
    QTRY_VERIFY_WITH_TIMEOUT(window_->player().is_playing() && window_->player().place_s() > 0.1, 5000);
    for (const auto& [key, heard] :
         {std::pair{Qt::Key_2, Heard::ret}, {Qt::Key_3, Heard::residual}, {Qt::Key_1, Heard::master}}) {
      const double at = window_->player().place_s();
      QTest::keyClick(window_.get(), key);
      QCOMPARE(window_->player().mix().heard, heard);
      QVERIFY(window_->player().is_playing() && window_->player().place_s() >= at &&
              window_->player().place_s() < at + 0.5);
    }
    QVERIFY(std::abs(20 * std::log10(window_->player().mix().return_gain) - 6.02) < 0.05);  // matched
    QTest::keyClick(window_.get(), Qt::Key_M);
    QCOMPARE(window_->player().mix().return_gain, 1.0);
    QTest::keyClick(window_.get(), Qt::Key_Period);
    QCOMPARE(window_->player().mix().lift_db, 6.0);
    QTest::keyClick(window_.get(), Qt::Key_Space);
    QVERIFY(!window_->player().is_playing());
  }

  void a_selection_narrows_the_numbers() {
    show_pair(noisy_);
    auto* view = window_->part<NullView>();
    auto* lanes = view->lanes();
    const QString whole = view->strip()->residual_text();
    const auto left = lanes->rect().center().x(), right = left + 120, y = lanes->rect().center().y();
    QTest::mousePress(lanes, Qt::LeftButton, Qt::ShiftModifier, QPoint(left, y));
    QTest::mouseMove(lanes, QPoint(left + 40, y));
    QTest::mouseMove(lanes, QPoint(right, y));
    QTest::mouseRelease(lanes, Qt::LeftButton, Qt::ShiftModifier, QPoint(right, y));
    QVERIFY(view->selection().has_value());
    QTRY_VERIFY_WITH_TIMEOUT(view->strip()->residual_text() != whole, 5000);
    auto* spectra =
        window_->part<NullView>()->plates()->spectra();  // what they are of stands in their corner, at any width
    QCOMPARE(spectra->corner(), spectra->unit() + ", of the selection");
    QTest::keyClick(window_.get(), Qt::Key_Escape);
    QVERIFY(!view->selection().has_value());
    QTRY_COMPARE_WITH_TIMEOUT(view->strip()->residual_text(), whole, 5000);
    QTRY_COMPARE_WITH_TIMEOUT(spectra->corner(), spectra->unit(), 5000);
  }

  void the_wheel_zooms_about_the_pointer_and_drags_pan() {
    show_pair(ret_);
    auto* lanes = window_->part<NullView>()->lanes();
    const QPoint at(lanes->width() * 3 / 4, 60);
    const double before =
        lanes->from_s() + (lanes->to_s() - lanes->from_s()) * (at.x() - 84.0) / (lanes->width() - 84.0);
    QWheelEvent wheel(at, lanes->mapToGlobal(at), {}, QPoint(0, 480), Qt::NoButton, Qt::NoModifier, Qt::NoScrollPhase,
                      false);
    QApplication::sendEvent(lanes, &wheel);
    const double span = lanes->to_s() - lanes->from_s();
    QVERIFY(span < 4.0);
    QVERIFY(std::abs(lanes->from_s() + span * (at.x() - 84.0) / (lanes->width() - 84.0) - before) < 0.05);
    const double from = lanes->from_s();
    QTest::mousePress(lanes, Qt::LeftButton, Qt::NoModifier, at);
    QTest::mouseMove(lanes, at + QPoint(60, 0));
    QTest::mouseMove(lanes, at + QPoint(100, 0));
    QTest::mouseRelease(lanes, Qt::LeftButton, Qt::NoModifier, at + QPoint(100, 0));
    QVERIFY(lanes->from_s() < from);
    lanes->setFocus();
    QTest::keyClick(lanes, Qt::Key_0);
    QVERIFY(std::abs(lanes->to_s() - 8) < 1e-6);
    for (int n = 0; n < 40; ++n) QTest::keyClick(lanes, Qt::Key_Plus);  // down to single samples
    QVERIFY(lanes->to_s() - lanes->from_s() < 0.01);
    QVERIFY(lanes->csv().count('\n') > 100);
  }

  void findings_jump_to_their_evidence() {
    show_pair(noisy_);
    auto* card = window_->findings()->findChild<FindingCard*>();
    card->setFocus();
    QTest::keyClick(card, Qt::Key_Return);
    const auto at = window_->workspace().current_result()->report->findings.front().at_s.value();
    QVERIFY(std::abs(window_->player().place_s() - at) < 0.001);
    QVERIFY(window_->part<NullView>()->lanes()->from_s() <= at && window_->part<NullView>()->lanes()->to_s() >= at);
  }

  void spectra_read_out_and_go_out_as_files() {
    show_pair(noisy_);
    auto* plate = window_->part<NullView>()->plates()->spectra();
    QVERIFY(plate->read_out(1000).contains("under"));
    QVERIFY(plate->csv().startsWith("frequency_hz,"));
    for (QAction* action : window_->part<NullView>()->view_actions()) action->trigger();
    for (const char* name : {"s.png", "s.svg"}) {
      const QString file = QString::fromStdString((folder_ / name).string());
      plate->write_picture(chosen_destination(file));
      QVERIFY(QFileInfo(file).size() > 1000);
    }
    QTRY_VERIFY(!window_->workspace().results().is_busy());
  }

  void a_bench_is_saved_and_reopened() {
    show_pair(ret_);
    FitHold hold;
    hold.gain_db = -5;
    window_->workspace().hold(hold, "Hold gain");
    const QString file = QString::fromStdString((folder_ / "b.heathmist").string());
    QVERIFY(window_->files()->save_to(file));
    QVERIFY(!window_->windowTitle().contains('*'));
    MainWindow other(simulated_output());
    other.show();
    other.take_files({file});
    QTRY_VERIFY_WITH_TIMEOUT(!other.findings()->sentences().isEmpty(), 20000);
    QCOMPARE(other.part<NullView>()->strip()->gain()->value(), -5.0);
    QCOMPARE(other.ledger()->list()->count(), 2);
  }

  void settings_go_with_the_bench() {
    show_pair(ret_);
    window_->listening()->set_lift(42);
    window_->listening()->set_matched(false);
    for (QAction* action : window_->part<NullView>()->view_actions())
      if (action->text() == "1/3 octave" || action->text() == "relative to master" || action->text() == "65536 points")
        action->trigger();
    const QString file = QString::fromStdString((folder_ / "settings.heathmist").string());
    QVERIFY(window_->files()->save_to(file));
    MainWindow other(simulated_output());
    other.take_files({file});
    QCOMPARE(other.listening()->lift(), 42);
    QVERIFY(!other.listening()->matched());
    QCOMPARE(other.part<NullView>()->settings(), window_->part<NullView>()->settings());
    QCOMPARE(other.part<NullView>()->settings().at("smoothing").get<int>(), 3);
    other.part<NullView>()->restore({{"smoothing", "loud"}, {"colour", 7}, {"points", -1}});  // rubbish is passed over
    QCOMPARE(other.part<NullView>()->settings(), window_->part<NullView>()->settings());
  }

  void files_that_are_added_get_their_marks_by_the_way() {
    show_pair(ret_);
    auto& workspace = window_->workspace();
    QTRY_VERIFY_WITH_TIMEOUT(!workspace.queue().is_busy("files"), 5000);
    QTRY_COMPARE(workspace.model().bench().masters[0].audio.fingerprint, fingerprint(master_.toStdString()));
    QCOMPARE(workspace.model().bench().masters[0].trials[0].ret.fingerprint, fingerprint(ret_.toStdString()));
    workspace.model().undo_stack().undo();
    workspace.model().undo_stack().redo();
    QTRY_COMPARE_WITH_TIMEOUT(workspace.model().bench().masters[0].audio.fingerprint,
                              fingerprint(master_.toStdString()), 5000);
  }

  void deep_zoom_shows_the_samples_themselves() {
    show_pair(ret_);
    auto* lanes = window_->part<NullView>()->lanes();
    const auto read = Clip::open(master_.toStdString())->reader();
    Planar block;
    read->read(96000, 480, block);
    float high = -1;
    for (int c = 0; c < 2; ++c)
      for (const double x : block.channel(c)) high = std::max(high, float(x));
    lanes->set_range(2.0, 2.01);
    auto highest = [&] {
      double most = -1;
      for (const QString& row : lanes->csv().split('\n').mid(1))
        if (const auto cells = row.split(','); cells.size() > 2 && !cells[2].isEmpty())
          most = std::max(most, cells[2].toDouble());
      return most;
    };
    QTRY_VERIFY_WITH_TIMEOUT(std::abs(highest() - double(high)) < 1e-5, 5000);
    lanes->set_range(2.002, 2.012);  // what was read before stays in its place until the rest comes
    QVERIFY(lanes->csv().split('\n')[1].toDouble() < 2.0025);
  }

  void a_missing_file_is_said_and_pointed_at_anew() {
    const auto gone = folder_ / "gone.wav";
    std::filesystem::copy_file(ret_.toStdString(), gone);
    drop(*window_, {master_, QString::fromStdString(gone.string())});
    QTRY_VERIFY_WITH_TIMEOUT(!window_->findings()->sentences().isEmpty(), 20000);
    const QString file = QString::fromStdString((folder_ / "g.heathmist").string());
    QVERIFY(window_->files()->save_to(file));
    std::filesystem::remove(gone);
    window_->take_files({file});
    QTRY_COMPARE_WITH_TIMEOUT(window_->workspace().states().at(window_->workspace().current()).file, FileState::missing,
                              5000);
    QTRY_VERIFY(!window_->workspace().states().at(window_->workspace().current()).failure.isEmpty());
    window_->workspace().point_anew(window_->workspace().current(), ret_);
    QTRY_VERIFY_WITH_TIMEOUT(!window_->findings()->sentences().isEmpty(), 20000);
  }

  void a_bad_file_is_one_sentence() {
    const QString letter = QString::fromStdString((folder_ / "letter.wav").string());
    QFile out(letter);
    QVERIFY(out.open(QIODevice::WriteOnly) && out.write("Dear mastering engineer") > 0);
    out.close();
    drop(*window_, {master_, letter});
    QTRY_VERIFY_WITH_TIMEOUT(!window_->workspace().states().at(window_->workspace().current()).failure.isEmpty(),
                             10000);
    QVERIFY(window_->workspace().states().at(window_->workspace().current()).failure.contains("letter.wav"));
    window_->workspace().model().undo_stack().undo();
    QCOMPARE(window_->ledger()->list()->count(), 0);
  }

  void work_is_cancelled() {
    const QString big = QString::fromStdString(
        save(folder_ / "long.wav", with_noise(Planar(2, 48000 * 60), 0.1, 8), 48000, WordFormat::pcm24).string());
    const QString other = QString::fromStdString(
        save(folder_ / "long2.wav", with_noise(Planar(2, 48000 * 60), 0.1, 9), 48000, WordFormat::pcm24).string());
    drop(*window_, {big, other});
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().results().is_busy(), 30000);
    window_->workspace().cancel();
    QTRY_VERIFY_WITH_TIMEOUT(!window_->workspace().results().is_busy(), 30000);
    QVERIFY(!window_->workspace().current_result());
  }

  void anything_is_found_by_letters() {
    show_pair(ret_);
    QTest::keyClick(window_.get(), Qt::Key_K, Qt::ControlModifier);
    auto* finder = window_->findChild<Finder*>();
    QVERIFY(finder);
    auto* edit = finder->findChild<QLineEdit*>();
    QTest::keyClicks(edit, "night or");
    QTest::keyClick(edit, Qt::Key_Return);
    QVERIFY(Theme::instance().is_night());
    window_->set_night(false);
  }

  void unsaved_work_comes_back_after_a_crash() {
    std::filesystem::remove_all(BenchModel::unsaved_folder());  // of a case before that took long enough to leave one
    show_pair(ret_);
    window_->workspace().model().autosave();
    const auto copies = [] { return UnsavedCopy::left_behind(BenchModel::unsaved_folder()); };
    QVERIFY(copies().empty());  // the run that wrote it lives
    window_.reset();            // without an orderly close
    init();
    auto left = copies();
    QCOMPARE(left.size(), size_t(1));
    MainWindow after(simulated_output());
    const auto content = left[0].read();
    after.workspace().model().recover(content, std::move(left[0]));
    QCOMPARE(after.workspace().model().bench().masters.size(), size_t(1));
    QVERIFY(after.workspace().model().file().isEmpty());
    after.workspace().model().undo_stack().setClean();
  }

 private:
  void show_pair(const QString& ret) {
    drop(*window_, {master_, ret});
    QTRY_VERIFY_WITH_TIMEOUT(!window_->findings()->sentences().isEmpty(), 20000);
  }
  QString master_, ret_, noisy_;
};

SHARED_WINDOW_MAIN(TestWindow)
#include "test_window.moc"
