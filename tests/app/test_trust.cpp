// What a bench from elsewhere may do in the window: nothing but be looked at. What the user allows, and what of the
// user's is kept, replaced or thrown away, is theirs to choose.
#include <QSignalSpy>
#include <QtTest>
#include <fstream>

#include "app/pages/null/arm_dialog.hpp"
#include "app/shell/main_window.hpp"
#include "app/widgets/saving.hpp"
#include "core/bench/armed.hpp"
#include "tests/support/window.hpp"

using namespace heathmist;
using namespace heathmist::app;
using namespace heathmist::test;

namespace {

/// Answers the next dialog by pressing one of its buttons; an empty name closes it.
void answer_next_dialog(const QString& button, QStringList* said = nullptr) {
  auto* timer = new QTimer(qApp);
  QObject::connect(timer, &QTimer::timeout, timer, [timer, button, said] {
    auto* dialog = qobject_cast<QDialog*>(QApplication::activeModalWidget());
    if (!dialog) return;
    timer->deleteLater();
    if (auto* box = qobject_cast<QMessageBox*>(dialog); box && said) *said << box->text() << box->informativeText();
    if (auto* view = dialog->findChild<QPlainTextEdit*>(); view && said) *said << view->toPlainText();
    auto* pressed = button.isEmpty() ? nullptr : dialog->findChild<QAbstractButton*>(button);
    pressed ? pressed->click() : dialog->reject();
  });
  timer->start(20);
}

}  // namespace

class TestTrust : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() {
    prepare_window(folder_);
    qputenv("XDG_CONFIG_HOME", QByteArray((folder_ / "config").c_str()));
    const auto sound = requantised(Programme(4, 1).render(48000), 24, true);
    save(folder_ / "m.wav", sound, 48000, WordFormat::pcm24);
    save(folder_ / "r.wav", scaled(sound, 0.5), 48000, WordFormat::pcm24);
  }
  void init() {
    disarm_everything();
    std::filesystem::remove_all(BenchModel::unsaved_folder());
    window_ = std::make_unique<MainWindow>(simulated_output());
    window_->set_quiet(true);
    window_->show();
  }
  void cleanup() {
    window_->workspace().model().undo_stack().setClean();
    window_.reset();
  }

  /// A program, a plug-in and a kept file in one bench, each looked at or not: nothing of it happens, the rest works.
  void a_bench_from_elsewhere_runs_nothing() {
    std::ofstream(folder_ / "theirs.m4a") << "somebody's own";
    open(bench_of({{{"type", "external"}, {"command", touching("ran")}},
                   {{"type", "lv2"}, {"uri", "urn:x"}},
                   {{"type", "codec"}, {"codec", "aac"}, {"keep", (folder_ / "kept.m4a").string()}},
                   {{"type", "codec"}, {"codec", "aac"}, {"keep", (folder_ / "theirs.m4a").string()}},
                   {{"type", "codec"}, {"codec", "adpcm_ima"}, {"keep", (folder_ / "m.wav").string()}},
                   {{"type", "gain"}, {"gain_db", -3}}}));
    const auto before = std::filesystem::file_size(folder_ / "m.wav");
    for (int n = 2; n < 6; ++n) QTRY_VERIFY_WITH_TIMEOUT(row(n).summary.has_value(), 120000);
    for (int n = 0; n < 2; ++n) QTRY_VERIFY_WITH_TIMEOUT(row(n).disarmed && !row(n).failure.isEmpty(), 120000);
    QVERIFY(!std::filesystem::exists(folder_ / "ran") && !std::filesystem::exists(folder_ / "kept.m4a"));
    QCOMPARE(std::filesystem::file_size(folder_ / "theirs.m4a"), uintmax_t(14));
    QCOMPARE(std::filesystem::file_size(folder_ / "m.wav"), before);
    QVERIFY(window_->ledger()->list()->item(1)->data(Qt::UserRole).isValid());
    QVERIFY(row(0).failure.contains("touch"));
    for (auto* label : window_->part<NullView>()->findChildren<QLabel*>())
      if (label->text() == "A stage is disarmed") return;
    QFAIL("it is not said in the view");
  }

  void a_stage_is_armed_by_one_deliberate_click_and_stays_so() {
    const auto file = bench_of({{{"type", "external"}, {"command", touching("armed")}}});
    open(file);
    QTRY_VERIFY_WITH_TIMEOUT(row(0).disarmed, 20000);
    auto* arm = window_->part<NullView>()->chain_strip()->findChild<QPushButton*>("armStage");
    QTRY_VERIFY_WITH_TIMEOUT(arm->isVisible(), 5000);
    QStringList said;
    answer_next_dialog("", &said);  // Escape: it stays as it was
    arm->click();
    QVERIFY(said.size() == 1 && said[0].contains(QString::fromStdString(touching("armed"))));
    QTest::qWait(300);
    QVERIFY(!std::filesystem::exists(folder_ / "armed"));
    answer_next_dialog("arm");
    arm->click();
    QTRY_VERIFY_WITH_TIMEOUT(row(0).summary.has_value(), 120000);
    QVERIFY(std::filesystem::exists(folder_ / "armed") && !arm->isVisible());
    std::filesystem::remove(folder_ / "armed");
    window_->workspace().model().undo_stack().setClean();
    window_ = std::make_unique<MainWindow>(simulated_output());  // another day
    open(file);
    QTRY_VERIFY_WITH_TIMEOUT(std::filesystem::exists(folder_ / "armed"), 120000);
    open(bench_of({{{"type", "external"}, {"command", touching("armed") + " "}}}));  // nearly the same is another
    QTRY_VERIFY_WITH_TIMEOUT(row(0).disarmed, 20000);
  }

  /// A command that is being typed runs at no moment.
  void a_command_that_is_typed_waits_to_be_armed() {
    open(bench_of({{{"type", "gain"}, {"gain_db", -1}}}));
    QTRY_VERIFY_WITH_TIMEOUT(row(0).summary.has_value(), 20000);
    auto* strip = window_->part<NullView>()->chain_strip();
    strip->add_stage("external");
    auto* field = strip->form()->findChild<QLineEdit*>("command");
    QVERIFY(field);
    field->setText(QString::fromStdString(touching("typed")));
    emit field->editingFinished();
    QTRY_VERIFY_WITH_TIMEOUT(row(0).disarmed, 20000);
    QVERIFY(!std::filesystem::exists(folder_ / "typed"));
  }

  void kept_files_stay_in_chosen_folders_and_replace_nothing() {
    const auto there = folder_ / "chosen";
    std::filesystem::create_directories(there);
    arm({"codec", {{"keep", (there / "any.m4a").string()}}});
    std::ofstream(there / "mine.m4a") << "mine";
    open(bench_of({{{"type", "codec"}, {"codec", "aac"}, {"keep", (there / "new.m4a").string()}},
                   {{"type", "codec"}, {"codec", "aac"}, {"keep", (there / "mine.m4a").string()}},
                   {{"type", "codec"}, {"codec", "aac"}, {"keep", (there / "../escaped.m4a").string()}}}));
    for (int n = 0; n < 3; ++n) QTRY_VERIFY_WITH_TIMEOUT(row(n).summary.has_value(), 120000);
    QVERIFY(std::filesystem::file_size(there / "new.m4a") > 10000);
    QCOMPARE(std::filesystem::file_size(there / "mine.m4a"), uintmax_t(4));
    QVERIFY(!std::filesystem::exists(folder_ / "escaped.m4a"));
    for (const bool is_measured : {true, false}) {  // armed after it was measured, and while it is
      const auto late = folder_ / (is_measured ? "late" : "meanwhile") / "late.m4a";
      std::filesystem::create_directories(late.parent_path());
      const auto before = window_->workspace().current_result();
      open(bench_of({{{"type", "codec"}, {"codec", "aac"}, {"keep", late.string()}}}));
      const auto now = [&] { return window_->workspace().current_result(); };
      QTRY_VERIFY_WITH_TIMEOUT(now() && now() != before && (now()->why || !is_measured), 120000);
      QVERIFY(!std::filesystem::exists(late));
      window_->part<ChainController>()->arm_stage(window_->workspace().current_chain()->stages[0]);
      QTRY_VERIFY_WITH_TIMEOUT(std::filesystem::exists(late), 60000);
    }
  }

  /// Opening a probe's cell takes nothing from a return that is being written.
  void an_export_goes_on_while_a_probe_is_opened() {
    open(bench_of({{{"type", "gain"}, {"gain_db", -1}}}));
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result() && window_->workspace().current_result()->why,
                             120000);
    QSignalSpy written(window_->part<ChainController>(), &ChainController::return_written);
    window_->part<ChainController>()->write_return_to(folder_ / "export.wav");
    QVERIFY(window_->part<ChainController>()->is_writing_return());
    window_->part<MatrixController>()->open_cell({"Tone", {}, "tone_41"}, Chain{"", {{"gain", {{"gain_db", -1}}}}, 1});
    QTRY_COMPARE_WITH_TIMEOUT(written.count(), 1, 20000);
    QVERIFY(written[0][0].toBool());
    QCOMPARE(Clip::open(folder_ / "export.wav")->format().frames, int64_t(4 * 48000));
    QTRY_COMPARE_WITH_TIMEOUT(window_->workspace().bench().masters.size(), size_t(2), 20000);
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result() && window_->workspace().current_result()->why,
                             120000);
    window_->part<ChainController>()->write_return_to(folder_ / "export.wav");  // there already, and nobody was asked
    QTRY_COMPARE_WITH_TIMEOUT(written.count(), 2, 20000);
    QVERIFY(!written[1][0].toBool() && window_->notice()->text().contains("export.wav"));
  }

  void nothing_on_the_bench_is_ever_an_output() {
    open(bench_of({{{"type", "gain"}, {"gain_db", -1}}}));
    const auto master = QString::fromStdString((folder_ / "m.wav").string());
    QVERIFY_EXCEPTION_THROWN(check(chosen_destination(master)), OutputRefused);
    QVERIFY_EXCEPTION_THROWN(window_->part<NullView>()->lanes()->write_picture(chosen_destination(master)),
                             OutputRefused);
    QVERIFY_EXCEPTION_THROWN(window_->workspace().model().save(master), OutputRefused);
    QTRY_VERIFY_WITH_TIMEOUT(row(0).summary.has_value(), 20000);
    QSignalSpy written(window_->part<LoudnessController>(), &LoudnessController::copies_written);
    LevelPlan plan;
    window_->part<LoudnessController>()->write_copies(plan, false, QString::fromStdString((folder_ / "").string()),
                                                      true);  // onto the master
    QTRY_COMPARE_WITH_TIMEOUT(written.count(), 1, 20000);
    QVERIFY(!written[0][0].toBool() && window_->notice()->text().contains("never written over"));
    const auto copies = [&](bool replace) {
      QSignalSpy once(window_->part<LoudnessController>(), &LoudnessController::copies_written);
      window_->part<LoudnessController>()->write_copies(plan, false,
                                                        QString::fromStdString((folder_ / "copies").string()), replace);
      return once.wait(30000) && once[0][0].toBool();
    };
    QVERIFY(copies(false));
    QVERIFY(!copies(false) && window_->notice()->text().contains("there is a file of this name"));
    QVERIFY(copies(true));  // somebody was asked, and said so
  }

  void odd_settings_are_passed_over_and_saved() {
    auto json = bench_json(Bench{}, folder_ / "");
    json["settings"] = {
        {"listening", {{"matched", "yes"}, {"lift_db", {1, 2}}}}, {"spectra", {1, 2}}, {"other", nullptr}};
    std::ofstream(folder_ / "odd.heathmist") << text_of(json);
    open(folder_ / "odd.heathmist");
    QVERIFY(window_->files()->save_to(QString::fromStdString((folder_ / "odd again.heathmist").string())));
    QVERIFY(load_bench(folder_ / "odd again.heathmist").settings.contains("other"));
  }

  void twins_are_told_apart_and_said() {
    auto json = json_from_file(bench_of({{{"type", "gain"}, {"gain_db", -1}}, {{"type", "gain"}, {"gain_db", -20}}}));
    for (auto& t : json["masters"][0]["trials"]) t["id"] = "twin";
    std::ofstream(folder_ / "twins.heathmist") << text_of(json);
    open(folder_ / "twins.heathmist");
    QVERIFY2(window_->notice()->text().contains("the id of another"), qPrintable(window_->notice()->text()));
    for (int n = 0; n < 2; ++n) QTRY_VERIFY_WITH_TIMEOUT(row(n).summary.has_value(), 120000);
    QVERIFY(std::abs(row(0).summary->gain_db + 1) < 0.01 && std::abs(row(1).summary->gain_db + 20) < 0.01);
  }

  /// Three runs broke off: one copy is opened, one thrown away, one cannot be read. None goes unasked.
  void unsaved_work_is_offered_and_kept_until_somebody_chooses() {
    const auto place = BenchModel::unsaved_folder();
    const Bench bench = load_bench(bench_of({{{"type", "gain"}, {"gain_db", -1}}}));
    const auto own = folder_ / "own.heathmist";
    save_bench(bench, own);
    leave_behind(bench, own);
    QStringList said;
    answer_next_dialog("leaveCopy", &said);
    window_->take_files({QString::fromStdString(own.string())});  // with a bench on the command line, too
    window_->files()->offer_recovery();
    QVERIFY(said.size() == 2 && said[1].contains("own.heathmist"));
    QCOMPARE(UnsavedCopy::left_behind(place).size(), size_t(1));
    answer_next_dialog("openCopy");
    window_->files()->offer_recovery();
    QCOMPARE(window_->workspace().model().file(), QString::fromStdString(own.string()));  // it knows its file
    QVERIFY(!window_->workspace().model().undo_stack().isClean());
    QVERIFY(std::distance(std::filesystem::directory_iterator(place), {}) > 0);  // and is kept on
    QVERIFY(window_->files()->save_to(window_->workspace().model().file()));
    QVERIFY(UnsavedCopy::left_behind(place).empty());
    QTRY_VERIFY_WITH_TIMEOUT(row(0).summary.has_value(), 20000);
    std::filesystem::create_directories(place);
    std::ofstream(place / "unsaved-1-x.heathmist")
        << "{\"heathmist_unsaved\": 1, \"of\": \"\", \"bench\": {\"heathmist_bench\": 99}}";
    said.clear();
    answer_next_dialog("leaveCopy", &said);
    window_->files()->offer_recovery();
    QVERIFY(said.size() == 2 && said[0].contains("cannot be read"));
    QVERIFY(std::filesystem::exists(place / "unsaved-1-x.heathmist"));
    answer_next_dialog("dropCopy");
    window_->files()->offer_recovery();
    QVERIFY(!std::filesystem::exists(place / "unsaved-1-x.heathmist"));
    window_->files()->offer_recovery();  // nothing is left to ask about
  }

  void a_copy_that_cannot_be_kept_is_said() {
    open(bench_of({{{"type", "gain"}, {"gain_db", -1}}}));
    QTRY_VERIFY_WITH_TIMEOUT(row(0).summary.has_value(), 20000);
    window_->workspace().rename(window_->workspace().bench().masters[0].id, "Weir");
    std::filesystem::remove_all(BenchModel::unsaved_folder());
    std::filesystem::create_directories(BenchModel::unsaved_folder().parent_path());
    std::ofstream(BenchModel::unsaved_folder()) << "in the way";
    window_->workspace().model().autosave();
    QVERIFY(window_->notice()->text().contains("No copy of the unsaved bench"));
    std::filesystem::remove(BenchModel::unsaved_folder());
  }

 private:
  std::string touching(const std::string& name) const {
    return "sh -c 'touch " + (folder_ / name).string() + "; cp {in} {out}'";
  }
  /// A bench as a client would send it: one master, a trial for each chain of one stage.
  std::filesystem::path bench_of(const std::vector<Json>& stages) {
    Bench bench;
    bench.name = "From elsewhere";
    bench.masters.push_back({fresh_id(), "Mill Race", {folder_ / "m.wav", {}}, {}});
    for (const Json& stage : stages) {
      Trial trial{fresh_id(), "", {}, {}};
      trial.chain = unchecked_chain_from_json({{"stages", {stage}}});
      bench.masters[0].trials.push_back(trial);
    }
    const auto file = folder_ / ("bench" + std::to_string(++count_) + ".heathmist");
    save_bench(bench, file);
    return file;
  }
  /// A copy whose run is no more.
  static void leave_behind(const Bench& bench, const std::filesystem::path& of) {
    UnsavedCopy copy(BenchModel::unsaved_folder());
    copy.keep(bench, of);
  }
  void open(const std::filesystem::path& file) {
    window_->workspace().model().undo_stack().setClean();
    window_->take_files({QString::fromStdString(file.string())});
  }
  RowState row(int trial) const {
    const auto& states = window_->workspace().states();
    const auto found = states.find(window_->workspace().bench().masters[0].trials[size_t(trial)].id);
    return found == states.end() ? RowState{} : found->second;
  }
  Folder folder_;
  int count_ = 0;
  std::unique_ptr<MainWindow> window_;
};

QTEST_MAIN(TestTrust)
#include "test_trust.moc"
