// Returns made here, in the real window: the chain strip, the ceiling search, the setting matrix.
#include <QCheckBox>
#include <QComboBox>
#include <QDoubleSpinBox>
#include <QtTest>

#include "app/shell/main_window.hpp"
#include "tests/support/share.hpp"
#include "tests/support/window.hpp"

using namespace heathmist;
using namespace heathmist::app;
using namespace heathmist::test;

class TestChains : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() {
    prepare_window(folder_);
    const auto sound = requantised(scaled(Programme(4, 21, 12000).render(44100), 2), 24, true);
    first_ = QString::fromStdString(save(folder_ / "mill race.wav", sound, 44100, WordFormat::pcm24).string());
    second_ = QString::fromStdString(
        save(folder_ / "slack water.wav", scaled(sound, 0.3), 44100, WordFormat::pcm24).string());
  }

  void init() {
    window_ = std::make_unique<MainWindow>(simulated_output());
    window_->resize(1280, 800);
    window_->show();
    window_->take_files({first_});
  }
  void cleanup() {
    window_->workspace().model().undo_stack().setClean();
    window_.reset();
  }

  void a_return_is_made_with_one_key_and_nulled() {
    make_return();
    QCOMPARE(result()->report->kind, Kind::lossy);
    QVERIFY(strip()->isVisible());
    QVERIFY(result()->stages[0].encoded_bytes.value_or(0) > 10000);
    QCOMPARE(window_->ledger()->list()->count(), 2);
    QVERIFY(window_->ledger()->list()->item(1)->data(Qt::AccessibleTextRole).toString().contains("AAC 128 kbit/s"));
  }

  void the_null_follows_the_edit_and_undo() {
    make_return();
    const double before = db(result()->report->residual_relative_db());
    auto* rate = strip()->form()->findChild<QDoubleSpinBox*>("bit_rate_kbps");
    QVERIFY(rate && rate->minimum() == 6 && rate->maximum() == 1536);
    rate->setValue(256);
    wait_for([](const Chain& c) { return c.stages[0].values["bit_rate_kbps"] == 256.0; });
    const double after = db(result()->report->residual_relative_db());
    QVERIFY2(after < before - 3, qPrintable(QString("%1 then %2").arg(before).arg(after)));
    QTest::keyClick(window_.get(), Qt::Key_Z, Qt::ControlModifier);
    wait_for([](const Chain& c) { return c.stages[0].values["bit_rate_kbps"] == 128; });
    QCOMPARE(db(result()->report->residual_relative_db()), before);
  }

  void stages_are_added_moved_switched_and_taken_out() {
    make_return();
    strip()->add_stage("word_length");
    wait_for([](const Chain& c) { return c.stages.size() == 2; });
    QCOMPARE(strip()->chosen(), 1);
    strip()->move_stage(-1);
    wait_for([](const Chain& c) { return c.stages[0].type == "word_length"; });
    strip()->choose(1);
    strip()->switch_stage(false);
    wait_for([](const Chain& c) { return !c.stages[1].on; });
    QCOMPARE(result()->report->kind, Kind::word_length);
    QVERIFY(!result()->ret->format().lossy);
    auto* stage = strip()->findChildren<QToolButton*>("stage").last();
    stage->setFocus();
    QTest::keyClick(stage, Qt::Key_Delete);
    wait_for([](const Chain& c) { return c.stages.size() == 1; });
  }

  void only_what_counts_is_asked_for() {
    make_return();
    QVERIFY(strip()->form()->findChild<QDoubleSpinBox*>("bit_rate_kbps"));
    QVERIFY(!strip()->form()->findChild<QDoubleSpinBox*>("quality"));
    strip()->add_stage("converter");
    auto* by = strip()->form()->findChild<QComboBox*>("by");
    QVERIFY(by && strip()->form()->findChild<QComboBox*>("soxr_quality"));
    by->setCurrentIndex(by->findText("speexdsp"));
    QTRY_VERIFY(strip()->form()->findChild<QDoubleSpinBox*>("speex_quality"));
    wait_for([](const Chain& c) { return c.stages.size() == 2 && c.stages[1].values["by"] == "speexdsp"; });
    QCOMPARE(result()->stages.size(), size_t(2));
    QVERIFY(db(result()->report->residual_relative_db()) < -5);
  }

  void a_stage_that_cannot_run_says_so_and_can_be_mended() {
    make_return();
    QSignalSpy failed(&window_->workspace(), &Workspace::trial_failed);
    auto* codec = strip()->form()->findChild<QComboBox*>("codec");
    codec->setCurrentIndex(codec->findText("g722"));
    QTRY_VERIFY_WITH_TIMEOUT(!failed.isEmpty(), 120000);
    QVERIFY(failed.last()[0].toString().contains("stage 1 (codec): G.722 takes 1 channel"));
    QVERIFY(strip()->isVisible());
    strip()->choose(-1);
    strip()->add_stage("map");
    strip()->form()->findChild<QComboBox*>("map")->setCurrentIndex(1);  // mono
    wait_for([](const Chain& c) { return c.stages.size() == 2 && c.stages[0].type == "map"; });
    QCOMPARE(result()->ret->format().sample_rate_hz, 16000);
  }

  void chains_go_over_every_master_and_through_generations() {
    window_->take_files({second_});
    window_->workspace().model().edit("two masters", [&](Bench& bench) {
      if (bench.masters.size() == 1) {
        bench.masters[0].trials.clear();
        bench.masters.push_back({fresh_id(), "Slack Water", {second_.toStdString(), ""}, {}});
      }
    });
    make_return();
    const Chain chain = *window_->workspace().current_chain();
    window_->workspace().run_on_all(chain);
    const Bench& bench = window_->workspace().model().bench();
    QCOMPARE(bench.masters[0].trials.size(), size_t(1));
    QCOMPARE(bench.masters[1].trials.size(), size_t(1));
    window_->workspace().compare_generations();
    QCOMPARE(bench.masters[0].trials.size() + bench.masters[1].trials.size(), size_t(6));
    QTRY_VERIFY_WITH_TIMEOUT(window_->part<TrialsView>()->table()->shown() == 6, 60000);
    std::map<int, double> depth;
    for (const Trial& t : bench.masters[0].trials.size() == 5 ? bench.masters[0].trials : bench.masters[1].trials)
      depth[t.chain->rounds] = *window_->workspace().states().at(t.id).summary->residual_relative_db;
    QVERIFY2(depth[5] > depth[1] + 1, "five generations are worse than one");
  }

  void a_chain_is_kept_saved_and_used_again() {
    make_return();
    Chain chain = *window_->workspace().current_chain();
    chain.name = "House stream";
    window_->workspace().keep_chain(chain);
    const QString file = QString::fromStdString((folder_ / "kept.heathmist").string());
    QVERIFY(window_->files()->save_to(file));
    const Bench again = load_bench(file.toStdString());
    QCOMPARE(again.chains.size(), size_t(1));
    QCOMPARE(again.chains[0].name, std::string("House stream"));
    QVERIFY(again.masters[0].trials[0].chain == window_->workspace().current_chain());
  }

  void kept_chains_are_renamed_and_dropped_and_brought_back() {
    make_return();
    Chain chain = *window_->workspace().current_chain(), other = chain;
    chain.name = "House stream", other.name = "Other";
    window_->workspace().keep_chain(chain);
    window_->workspace().keep_chain(other);
    const auto& kept = window_->workspace().model().bench().chains;
    QVERIFY(!window_->workspace().rename_kept_chain(chain, "Other"));
    QVERIFY(window_->workspace().rename_kept_chain(chain, "Night stream"));
    QCOMPARE(kept[0].name, std::string("Night stream"));
    emit strip()->drop_wanted(kept[0]);
    QCOMPARE(kept.size(), size_t(1));
    window_->workspace().model().undo_stack().undo();
    QCOMPARE(kept[0].name, std::string("Night stream"));
  }

  void numbers_have_a_true_minus_and_take_either() {
    make_return();
    strip()->add_stage("gain");
    auto* gain = strip()->form()->findChild<QDoubleSpinBox*>("gain_db");
    gain->setValue(-3.5);
    QCOMPARE(gain->text(), QString::fromUtf8("\u2212"
                                             "3.50"));
    for (const char* typed : {"-6",
                              "\u2212"
                              "6"}) {
      gain->selectAll();
      for (const QChar c : QString::fromUtf8(typed)) {  // keyClicks takes ASCII only
        QKeyEvent press(QEvent::KeyPress, 0, Qt::NoModifier, QString(c));
        QApplication::sendEvent(gain, &press);
      }
      QTest::keyClick(gain, Qt::Key_Return);
      QCOMPARE(gain->value(), -6.0);
      gain->setValue(0);
    }
  }

  void the_ceiling_is_said_in_one_line_and_its_moments_lead_there() {
    window_->workspace().model().edit("chains", [](Bench& bench) {
      for (const int kbps : {96, 192})
        bench.chains.push_back({"", {{"codec", {{"codec", "mp3"}, {"bit_rate_kbps", kbps}}}}, 1});
      bench.chains.push_back({"", {{"word_length"}}, 1});
    });
    window_->show_page("ceiling");
    CeilingView* view = window_->part<CeilingView>();
    QCOMPARE(view->table()->shown(), 2);  // a word length has no ceiling to search
    view->limit()->setValue(-20);
    QSignalSpy rested(view, &CeilingView::rested);
    view->start();
    QVERIFY(rested.wait(300000));
    QTRY_VERIFY2(view->headline().endsWith("dB is enough for both."), qPrintable(view->headline()));
    QVERIFY(*view->found().for_all_db() < 0);
    QVERIFY(view->plate()->graphCount() == 2 && view->plate()->csv().count('\n') > 4);
    // asked again, it is answered at once; asked otherwise, it is open; and as before once more
    const QString answer = view->headline();
    QSignalSpy recalled(view, &CeilingView::recalled);
    view->limit()->setValue(-19);
    QVERIFY(recalled.wait(20000));
    QVERIFY2(view->headline().startsWith("How far") && !view->found().for_all_db(), qPrintable(view->headline()));
    view->limit()->setValue(-20);
    QTRY_COMPARE_WITH_TIMEOUT(view->headline(), answer, 20000);
    QCOMPARE(view->table()->shown(), 2);
    view->table()->selectRow(0);
    QVERIFY2(view->moments()->shown() >= 1,
             qPrintable(QString("%1 worst, %2 selected")
                            .arg(view->found().answers[0].worst.size())
                            .arg(view->table()->selectionModel()->selectedRows().size())));
    emit view->moments()->opened(view->moments()->row_at(0), 0);
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result(), 120000);
    QCOMPARE(window_->workspace().current_chain()->stages[0].values["bit_rate_kbps"].get<int>(), 96);
    QTRY_VERIFY(std::abs(window_->player().place_s() - view->found().answers[0].worst.front().at_s) < 0.05);
  }

  void the_matrix_runs_stops_sorts_and_opens_its_cells() {
    window_->workspace().model().edit("chains", [](Bench& bench) {
      bench.chains = {{"Small", {{"codec", {{"codec", "mp3"}, {"bit_rate_kbps", 64}}}}, 1},
                      {"Cut", {{"word_length"}}, 1}};
    });
    window_->show_page("matrix");
    MatrixView* view = window_->part<MatrixView>();
    view->set_row("Tone 997 Hz", true);
    QCOMPARE(view->matrix().cells.size(), size_t(4));
    QSignalSpy rested(view, &MatrixView::rested);
    view->start();
    QVERIFY(rested.wait(300000));
    QTRY_VERIFY(view->matrix().at(1, 1).done);
    for (const auto& cell : view->matrix().cells) QVERIFY2(cell.done && cell.failure.empty(), cell.failure.c_str());
    MatrixView other(window_->workspace().queue());  // on another day
    QSignalSpy recalled(&other, &MatrixView::recalled);
    other.show_bench(window_->workspace().bench());
    other.set_row("Tone 997 Hz", true);
    QVERIFY(recalled.wait(20000));
    QTRY_VERIFY(other.note().startsWith("4 of 4 cells from before"));
    QCOMPARE(text_of(matrix_json(other.matrix())), text_of(matrix_json(view->matrix())));
    MatrixView late(window_->workspace().queue());  // a file that changes while what was known of it is looked up
    QSignalSpy told(&late, &MatrixView::recalled);
    late.show_bench(window_->workspace().bench());
    late.forget(late.matrix().rows.front().file);
    QVERIFY(!told.wait(1000));
    for (const auto& cell : late.matrix().cells) QVERIFY(!cell.done);
    view->choose_value(MatrixValue::thd_n);
    view->table()->sort_by(1, Qt::AscendingOrder);
    QCOMPARE(view->table()->text_at(0, 0), QString("Tone 997 Hz"));  // the master has no lines to be read by
    QVERIFY(view->table()->cell_at(0, 1).hint.startsWith("THD+N"));  // its own reading first
    view->start();
    view->cancel();
    QTRY_VERIFY(view->note().startsWith("stopped"));
    view->choose_value(MatrixValue::depth);
    const int tone =
        view->table()->text_at(0, 0) == "Tone 997 Hz" ? 0 : 1;  // what was done before the cancel is chance
    QCOMPARE(view->table()->text_at(tone, 0), QString("Tone 997 Hz"));
    emit view->table()->opened(view->table()->row_at(tone), 1);
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result(), 120000);
    QCOMPARE(label_of(*window_->workspace().current_chain()), std::string("MP3 64 kbit/s"));
    QCOMPARE(QString::fromStdString(window_->workspace().model().bench().masters.back().name), QString("Tone 997 Hz"));
  }

 private:
  ChainStrip* strip() const { return window_->part<NullView>()->chain_strip(); }
  std::shared_ptr<const TrialResult> result() const { return window_->workspace().current_result(); }
  void make_return() {
    QVERIFY(QTest::qWaitForWindowActive(window_.get()));
    QTest::keyClick(window_.get(), Qt::Key_R, Qt::ControlModifier);
    QTRY_VERIFY_WITH_TIMEOUT(result() && result()->why, 120000);
  }
  /// Until the trial that is looked at has been run with a chain that is as wanted.
  template <class Wanted>
  void wait_for(Wanted wanted) {
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_chain() && wanted(*window_->workspace().current_chain()),
                             60000);
    QTRY_VERIFY_WITH_TIMEOUT(result() && result()->spec.chain == window_->workspace().current_chain() && result()->why,
                             120000);
  }
  Folder folder_;
  QString first_, second_;
  std::unique_ptr<MainWindow> window_;
};

SHARED_WINDOW_MAIN(TestChains)
#include "test_chains.moc"
