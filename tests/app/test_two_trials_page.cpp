// The page of two trials in the window: which two, what is told of them, and that it is never stale.
#include <QSignalSpy>
#include <QtTest>

#include "app/pages/two_trials/two_trials_view.hpp"
#include "core/dsp/biquad.hpp"
#include "tests/support/share.hpp"
#include "tests/support/window.hpp"

using namespace heathmist;
using namespace heathmist::app;
using namespace heathmist::test;

namespace {

constexpr int rate = 48000;

Planar shelved(Planar sound, double gain_db) {
  for (int c = 0; c < sound.channels(); ++c) {
    auto shelf = dsp::Biquad::high_shelf(rate, 5000, 0.7071, gain_db);
    for (double& x : sound.channel(c)) x = shelf.run(x);
  }
  return sound;
}

}  // namespace

class TestTwoTrialsPage : public WindowTest {
  Q_OBJECT

  TwoTrialsView* view() { return window_->part<TwoTrialsView>(); }
  Workspace& workspace() { return window_->workspace(); }
  QString write(const char* name, const Planar& sound) {
    return QString::fromStdString(save(folder_ / name, sound, rate, WordFormat::pcm24).string());
  }
  const std::vector<Trial>& trials() { return workspace().bench().masters.front().trials; }
  /// As the table says it of a number.
  QString told_of(const QString& what, int column) {
    for (int row = 0; row < view()->table()->shown(); ++row)
      if (view()->table()->text_at(row, 0) == what) return view()->table()->text_at(row, column);
    return {};
  }
  bool show() {
    window_->take_files({master_, little_, much_});
    window_->show_page("two");
    return QTest::qWaitFor([this] { return view()->answer().contains("less than"); }, 120000);
  }

 private slots:
  void initTestCase() {
    prepare_window(folder_);
    sound_ = requantised(scaled(with_noise(Programme(8, 1).render(rate), 1e-3, 5), 0.5), 24, true);
    master_ = write("tide.wav", sound_);
    little_ = write("tide-little.wav", shelved(sound_, -0.5));
    much_ = write("tide-much.wav", shelved(sound_, -6));
  }

  void without_two_trials_it_says_what_to_do() {
    window_->show_page("two");
    QVERIFY(!view()->answer().isEmpty() && !view()->detail().isEmpty());
    QVERIFY(!view()->chooser(0)->isEnabled());
    window_->take_files({master_, little_});
    QTRY_VERIFY_WITH_TIMEOUT(view()->answer().contains("One trial"), 20000);
  }

  void what_is_looked_at_stands_beside_the_next() {
    QVERIFY(show());
    QCOMPARE(view()->chosen()[0], trials()[0].id);
    QCOMPARE(view()->chosen()[1], trials()[1].id);
    workspace().look_at(trials()[1].id);
    QCOMPARE(view()->chosen()[0], trials()[1].id);  // it has none behind it
    QCOMPARE(view()->chosen()[1], trials()[0].id);
  }

  void the_numbers_are_those_of_the_trials() {
    QVERIFY(show());
    const auto first = workspace().exact_result_of(trials()[0].id),
               second = workspace().exact_result_of(trials()[1].id);
    QVERIFY(first && second);
    const double a = *first->report->residual_relative_db(), b = *second->report->residual_relative_db();
    QCOMPARE(told_of("Residual, dBr", 1), number(a, 1));
    QCOMPARE(told_of("Residual, dBr", 2), number(b, 1));
    QCOMPARE(told_of("Residual, dBr", 3), number(a - b, 1));
    QVERIFY2(view()->answer().contains(number(b - a, 1) + " dB less"), qPrintable(view()->answer()));
    const auto expected = depth_difference(first->report->sums.depth, second->report->sums.depth);
    const QString csv = view()->difference()->csv();
    QCOMPARE(csv.count('\n'), int(expected.db.size()) + 1);
    QVERIFY(csv.startsWith("time_s,low_hz,high_hz,first_less_second_db\n"));
    QTRY_VERIFY_WITH_TIMEOUT(!told_of("EQ takes out, dB", 2).isEmpty(), 60000);
    const QStringList lines = view()->csv().split('\n');
    QCOMPARE(lines.front(), QString("what,first,second,first_less_second"));
    const auto row =
        std::find_if(lines.begin(), lines.end(), [](const QString& l) { return l.startsWith("\"Residual, dBr\","); });
    QVERIFY2(row != lines.end(), qPrintable(view()->csv()));
    const QStringList cells = row->mid(16).split(',');
    QCOMPARE(cells.size(), 3);
    QVERIFY(std::abs(cells[0].toDouble() - a) < 1e-9 && std::abs(cells[1].toDouble() - b) < 1e-9);
    QVERIFY(std::abs(cells[2].toDouble() - (a - b)) < 1e-9);
    QVERIFY(!view()->csv().contains(QChar(0x2212)) && !view()->csv().contains('\t'));
  }

  void exchanged_they_change_places() {
    QVERIFY(show());
    const QString first = told_of("Residual, dBr", 1), second = told_of("Residual, dBr", 2);
    view()->exchange();
    QTRY_COMPARE(told_of("Residual, dBr", 1), second);
    QCOMPARE(told_of("Residual, dBr", 2), first);
    QVERIFY(told_of("Residual, dBr", 3).startsWith('+'));
  }

  void what_was_chosen_by_hand_stays_and_is_kept_with_the_bench() {
    QVERIFY(show());
    view()->choose(0, trials()[1].id);
    view()->choose(1, trials()[0].id);
    workspace().look_at(trials()[0].id);
    QCOMPARE(view()->chosen()[0], trials()[1].id);
    workspace().model().edit("Name", [](Bench& bench) { bench.masters.front().name = "Tide and time"; });
    QCOMPARE(view()->chosen()[0], trials()[1].id);
    QVERIFY(view()->chooser(0)->currentText().startsWith("Tide and time"));
  }

  /// What a bench from elsewhere says of the page may be anything.
  void broken_settings_are_as_none() {
    QVERIFY(show());
    const auto file = folder_ / "broken.heathmist";
    QVERIFY(
        window_->files()->save_to(QString::fromStdString(file.string())));  // so that none asks what is to become of it
    Bench bench = workspace().bench();
    for (const Json& settings :
         {Json{{"first", 7}, {"second", Json::array()}}, Json{{"first", "no such trial"}}, Json(3)}) {
      bench.settings["two trials"] = settings;
      bench.settings["spectra"] = {{"maps tied", "perhaps"}, {"smoothing", Json::array()}};
      bench.settings["positions"] = {{"as", 3}, {"bpm", "fast"}, {"beats_in_a_bar", -1e30}, {"first_beat_s", nullptr}};
      save_bench(bench, file);
      window_->files()->open(QString::fromStdString(file.string()));
      QVERIFY(!view()->is_chosen_by_hand());
      QCOMPARE(view()->chosen()[0], trials()[0].id);
    }
  }

  /// Another name changes no number, and is seen at once.
  void a_trial_that_is_renamed_has_its_new_name_everywhere() {
    QVERIFY(show());
    workspace().rename(trials()[0].id, "Sedge");
    QVERIFY2(view()->answer().contains("Sedge"), qPrintable(view()->answer()));
    QVERIFY(view()->lines()->csv().contains("Sedge"));
    QVERIFY(view()->map(0)->accessibleName().contains("Sedge"));
  }

  /// A hold moves one of them: what stood there is not shown as if it were still so.
  void a_hold_is_measured_anew() {
    QVERIFY(show());
    const QString before = told_of("Residual, dBr", 1);
    FitHold hold;
    hold.gain_db = 3;
    workspace().hold(hold, "Gain");
    QTRY_VERIFY_WITH_TIMEOUT(view()->answer().contains("less than") && told_of("Residual, dBr", 1) != before, 60000);
    workspace().model().undo_stack().undo();
    QTRY_VERIFY_WITH_TIMEOUT(view()->answer().contains("less than") && told_of("Residual, dBr", 1) == before, 60000);
  }

  void a_trial_that_goes_makes_room_for_another() {
    QVERIFY(show());
    workspace().remove(trials()[1].id);
    QTRY_VERIFY_WITH_TIMEOUT(view()->answer().contains("One trial"), 5000);
    workspace().model().undo_stack().undo();
    QTRY_VERIFY_WITH_TIMEOUT(view()->answer().contains("less than"), 60000);
  }

  /// It is said why, once, and not asked for again and again.
  void what_cannot_be_measured_is_said_so() {
    QFile broken(QString::fromStdString((folder_ / "tide-broken.wav").string()));
    QVERIFY(broken.open(QIODevice::WriteOnly) && broken.write("Dear mastering engineer") > 0);
    broken.close();
    window_->show_page("two");
    window_->workspace().model().edit("two", [&](Bench& bench) {
      Master m{"m", "Tide", {master_.toStdString(), {}}, {}};
      m.trials = {{"a", "little", {little_.toStdString(), {}}, {}},
                  {"b", "broken", {folder_ / "tide-broken.wav", {}}, {}}};
      bench.masters = {m};
    });
    QSignalSpy failed(&workspace().results(), &TrialResults::failed);
    workspace().look_at("a");
    QTRY_VERIFY_WITH_TIMEOUT(view()->answer().contains("cannot be measured"), 60000);
    QVERIFY2(view()->detail().contains("broken"), qPrintable(view()->detail()));
    QTest::qWait(1500);
    QVERIFY2(failed.size() <= 2, qPrintable(QString::number(failed.size())));
  }

  void maps_are_zoomed_and_selected_together() {
    QVERIFY(show());
    const auto at = [&](double s, double row) {
      auto* map = view()->map(0);
      map->replot(QCustomPlot::rpImmediateRefresh);
      return QPoint(int(map->xAxis->coordToPixel(s)), int(map->yAxis->coordToPixel(row)));
    };
    const QPoint where = at(4, 20);
    for (const auto with : {Qt::NoModifier, Qt::ShiftModifier}) {
      QWheelEvent turned(where, view()->map(0)->mapToGlobal(where), {}, {0, 360}, Qt::NoButton, with, Qt::NoScrollPhase,
                         false);
      QApplication::sendEvent(view()->map(0), &turned);
    }
    QVERIFY(view()->map(0)->to_s() - view()->map(0)->from_s() < 5);
    for (DepthPlate* map : {view()->map(1), view()->difference()}) {
      QCOMPARE(map->from_s(), view()->map(0)->from_s());
      QCOMPARE(map->yAxis->range().lower, view()->map(0)->yAxis->range().lower);
    }
    const QPoint from = at(3.5, 19), to = at(4.5, 21);
    QTest::mousePress(view()->map(0), Qt::LeftButton, Qt::NoModifier, from);
    QTest::mouseMove(view()->map(0), to);
    QTest::mouseRelease(view()->map(0), Qt::LeftButton, Qt::NoModifier, to);
    QVERIFY(workspace().selection() && workspace().band());
    QVERIFY(std::abs(workspace().selection()->first - 3.5) < 0.1);
  }

 private:
  Planar sound_;
  QString master_, little_, much_;
};

SHARED_WINDOW_MAIN(TestTwoTrialsPage)
#include "test_two_trials_page.moc"
