// The explanation in the window: plates, moments, bands and cells, fitting by hand, the floor, trials side by side.
#include <QSignalSpy>
#include <QtTest>

#include "app/shell/main_window.hpp"
#include "app/theme/theme.hpp"
#include "core/compare/waterfall.hpp"
#include "core/dsp/biquad.hpp"
#include "tests/support/share.hpp"
#include "tests/support/treatments.hpp"
#include "tests/support/window.hpp"

using namespace heathmist;
using namespace heathmist::app;
using namespace heathmist::test;

namespace {

Planar filtered(Planar sound, int rate) {
  for (int c = 0; c < sound.channels(); ++c) {
    auto pass = dsp::Biquad::high_pass(rate, 40);
    for (double& x : sound.channel(c)) x = pass.run(x);
  }
  return sound;
}

}  // namespace

class TestExplained : public WindowTest {
  Q_OBJECT

 private slots:
  void initTestCase() {
    prepare_window(folder_);
    const auto sound = requantised(scaled(with_noise(Programme(8, 1).render(48000), 1e-3, 5), 0.5), 24, true);
    master_ = write("mill.wav", sound);
    filtered_ = write("mill-filtered.wav", filtered(sound, 48000));
    late_ = write("mill-late.wav", late(sound, 300));
    cut_ = write("mill-16.wav", requantised(sound, 16, false));
    noisy_ = write("mill-noisy.wav", with_noise(sound, 1e-3, 9));
    silence_ = write("silence.wav", with_noise(Planar(2, 48000 * 4), 1e-3, 33));
  }

  void the_null_comes_first_and_then_its_explanation() {
    QSignalSpy ready(&window_->workspace(), &Workspace::trial_ready);
    window_->take_files({master_, filtered_});
    QTRY_COMPARE_WITH_TIMEOUT(ready.size(), 2, 120000);
    const auto first = ready[0][0].value<std::shared_ptr<const TrialResult>>(),
               second = ready[1][0].value<std::shared_ptr<const TrialResult>>();
    QVERIFY(!first->why && second->why);
    QCOMPARE(second->report->kind, Kind::linear);
    QVERIFY(window_->findings()->sentences().join(' ').contains("Level, EQ and phase"));
    auto* plates = window_->part<NullView>()->plates();
    QVERIFY(plates->path()->csv().count('\n') > 50);
    QVERIFY(plates->path()->read_out(1000).contains("coherence"));
    QVERIFY(plates->stack()->csv().startsWith("frequency_hz,master,remainder"));
    QVERIFY(plates->mask()->csv().count('\n') > 100 &&
            plates->mask()->csv().startsWith("time_s,low_hz,high_hz,residual_to_mask_db"));
    QVERIFY(plates->thirds()->shown() > 20 && plates->moments()->shown() > 0);
  }

  void every_plate_has_its_key_and_draws_in_both_variants() {
    show_pair(filtered_);
    auto* plates = window_->part<NullView>()->plates();
    for (int n = 0; n < 10; ++n) {
      QTest::keyClick(window_.get(), Qt::Key(Qt::Key_0 + (n + 1) % 10), Qt::AltModifier);
      Chooser* side = n < 6 ? plates->left() : plates->right();
      QCOMPARE(side->index(), n % 6);
      QVERIFY(!side->pages()->currentWidget()->grab().isNull());
    }
    for (const bool night : {true, false}) {
      window_->set_night(night);
      for (Plate* plate :
           std::initializer_list<Plate*>{plates->causes(), plates->spectra(), plates->path(), plates->stack(),
                                         plates->words(), plates->course(), plates->depth(), plates->mask()}) {
        const QString file = QString::fromStdString((folder_ / "p.png").string());
        plate->write_picture(chosen_destination(file));
        QFile::remove(file);
      }
    }
    for (const auto lower : {PathPlate::Lower::group_delay, PathPlate::Lower::coherence, PathPlate::Lower::phase}) {
      plates->path()->set_lower(lower);
      QVERIFY(!plates->path()->read_out(500).isEmpty());
    }
  }

  void the_budget_stands_cause_by_cause() {
    show_pair(filtered_);
    auto* plates = window_->part<NullView>()->plates();
    QTest::keyClick(window_.get(), Qt::Key_1, Qt::AltModifier);
    auto* causes = plates->causes();
    const auto report = window_->workspace().current_result()->report;
    const auto steps = budget_steps(*report);
    QVERIFY(steps.size() >= 3);
    QCOMPARE(steps.front().label, std::string("residual"));
    QCOMPARE(steps.back().label, std::string("remainder"));
    QVERIFY(std::abs(steps.front().from_db - *report->residual_relative_db()) < 0.5);
    for (size_t n = 1; n + 1 < steps.size(); ++n) {  // each starts where the last one ended
      QVERIFY(steps[n].from_db >= steps[n].to_db);
      if (n > 1) QCOMPARE(steps[n].from_db, steps[n - 1].to_db);
    }
    QCOMPARE(causes->csv().count('\n'), int(steps.size()) + 1);
    for (size_t n = 0; n < steps.size(); ++n) {
      QTest::keyClick(causes, Qt::Key_Right);
      QCOMPARE(causes->chosen(), int(n));
      QVERIFY(causes->read_out(int(n)).startsWith(QString::fromStdString(steps[n].text)));
    }
    QEvent leave(QEvent::Leave);
    QCoreApplication::sendEvent(causes, &leave);
    QCOMPARE(causes->chosen(), -1);
  }

  /// The same budget in every octave and at every moment; a click where a cause lies is that cause's.
  void the_budget_is_drawn_along_octaves_and_time() {
    show_pair(filtered_);
    auto* plates = window_->part<NullView>()->plates();
    QTest::keyClick(window_.get(), Qt::Key_1, Qt::AltModifier);
    auto* causes = plates->causes();
    const auto choose = [&](const char* setting) {
      for (QAction* action : plates->actions_of_view())
        if (action->property("setting") == setting) action->trigger();
    };
    const auto& step = causes->steps()[1];
    QVERIFY(step.by_octave.size() >= 8 && step.over_time.size() >= 8);
    for (const auto& [setting, along] :
         {std::pair{"causes 1", BudgetPlate::Along::octaves}, {"causes 2", BudgetPlate::Along::time}}) {
      choose(setting);
      QCOMPARE(causes->along(), along);
      QCOMPARE(plates->settings()["causes"].get<int>(), int(along));
      const auto& left = along == BudgetPlate::Along::octaves ? step.by_octave : step.over_time;
      QVERIFY(causes->csv().count('\n') > int(left.size()));
      const auto most = std::max_element(left.begin(), left.end(), [](const LeftAt& a, const LeftAt& b) {
        return a.before_db - a.after_db < b.before_db - b.after_db;
      });
      const double x = along == BudgetPlate::Along::octaves ? std::log2(most->at / 31.25) : most->at;
      const auto place = [&] {
        return QPoint(int(causes->xAxis->coordToPixel(x)), int(causes->yAxis->coordToPixel(most->before_db - 3)));
      };
      QTest::mouseMove(causes, place());
      QTest::qWait(50);  // the margins of new ticks stand once they were drawn
      const QPoint at = place();
      QTest::mouseMove(causes, at);
      QVERIFY2(causes->read_out(1).contains(number(most->before_db, 1)),
               qPrintable(QString("%1 s, %2 dB: ").arg(most->at).arg(most->before_db) + causes->read_out(1)));
      QSignalSpy chosen(causes, &BudgetPlate::cause_chosen);
      QTest::mouseClick(causes, Qt::LeftButton, Qt::NoModifier, at);
      QCOMPARE(chosen.count(), 1);
      QCOMPARE(chosen[0][0].toInt(), 1);
      QTest::mouseClick(causes, Qt::LeftButton, Qt::NoModifier, at);  // let go
    }
    window_->player().pause();
    choose("causes 0");
  }

  void a_click_on_a_cause_goes_to_its_place() {
    auto faded = requantised(scaled(Programme(6, 3).render(48000), 0.5), 24, true);
    const auto master = write("level.wav", faded);
    for (int c = 0; c < 2; ++c)
      for (int64_t n = 4 * 48000; n < faded.frames(); ++n)
        faded.channel(c)[size_t(n)] *= double(faded.frames() - n) / double(faded.frames() - 4 * 48000);
    window_->take_files({master, write("faded.wav", faded)});
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result() && window_->workspace().current_result()->why,
                             120000);
    auto* causes = window_->part<NullView>()->plates()->causes();
    const auto steps = budget_steps(*window_->workspace().current_result()->report);
    const auto fade = std::find_if(steps.begin(), steps.end(), [](const auto& s) { return s.label == "fade"; });
    QVERIFY(fade != steps.end());
    QTRY_VERIFY_WITH_TIMEOUT(causes->csv().contains("fade"), 5000);
    window_->player().seek(0);
    emit causes->cause_chosen(int(fade - steps.begin()), false);
    QVERIFY2(std::abs(window_->player().place_s() - 4) < 0.1, qPrintable(QString::number(window_->player().place_s())));
    window_->player().pause();
  }

  void a_cause_is_heard_by_keys_and_let_go() {
    show_pair(filtered_);
    QTest::keyClick(window_.get(), Qt::Key_1, Qt::AltModifier);
    auto* causes = window_->part<NullView>()->plates()->causes();
    auto* bar = window_->listening();
    const auto text = [&](const char* name) { return bar->findChild<QToolButton*>(name)->text(); };
    const QString residual = text("hearResidual"), ret = text("hearReturn");
    QTest::keyClick(causes, Qt::Key_Right);
    QTest::keyClick(causes, Qt::Key_Right);  // the first cause
    QVERIFY(causes->steps()[1].part.what != CausePart::none);
    QTest::keyClick(causes, Qt::Key_Return);
    QVERIFY(window_->player().is_playing());
    QCOMPARE(causes->heard(), 1);
    QCOMPARE(bar->heard(), Heard::residual);
    QVERIFY(text("hearResidual") != residual && text("hearReturn") != ret);
    QTest::keyClick(causes, Qt::Key_Return, Qt::ShiftModifier);  // from one to the other
    QCOMPARE(causes->heard(), 1);
    QCOMPARE(bar->heard(), Heard::ret);
    QTest::keyClick(causes, Qt::Key_Return, Qt::ShiftModifier);
    QCOMPARE(causes->heard(), -1);
    QCOMPARE(text("hearResidual"), residual);
    QTest::keyClick(causes, Qt::Key_Return);
    QCOMPARE(bar->heard(), Heard::residual);
    QCOMPARE(causes->heard(), 1);
    window_->part<NullView>()->plates()->part_chosen(nullptr, false);
    QCOMPARE(text("hearReturn"), ret);
    window_->player().pause();
  }

  void plates_of_frequency_zoom_and_read_out_by_keys() {
    show_pair(filtered_);
    auto* path = window_->part<NullView>()->plates()->path();
    QTest::keyClick(window_.get(), Qt::Key_3, Qt::AltModifier);
    const auto whole = path->xAxis->range();
    for (int n = 0; n < 10; ++n) QTest::keyClick(path, Qt::Key_Right);
    QTest::keyClick(path, Qt::Key_Up);
    QVERIFY(path->xAxis->range().size() < whole.size());
    QTest::keyClick(path, Qt::Key_Left);
    QTest::keyClick(path, Qt::Key_Down);
    QTest::keyClick(path, Qt::Key_0);
    QVERIFY(std::abs(path->xAxis->range().upper - whole.upper) < 1e-6 * whole.upper);
    QWheelEvent wheel(QPointF(150, 60), path->mapToGlobal(QPointF(150, 60)), {}, QPoint(0, 240), Qt::NoButton,
                      Qt::NoModifier, Qt::NoScrollPhase, false);
    QApplication::sendEvent(path, &wheel);
    QVERIFY(path->xAxis->range().size() < whole.size());
  }

  void a_band_narrows_the_number_and_what_is_heard() {
    show_pair(filtered_);
    auto* view = window_->part<NullView>();
    const QString whole = view->strip()->residual_text();
    auto* plate = view->plates()->spectra();
    const int y = plate->height() / 2, left = int(plate->xAxis->coordToPixel(1000)),
              right = int(plate->xAxis->coordToPixel(4000));
    QTest::mousePress(plate, Qt::LeftButton, Qt::ShiftModifier, QPoint(left, y));
    QTest::mouseMove(plate, QPoint((left + right) / 2, y));
    QTest::mouseRelease(plate, Qt::LeftButton, Qt::ShiftModifier, QPoint(right, y));
    QVERIFY(view->band() && std::abs(view->band()->first - 1000) < 60 && std::abs(view->band()->second - 4000) < 200);
    const auto& sums = window_->workspace().current_result()->report->sums;
    const double expected = power_db(power_between(sums.residual_spectrum, view->band()->first, view->band()->second),
                                     power_between(sums.master_spectrum, view->band()->first, view->band()->second))
                                .value();
    QCOMPARE(view->strip()->residual_text(), number(expected, 1));
    QVERIFY(view->strip()->residual_text() != whole);
    QTest::keyClick(window_.get(), Qt::Key_Escape);
    QVERIFY(!view->band());
    QCOMPARE(view->strip()->residual_text(), whole);
  }

  void a_cell_of_the_map_is_looped_and_heard() {
    show_pair(noisy_);
    auto* view = window_->part<NullView>();
    auto* depth = view->plates()->depth();
    const QPoint at(int(depth->xAxis->coordToPixel(4)), int(depth->yAxis->coordToPixel(20)));
    QTest::mouseClick(depth, Qt::LeftButton, Qt::NoModifier, at);
    QVERIFY(view->band() && view->selection() && view->selection()->first < 4 && view->selection()->second > 4);
    QVERIFY(view->band()->second < 1.3 * view->band()->first);
    QTRY_VERIFY_WITH_TIMEOUT(window_->player().is_playing(), 3000);
    QTest::qWait(300);
    QVERIFY(window_->player().place_s() >= view->selection()->first - 0.05 &&
            window_->player().place_s() <= view->selection()->second + 0.05);
    window_->player().pause();
  }

  void moments_are_places_to_jump_to() {
    show_pair(noisy_);
    auto* view = window_->part<NullView>();
    view->plates()->right()->choose(PlatePanel::moments_page);
    auto* table = view->plates()->moments();
    const double at = table->cell_at(0, 0).value.value();
    table->choose({table->row_at(0)});
    emit table->opened(table->row_at(0), 0);
    QVERIFY(std::abs(window_->player().place_s() - at) < 0.001);
    QVERIFY(view->lanes()->from_s() <= at && view->lanes()->to_s() >= at);
  }

  void findings_open_the_plate_that_proves_them() {
    show_pair(cut_);
    auto* plates = window_->part<NullView>()->plates();
    const auto findings = window_->workspace().current_result()->report->findings;
    bool words = false;
    for (const Finding& f : findings) {
      window_->part<NullView>()->show_evidence(f);
      words = words || f.evidence == Evidence::words;
      if (f.evidence == Evidence::words) QCOMPARE(plates->left()->index(), int(PlatePanel::words_page));
      if (f.evidence == Evidence::parts) QCOMPARE(plates->left()->index(), int(PlatePanel::stack_page));
      if (f.evidence == Evidence::mask) QCOMPARE(plates->right()->index(), int(PlatePanel::mask_page));
    }
    QVERIFY(words);
    QVERIFY(plates->words()->csv().contains("bit,master_activity,return_activity"));
    QVERIFY(plates->words()->read_out(0).contains("return"));
    QVERIFY(plates->course()->read_out(4).contains("return 16 bits") &&
            plates->course()->read_out(4).contains("master 24 bits"));
    QVERIFY(plates->course()->csv().count('\n') > 300 && plates->course()->read_out(1e6).count('\n') == 0);
  }

  void the_return_is_dragged_and_snaps_to_the_null() {
    show_pair(late_);
    auto* view = window_->part<NullView>();
    auto* lanes = view->lanes();
    lanes->set_range(2, 2.1);
    QTest::qWait(50);
    const int y = lanes->height() / 2;  // the middle lane
    QTest::mousePress(lanes, Qt::LeftButton, Qt::ControlModifier, QPoint(400, y));
    QTest::mouseMove(lanes, QPoint(402, y));
    QTest::mouseMove(lanes, QPoint(409, y));
    QTest::mouseRelease(lanes, Qt::LeftButton, Qt::ControlModifier, QPoint(409, y));
    QVERIFY(view->strip()->delay()->value() < 300 && view->strip()->delay()->value() > 150);
    QTest::keyClick(window_.get(), Qt::Key_G, Qt::ControlModifier);
    QTRY_COMPARE_WITH_TIMEOUT(view->strip()->delay()->value(), 300.0, 60000);
    QTRY_COMPARE_WITH_TIMEOUT(window_->workspace().current_hold().delay_samples.value_or(0), 300.0, 120000);
  }

  void the_fit_is_measured_by_a_part() {
    // One channel 2 samples later than the other: each by itself gives its own delay.
    auto sound = requantised(scaled(Programme(6, 3).render(48000), 0.5), 24, true);
    auto skewed = late(sound, 100);
    const auto later = late(sound, 102);
    std::copy(later.channel(1).begin(), later.channel(1).begin() + skewed.frames(), skewed.channel(1).begin());
    window_->take_files({write("skew.wav", sound), write("skew-back.wav", skewed)});
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result() && window_->workspace().current_result()->why,
                             120000);
    for (const auto& [entry, delay] : {std::pair{"Channel 1", 100.0}, {"Channel 2", 102.0}}) {
      auto* menu = window_->part<NullView>()->strip()->by_menu();
      emit menu->aboutToShow();
      for (QAction* action : menu->actions())
        if (action->text() == entry) action->trigger();
      QTRY_COMPARE_WITH_TIMEOUT(window_->part<NullView>()->strip()->delay()->value(), delay, 20000);
    }
    const QString file = QString::fromStdString((folder_ / "by.heathmist").string());
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_hold().by.has_value(), 5000);
    QVERIFY(window_->files()->save_to(file));
    QCOMPARE(load_bench(file.toStdString()).masters[0].trials[0].hold.by->channel, 1);
  }

  void the_floor_of_the_route_is_set_kept_and_let_go() {
    show_pair(noisy_);
    auto& workspace = window_->workspace();
    workspace.set_floor(Floor{"Silence", {silence_.toStdString(), {}}, {}});
    QTRY_VERIFY_WITH_TIMEOUT(
        workspace.current_result() && workspace.current_result()->why && workspace.current_result()->why->floor,
        120000);
    QVERIFY2(workspace.current_result()->why->floor_share > 0.9,
             qPrintable(QString::number(workspace.current_result()->why->floor_share)));
    QTRY_VERIFY(window_->findings()->sentences().join(' ').contains("no more than the floor"));
    const QString file = QString::fromStdString((folder_ / "floor.heathmist").string());
    QVERIFY(window_->files()->save_to(file));
    QCOMPARE(load_bench(file.toStdString()).floor->name, std::string("Silence"));
    workspace.floor_from(workspace.current());  // what the trial itself leaves
    QTRY_VERIFY_WITH_TIMEOUT(workspace.current_result()->spec.floor && workspace.current_result()->spec.floor->master &&
                                 workspace.current_result()->why,
                             120000);
    QVERIFY(workspace.current_result()->why->floor_share > 0.99);
    workspace.set_floor({});
    QTRY_VERIFY_WITH_TIMEOUT(workspace.current_result()->why && !workspace.current_result()->why->floor, 120000);
  }

  void trials_stand_side_by_side() {
    window_->take_files({master_, filtered_, noisy_, cut_});
    QTRY_COMPARE_WITH_TIMEOUT(window_->part<TrialsView>()->table()->shown(), 3, 60000);
    QTest::keyClick(window_.get(), Qt::Key_F9);
    auto* table = window_->part<TrialsView>()->table();
    QVERIFY(table->isVisible());
    auto column = [&](int c) {
      QStringList cells;
      for (int row = 0; row < table->shown(); ++row) cells << table->text_at(row, c);
      return cells;
    };
    table->sortByColumn(TrialsView::depth_column, Qt::AscendingOrder);
    QCOMPARE(column(TrialsView::trial_column).front(), QString("mill-16"));
    QVERIFY(column(TrialsView::kind_column).contains("linear") &&
            column(TrialsView::kind_column).contains("word length"));
    QVERIFY(column(TrialsView::word_column).contains("16 bit"));
    QVERIFY(table->isColumnHidden(TrialsView::drift_column));  // where none drifts
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result() && window_->workspace().current_result()->why,
                             120000);
    const auto& report =
        *window_->workspace().current_result()->report;  // the trial that was looked at tells its causes
    const QString told = QString::fromStdString(top_causes(report));
    QVERIFY(!told.isEmpty());
    QTRY_VERIFY2(column(TrialsView::causes_column).contains(told),
                 qPrintable(column(TrialsView::causes_column).join('|')));
    QVERIFY(window_->part<TrialsView>()->csv().contains("\"" + told + "\""));
    window_->part<TrialsView>()->band()->setCurrentIndex(0);  // the filter is at the bottom
    table->sortByColumn(TrialsView::band_column, Qt::DescendingOrder);
    QCOMPARE(column(TrialsView::trial_column).front(), QString("mill-filtered"));
    QCOMPARE(window_->part<TrialsView>()->csv().count('\n'), 4);
    table->selectRow(0);
    QVERIFY(window_->part<TrialsView>()->plate()->csv().contains("mill-filtered"));
    QVERIFY(!window_->part<TrialsView>()->plate()->csv().contains("mill-noisy"));
    emit table->opened(table->row_at(0), 0);
    QTRY_COMPARE_WITH_TIMEOUT(window_->part<NullView>()->isVisible(), true, 5000);
    QCOMPARE(window_->workspace().name_of(window_->workspace().current()), QString("mill-filtered"));
  }

  void another_bench_opens_over_one_that_is_shown() {
    show_pair(filtered_);
    window_->part<NullView>()->restore({{"smoothing", 3}, {"relative", 1}});
    const QString file = QString::fromStdString((folder_ / "over.heathmist").string());
    QVERIFY(window_->files()->save_to(file));
    window_->take_files({file});  // its settings are drawn while no trial of it is there yet
    for (QAction* action : window_->part<NullView>()->view_actions()) action->trigger();
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result() && window_->workspace().current_result()->why,
                             120000);
    QVERIFY(window_->part<NullView>()->plates()->spectra()->csv().count('\n') > 100);
  }

  void cancelling_the_explanation_leaves_the_null() {
    const auto sound = with_noise(Planar(2, 48000 * 90), 0.1, 8);
    window_->take_files({write("long.wav", sound), write("long2.wav", with_noise(sound, 1e-3, 9))});
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result() != nullptr, 60000);
    window_->workspace().cancel();
    QTRY_VERIFY_WITH_TIMEOUT(!window_->workspace().results().is_busy(), 5000);
    QVERIFY(window_->workspace().current_result() && window_->part<NullView>()->lanes()->isVisible());
    QVERIFY(!window_->findings()->sentences().isEmpty());
  }

 private:
  QString write(const char* name, const Planar& sound) {
    return QString::fromStdString(save(folder_ / name, sound, 48000, WordFormat::pcm24).string());
  }
  void show_pair(const QString& ret) {
    window_->take_files({master_, ret});
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result() && window_->workspace().current_result()->why,
                             120000);
    QTRY_COMPARE(size_t(window_->findings()->sentences().size()),
                 window_->workspace().current_result()->report->findings.size());
  }
  QString master_, filtered_, late_, cut_, noisy_, silence_;
};

SHARED_WINDOW_MAIN(TestExplained)
#include "test_explained.moc"
