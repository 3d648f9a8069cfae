// The fold calculator and the word lengths, in the real window.
#include <QSignalSpy>

#include "app/shell/main_window.hpp"
#include "tests/support/window.hpp"

using namespace heathmist;
using namespace heathmist::app;
using namespace heathmist::test;

class TestConversions : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() { prepare_window(folder_); }
  void init() {
    window_ = std::make_unique<MainWindow>(simulated_output());
    window_->set_quiet(true);
    window_->resize(1280, 800);
    window_->show();
    QVERIFY(QTest::qWaitForWindowActive(window_.get()));
  }
  void cleanup() {
    window_->workspace().model().undo_stack().setClean();
    window_.reset();
  }

  void folds_are_reckoned_both_ways() {
    QTest::keyClick(window_.get(), Qt::Key_F12, Qt::ShiftModifier);
    FoldView* folds = window_->part<FoldView>();
    QVERIFY(folds->isVisible());
    QVERIFY2(folds->headline().startsWith("27.4 kHz folds to 16.7 kHz at 44.1 kHz"), qPrintable(folds->headline()));
    QCOMPARE(folds->landings()->text_at(0, 2), QString("16.700 kHz"));
    QStringList others;
    for (int row = 0; row < folds->sources()->shown(); ++row) others << folds->sources()->text_at(row, 1);
    QVERIFY2(others.contains("16.700 kHz"), qPrintable(others.join(" ")));  // the tone that is there by right
    QVERIFY(!others.contains("27.400 kHz"));                                // asked for, not another
    folds->tone()->setValue(1000);
    QVERIFY(folds->headline().startsWith("1 kHz stays where it is"));
    folds->ask(44100, 96000, 30000);
    QVERIFY2(folds->headline().contains("cannot be held"), qPrintable(folds->headline()));
    folds->ask(96000, 44100, 1000);
    auto* plate = folds->plate();
    QTest::mouseClick(plate, Qt::LeftButton, {}, plate->axisRect()->rect().center());
    QVERIFY2(std::abs(folds->tone()->value() - 24000) < 400, qPrintable(QString::number(folds->tone()->value())));
    QVERIFY(folds->headline().contains("folds to 20"));
    QVERIFY(plate->csv().startsWith("in_hz,out_hz"));
    plate->write_picture(folder_ / "folds.svg");
  }

  void word_lengths_are_read_chosen_and_heard() {
    QTest::keyClick(window_.get(), Qt::Key_F12, Qt::ControlModifier);
    WordLengthsView* words = window_->part<WordLengthsView>();
    QVERIFY(words->isVisible());
    QSignalSpy rested(words, &WordLengthsView::rested);
    QVERIFY(words->is_running());  // a page that needs nothing of the user opens with its answer
    QVERIFY(rested.wait(300000));
    QCOMPARE(words->rows().size(), board_cuts().size());
    QCOMPARE(words->table()->shown(), 5);  // TPDF of each
    QVERIFY(words->densities()->csv().startsWith("frequency_hz,"));
    words->show_only(16, "");
    QCOMPARE(words->table()->shown(), 5);
    words->show_only(0, "");
    QCOMPARE(words->table()->shown(), 25);
    words->show_only(16, "triangular");
    QCOMPARE(words->table()->shown(), 1);
    words->table()->selectRow(0);
    QVERIFY2(words->headline().startsWith("16 bit TPDF: noise at −9"), qPrintable(words->headline()));
    QVERIFY(words->levels()->csv().contains("16 bit TPDF"));
    QCOMPARE(words->csv().count('\n'), 26);

    words->hear();
    QTRY_VERIFY_WITH_TIMEOUT(window_->player().is_playing(), 60000);
    QTRY_VERIFY_WITH_TIMEOUT(window_->player().place_s() > 0.2, 10000);
    window_->show_page("null");  // the fade was lent
    QVERIFY(!window_->player().is_playing());
    QVERIFY(!window_->player().has_source());
  }

  /// The fade takes the trial's place at the player, and gives it back.
  void the_trial_is_heard_again_after_a_fade() {
    const auto file = save(folder_ / "m.wav", Programme(3, 1).render(48000), 48000);
    window_->workspace().model().edit("a master", [&](Bench& bench) {
      bench.masters = {{"a", "tide", {file, ""}, {{"t", "down", {}, {}}}}};
      bench.masters[0].trials[0].chain = Chain{"", {{"gain", {{"gain_db", -3}}}}, 1};
    });
    window_->workspace().look_at("t");
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result() && window_->player().has_source(), 60000);
    window_->show_page("word_lengths");
    emit window_->part<WordLengthsView>()->hear_wanted({24, "triangular"});
    QTRY_VERIFY_WITH_TIMEOUT(window_->player().is_playing(), 60000);
    window_->player().seek(11);  // the fade lasts 12 s, the trial 3
    QTRY_VERIFY_WITH_TIMEOUT(window_->player().place_s() > 10, 10000);
    window_->show_page("null");
    QVERIFY(!window_->player().is_playing() && window_->player().has_source());
    window_->player().seek(11);
    QTRY_VERIFY_WITH_TIMEOUT(window_->player().place_s() <= 3.01, 10000);
  }

  void a_run_of_word_lengths_can_be_cancelled() {
    window_->show_page("word_lengths");
    WordLengthsView* words = window_->part<WordLengthsView>();
    QSignalSpy rested(words, &WordLengthsView::rested);
    if (!words->is_running()) words->start();
    QTest::qWait(30);
    QTest::mouseClick(words->findChild<QPushButton*>("run"), Qt::LeftButton);
    QVERIFY(rested.wait(30000));
    QVERIFY(words->rows().size() < board_cuts().size());
  }

 private:
  Folder folder_;
  std::unique_ptr<MainWindow> window_;
};

QTEST_MAIN(TestConversions)
#include "test_conversions.moc"
