// What is done with an album's files in the real window: pairs by sound, deliverables, ways to a target, versions, and
// a return that is a video.
#include <QInputDialog>
#include <fstream>

#include "app/pages/deliverables/deliverables_view.hpp"
#include "app/pages/deliverables/plan_form.hpp"
#include "app/pages/pairs/pairs_view.hpp"
#include "app/pages/trials/align_controller.hpp"
#include "app/pages/ways/ways_view.hpp"
#include "app/shell/bench_files.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/window.hpp"

using namespace heathmist;
using namespace heathmist::app;
using namespace heathmist::test;

class TestAlbumWork : public FolderTest {
  Q_OBJECT

 private slots:
  void init() {
    FolderTest::init();
    if (clean_.frames() == 0) clean_ = scaled(programme("piano", rate, 4, 3), 0.4);
  }

  // ---- pairs --------------------------------------------------------------------------------------------------------
  void pairs_are_found_and_become_trials() {
    const auto dense = programme("dense", rate, 8, 6), other = programme("speech", rate, 8, 2);
    Planar late(2, dense.frames() + 30000);
    for (int c = 0; c < 2; ++c)
      for (int64_t n = 0; n < dense.frames(); ++n)
        late.channel(c)[size_t(n + 30000)] = 0.3 * dense.channel(c)[size_t(n)];
    window_->workspace().add_files({file("in/dense.wav", dense)});
    window_->show_page("pairs");
    auto* view = window_->part<PairsView>();
    QCOMPARE(view->masters()->files(), QStringList{path("in/dense.wav")});  // the bench's
    view->masters()->add({file("in/lonely.wav", clean_)});
    std::ofstream(folder_ / "in" / "below" / "broken.wav") << "RIFF";
    file("in/below/x1.wav", late), file("in/below/x2.wav", other);
    view->returns()->add({path("in/below")});
    QTRY_VERIFY_WITH_TIMEOUT(view->returns()->files().size() == 3 && !view->returns()->is_listing(), 10000);
    view->find();
    QTRY_VERIFY_WITH_TIMEOUT(!view->is_running(), 60000);
    QVERIFY2(view->headline().startsWith("1 of 2 masters"), qPrintable(view->headline()));
    QCOMPARE(view->lines().size(), size_t(4));
    QVERIFY(view->lines()[0].is_pair());
    QCOMPARE(view->lines()[0].ret, path("in/below/x1.wav"));
    QVERIFY(std::abs(view->lines()[0].pair.delay_s - 30000.0 / rate) < 0.05);
    QVERIFY(view->lines()[3].sentence.contains("broken.wav"));
    view->take();
    const auto& bench = window_->workspace().bench();
    QCOMPARE(bench.masters.size(), size_t(1));
    QCOMPARE(bench.masters[0].trials.size(), size_t(1));
    QCOMPARE(bench.masters[0].trials[0].ret.file, folder_ / "in" / "below" / "x1.wav");
    view->take();  // once is enough
    QCOMPARE(bench.masters[0].trials.size(), size_t(1));
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result(), 60000);
    QVERIFY(std::abs(window_->workspace().current_result()->report->fit.delay_samples - 30000) < 0.01);
  }
  void pairs_of_other_files_are_forgotten() {
    const auto dense = programme("dense", rate, 6, 6);
    window_->show_page("pairs");
    auto* view = window_->part<PairsView>();
    view->masters()->add({file("in/a.wav", dense)});
    view->returns()->add({file("in/b.wav", scaled(dense, 0.5))});
    view->find();
    QTRY_VERIFY_WITH_TIMEOUT(view->headline().startsWith("1 of 1"), 60000);
    file("in/b.wav", clean_);
    QTRY_VERIFY_WITH_TIMEOUT(view->lines().empty(), 20000);
    QVERIFY(view->headline().startsWith("Find the pairs"));
  }

  // ---- deliverables -------------------------------------------------------------------------------------------------
  void what_should_exist_and_what_does() {
    const auto dense = requantised(scaled(programme("dense", rate, 8, 6), 0.4), 24, false);
    window_->workspace().add_files({file("in/dense.wav", dense)});
    window_->show_page("deliverables");
    auto* view = window_->part<DeliverablesView>();
    QVERIFY(view->headline().contains("Drop the folder"));
    save(folder_ / "in" / "below" / "x.wav", dense, rate, WordFormat::pcm24);
    view->files()->add({path("in/below")});
    view->find();  // half of a folder is not looked at
    QVERIFY(!view->is_running());
    QTRY_VERIFY_WITH_TIMEOUT(!view->files()->is_listing(), 10000);
    view->find();
    QTRY_COMPARE_WITH_TIMEOUT(view->headline(), QString("2 of 3 are missing."), 60000);
    QCOMPARE(view->table()->text_at(0, 1), QString("missing"));
    QCOMPARE(view->table()->text_at(0, 2), QString("there"));
    file("in/below/x.wav", clean_);  // nothing old stands
    QTRY_VERIFY_WITH_TIMEOUT(!view->headline().contains("missing"), 20000);
    // a new version: what was made of the one before is told
    file("in/below/x.wav", dense);
    auto louder = dense;
    for (double& x : louder.channel(0)) x *= 0.5;
    window_->workspace().new_version(window_->workspace().bench().masters[0].id, file("in/v2.wav", louder));
    window_->show_page("deliverables");
    view->find();
    QTRY_VERIFY_WITH_TIMEOUT(view->headline().contains("something else"), 60000);
    QCOMPARE(view->table()->text_at(0, 2), QString("of an older version"));
  }
  void the_plan_is_edited() {
    PlanForm form(usual_plan());
    QVERIFY(form.plan() == usual_plan());
    form.add_row();
    form.accept();
    QCOMPARE(form.result(), 0);  // it has no name yet
    const int row = form.table()->rowCount() - 1;
    form.table()->item(row, 0)->setText("FLAC");
    form.table()->item(row, 3)->setText("flac, alac");
    QCOMPARE(form.plan().back().codecs, (std::set<std::string>{"alac", "flac"}));
    form.table()->item(row, 1)->setText("fast");
    QVERIFY_EXCEPTION_THROWN(form.plan(), RulesError);
  }

  // ---- ways ---------------------------------------------------------------------------------------------------------
  void the_least_harmful_way_becomes_a_trial() {
    window_->workspace().add_files({file("in/quiet.wav", scaled(programme("dense", rate, 8, 6), 0.1))});
    window_->show_page("ways");
    auto* view = window_->part<WaysView>();
    view->outlet()->setCurrentIndex(view->outlet()->findData("aes77-track"));
    QVERIFY(view->headline().contains("quiet"));
    view->start();
    QTRY_VERIFY_WITH_TIMEOUT(!view->is_running(), 120000);
    QCOMPARE(view->ways().size(), size_t(5));
    QVERIFY2(view->headline().contains("least harm") || view->headline().contains("nothing else"),
             qPrintable(view->headline()));
    view->take();
    const auto& bench = window_->workspace().bench();
    QCOMPARE(bench.masters[0].trials.size(), size_t(1));
    QVERIFY(bench.masters[0].trials[0].chain.has_value());
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result(), 60000);
    QVERIFY(std::abs(view->ways()[view->table()->chosen().front()].loudness_lufs.value_or(0) + 16) < 0.11);
    QVERIFY(window_->listening()->matched());
    // of another outlet nothing stands
    view->outlet()->setCurrentIndex(view->outlet()->findData("ebu-r128"));
    QVERIFY(view->ways().empty());
  }

  // ---- listeners ----------------------------------------------------------------------------------------------------
  void listeners_get_every_quality_at_the_players_gain() {
    const auto loud = scaled(programme("dense", rate, 8, 6), 3);
    const auto as_float = [&](const char* name) {
      return QString::fromStdString(save(folder_ / name, loud, rate, WordFormat::float32).string());
    };
    window_->workspace().add_files({as_float("in/loud.wav")});
    window_->show_page("outlets");
    auto* view = window_->part<OutletsView>();
    QTRY_VERIFY_WITH_TIMEOUT(view->table()->shown() > 0, 60000);
    view->outlet()->setCurrentIndex(view->outlet()->findData("stand-in-video-site"));
    QVERIFY2(view->listeners()->words().contains("3 qualities"), qPrintable(view->listeners()->words()));
    // what was brought back is the file itself: only the player turns
    QSignalSpy rested(view->listeners(), &ListenersRow::rested);
    view->listeners()->lay_beside(as_float("in/brought.wav").toStdString());
    QTRY_COMPARE_WITH_TIMEOUT(rested.size(), 1, 120000);
    QVERIFY2(view->listeners()->words().contains("only the player"), qPrintable(view->listeners()->words()));
    const auto& bench = window_->workspace().bench();
    QCOMPARE(bench.masters[0].trials.size(), size_t(1));
    file("in/brought.wav", clean_);  // what was said is of another file now
    QTRY_VERIFY_WITH_TIMEOUT(!view->listeners()->words().contains("only the player"), 20000);
    view->listeners()->make_trials();
    QCOMPARE(bench.masters[0].trials.size(), size_t(4));
    QCOMPARE(bench.masters[0].trials[1].chain->stages.back().type, std::string("gain"));
    QVERIFY(!window_->listening()->matched());
    window_->workspace().model().undo_stack().undo();
    QCOMPARE(bench.masters[0].trials.size(), size_t(1));
  }

  // ---- versions -----------------------------------------------------------------------------------------------------
  void a_new_version_has_its_null_and_dates_what_came_before() {
    const auto dense = programme("dense", rate, 6, 6);
    window_->workspace().add_files({file("in/v1.wav", dense), file("in/desk.wav", scaled(dense, 0.5))});
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result(), 60000);
    const auto& bench = window_->workspace().bench();
    const std::string desk = bench.masters[0].trials[0].id;
    window_->workspace().new_version(bench.masters[0].id, file("in/v2.wav", scaled(dense, 0.9)));
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result(), 60000);
    const auto& report = *window_->workspace().current_result()->report;
    QVERIFY(std::abs(report.fit.gain_db + 20 * std::log10(0.9)) < 0.01);  // the old one is that much louder
    QVERIFY(!window_->workspace().new_version(bench.masters[0].id, path("in/v2.wav")));  // it is that
    QVERIFY(!window_->workspace().new_version(bench.masters[0].id, path("in/v1.wav")));  // and was this
    window_->workspace().look_at(desk);
    QTRY_VERIFY_WITH_TIMEOUT(window_->findings()->sentences().size() > 1, 60000);
    QVERIFY2(window_->findings()->sentences()[1].contains("version 1 of the master"),
             qPrintable(window_->findings()->sentences().join("\n")));
    window_->workspace().model().undo_stack().undo();
    QCOMPARE(bench.masters[0].audio.file, folder_ / "in" / "v1.wav");
    QCOMPARE(bench.masters[0].trials.size(), size_t(1));
  }

  // ---- videos -------------------------------------------------------------------------------------------------------
  void the_master_goes_into_the_video() {
    if (QStandardPaths::findExecutable("ffmpeg").isEmpty()) QSKIP("ffmpeg");
    const auto dense = programme("dense", rate, 6, 6);
    const QString master = file("in/good.wav", dense), camera = file("in/camera.wav", scaled(dense, 0.3));
    QCOMPARE(QProcess::execute("ffmpeg", {"-y",
                                          "-loglevel",
                                          "error",
                                          "-f",
                                          "lavfi",
                                          "-i",
                                          "testsrc=size=160x120:rate=25:duration=6",
                                          "-i",
                                          camera,
                                          "-i",
                                          master,
                                          "-map",
                                          "0:v",
                                          "-map",
                                          "1:a",
                                          "-map",
                                          "2:a",
                                          "-c:v",
                                          "mpeg4",
                                          "-c:a",
                                          "pcm_s24le",
                                          path("film.mkv")}),
             0);
    window_->workspace().add_files({master, path("film.mkv")});
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result(), 60000);
    auto* align = window_->part<AlignController>();
    QSignalSpy rested(align, &AlignController::rested);
    align->write_video(Destination(folder_ / "out.mkv"));
    QTRY_COMPARE_WITH_TIMEOUT(rested.size(), 1, 60000);
    QVERIFY2(rested[0][0].toString().contains("150 pictures"), qPrintable(rested[0][0].toString()));
    QCOMPARE(sounds_in(folder_ / "out.mkv").size(), size_t(2));
    align->write(Destination(folder_ / "in" / "good.wav", true));  // an input, whatever is allowed
    QTRY_COMPARE_WITH_TIMEOUT(rested.size(), 2, 60000);
    QVERIFY2(rested[1][0].toString().contains("never written over"), qPrintable(rested[1][0].toString()));
    // the other sound of the file is the master itself
    QTimer picker;
    connect(&picker, &QTimer::timeout, [] {
      if (auto* dialog = qobject_cast<QInputDialog*>(QApplication::activeModalWidget()))
        dialog->setTextValue(dialog->comboBoxItems().last()), dialog->accept();
    });
    picker.start(50);
    align->ask_for_sound();
    QTRY_COMPARE_WITH_TIMEOUT(
        QString::fromStdString(window_->workspace().bench().masters[0].trials[0].ret.file.filename().string()),
        QString("film.mkv#2"), 20000);
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result(), 60000);
    QCOMPARE(window_->workspace().current_result()->report->kind, Kind::identical);
  }

 private:
  Planar clean_;
};

SHARED_WINDOW_MAIN(TestAlbumWork)
#include "test_album_work.moc"
