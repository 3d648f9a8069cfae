// Marks in the real window: put by key, listed, gone to, undone, kept, brought out.
#include <QInputDialog>
#include <QLineEdit>
#include <QSignalSpy>
#include <QtTest>

#include "app/shell/marks_controller.hpp"
#include "core/bench/marks.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/window.hpp"

using namespace heathmist;
using namespace heathmist::app;
using namespace heathmist::test;

class TestMarksPanel : public WindowTest {
  Q_OBJECT

 private slots:
  void initTestCase() {
    prepare_window(folder_);
    const Planar sound = programme("dense", 48000, 6, 3);
    save(folder_ / "mill-race.wav", sound, 48000);
    save(folder_ / "back.wav", scaled(sound, 0.5), 48000);
    save(folder_ / "slack-water.wav", programme("piano", 48000, 6, 4), 48000);
  }

  void a_mark_is_put_by_its_key_where_the_music_is() {
    bring_in();
    QVERIFY(panel()->list()->isHidden());
    go_to(2.5);
    mark_by_key("the wheel");
    QCOMPARE(marks().size(), size_t(1));
    QVERIFY(std::abs(marks()[0].at_s - 2.5) < 0.01 && !marks()[0].until_s);
    QCOMPARE(marks()[0].trial, trial_id());
    QCOMPARE(panel()->list()->count(), 1);
    QVERIFY2(panel()->list()->item(0)->text().contains("the wheel"), qPrintable(panel()->list()->item(0)->text()));
    window_->workspace().select(Range{1, 1.75});
    mark_by_key("a bang");
    QCOMPARE(marks().size(), size_t(2));
    QCOMPARE(marks()[0].until_s.value_or(0), 1.75);  // before the other
    QVERIFY(panel()->list()->item(0)->text().contains("a bang"));
    mark_by_key("   ");
    QCOMPARE(marks().size(), size_t(2));
  }

  void they_are_gone_to_reworded_removed_and_undone() {
    bring_in();
    for (const double at : {4.0, 1.0, 2.5}) {
      go_to(at);
      controller()->put(QString("at %1").arg(at));
    }
    window_->workspace().select(Range{3, 3.5});
    controller()->put("a stretch");
    window_->workspace().select({});
    go_to(0);
    for (const double at : {1.0, 2.5, 3.0, 4.0}) {
      QTest::keyClick(window_.get(), Qt::Key_Right, Qt::ControlModifier);
      QVERIFY2(std::abs(window_->player().place_s() - at) < 0.01,
               qPrintable(QString::number(window_->player().place_s())));
      QCOMPARE(window_->workspace().selection().has_value(), at == 3.0);
    }
    QTest::keyClick(window_.get(), Qt::Key_Right, Qt::ControlModifier);  // there is none: said, nothing moves
    QVERIFY(std::abs(window_->player().place_s() - 4) < 0.01);
    QTest::keyClick(window_.get(), Qt::Key_Left, Qt::ControlModifier);
    QVERIFY(std::abs(window_->player().place_s() - 3) < 0.01);
    QTest::keyClick(window_.get(), Qt::Key_F8, Qt::ShiftModifier);
    QVERIFY(panel()->list()->hasFocus());
    panel()->list()->setCurrentRow(1);
    QTest::keyClick(panel()->list(), Qt::Key_Return);
    QVERIFY(std::abs(window_->player().place_s() - 2.5) < 0.01);
    controller()->reword(marks()[1].id, "the middle");
    QCOMPARE(panel()->list()->currentRow(), 1);
    QVERIFY(panel()->list()->item(1)->text().contains("the middle"));
    QTest::keyClick(panel()->list(), Qt::Key_Delete);
    QCOMPARE(marks().size(), size_t(3));
    auto& undo = window_->workspace().model().undo_stack();
    undo.undo();
    QCOMPARE(marks().size(), size_t(4));
    QCOMPARE(marks()[1].text, std::string("the middle"));
    undo.undo();
    QCOMPARE(marks()[1].text, std::string("at 2.5"));
    for (int n = 0; n < 4; ++n) undo.undo();
    QVERIFY(marks().empty() && panel()->list()->isHidden());
  }

  void they_belong_to_their_master_and_stay_with_the_bench() {
    bring_in();
    go_to(2);
    controller()->put("of Mill Race");
    window_->workspace().add_files({path("slack-water.wav")});
    const auto& masters = window_->workspace().bench().masters;
    if (masters.size() > 1) {
      window_->workspace().look_at(masters[1].id);
      QCOMPARE(panel()->list()->count(), 0);
      window_->workspace().look_at(masters[0].trials[0].id);
    }
    QCOMPARE(panel()->list()->count(), 1);
    const QString bench = path("kept.heathmist");
    window_->workspace().model().save(bench);
    window_->workspace().open(bench);
    QCOMPARE(marks().size(), size_t(1));
    QCOMPARE(marks()[0].text, std::string("of Mill Race"));
  }

  void cue_points_are_written_beside_and_never_over_the_master() {
    bring_in();
    go_to(2);
    controller()->put("here");
    QSignalSpy written(controller(), &MarksController::written);
    controller()->write_cues({folder_ / "marked.wav"});
    QVERIFY(written.wait(20000));
    QVERIFY2(written.takeLast()[0].toBool(), qPrintable(window_->notice()->text()));
    QVERIFY(same_samples(*Clip::open(folder_ / "marked.wav"), *Clip::open(folder_ / "mill-race.wav")));
    controller()->write_cues({folder_ / "mill-race.wav", true});
    QVERIFY(written.wait(20000));
    QVERIFY(!written.takeLast()[0].toBool());
    QVERIFY(window_->notice()->isVisible());
  }

  /// They stand in the lanes: the picture differs where they are, and is as before without them.
  void they_stand_in_the_lanes() {
    bring_in();
    window_->show_page("null");
    auto* lanes = window_->part<NullView>()->lanes();
    const QImage without = lanes->grab().toImage();
    lanes->set_marks({{1, 1}, {3, 4}});
    lanes->replot();
    const QImage with = lanes->grab().toImage();
    QVERIFY(with != without);
    Theme::instance().apply(true);
    Theme::instance().apply(false);
    lanes->set_marks({{1, 1}});
    lanes->set_marks({});
    lanes->replot();
    QCOMPARE(lanes->grab().toImage(), without);
  }

 private:
  MarksPanel* panel() { return window_->part<MarksPanel>(); }
  MarksController* controller() { return window_->part<MarksController>(); }
  const std::vector<Mark>& marks() { return window_->workspace().bench().masters[0].marks; }
  std::string trial_id() { return window_->workspace().bench().masters[0].trials[0].id; }
  QString path(const char* name) { return QString::fromStdString((folder_ / name).string()); }
  void go_to(double at_s) {
    window_->workspace().go_to(at_s);
    QTRY_VERIFY(std::abs(window_->player().place_s() - at_s) < 0.01);
  }
  void bring_in() {
    window_->workspace().add_files({path("mill-race.wav"), path("back.wav")});
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result() && !window_->workspace().results().is_busy(), 60000);
    window_->activateWindow();
    QVERIFY(QTest::qWaitForWindowActive(window_.get()));
  }
  /// N, and these words and Enter in the dialog that comes.
  void mark_by_key(const QString& words) {
    window_->activateWindow();
    QVERIFY(QTest::qWaitForWindowActive(window_.get()));
    auto* look = new QTimer(qApp);
    QObject::connect(look, &QTimer::timeout, look, [look, words] {
      auto* dialog = qobject_cast<QInputDialog*>(QApplication::activeModalWidget());
      if (!dialog) return;
      look->deleteLater();
      QTest::keyClicks(dialog->findChild<QLineEdit*>(), words);
      QTest::keyClick(dialog, Qt::Key_Return);
    });
    look->start(50);
    QTest::keyClick(window_.get(), Qt::Key_N);
  }
};

QTEST_MAIN(TestMarksPanel)
#include "test_marks_panel.moc"
