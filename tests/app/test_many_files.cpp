// Many files in the real window: a sheet with its rules, a folder that is watched, pairs by sound, ways to a target,
// and what is done with a return that is a video.
#include <QInputDialog>
#include <fstream>

#include "app/pages/deliverables/deliverables_view.hpp"
#include "app/pages/deliverables/plan_form.hpp"
#include "app/pages/pairs/pairs_view.hpp"
#include "app/pages/sheet/rules_form.hpp"
#include "app/pages/sheet/sheet_view.hpp"
#include "app/pages/trials/align_controller.hpp"
#include "app/pages/ways/ways_view.hpp"
#include "app/plots/spectrogram_plate.hpp"
#include "app/shell/bench_files.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/window.hpp"

using namespace heathmist;
using namespace heathmist::app;
using namespace heathmist::test;

namespace {

constexpr int rate = 48000;

Rules rules(const char* text) { return rules_from_json(json_from(text)); }
const char* const no_clicks = "{\"name\": \"House\", \"clicks\": {\"max\": 0}, \"true_peak_dbtp\": {\"max\": -1}}";

/// Its samples from a place on: how a file looks while it is being copied.
void append(const std::filesystem::path& to, const std::string& bytes) {
  std::ofstream(to, std::ios::binary | std::ios::app) << bytes;
}
std::string bytes_of(const std::filesystem::path& file) {
  std::ifstream in(file, std::ios::binary);
  return {std::istreambuf_iterator<char>(in), {}};
}

}  // namespace

class TestManyFiles : public WindowTest {
  Q_OBJECT

 private slots:
  void init() {
    WindowTest::init();
    std::filesystem::remove_all(folder_ / "in");
    std::filesystem::create_directories(folder_ / "in" / "below");
    if (clean_.frames() == 0) {
      clean_ = scaled(programme("piano", rate, 4, 3), 0.4);
      clicked_ = clean_;
      clicked_.channel(0)[size_t(2 * rate)] += 0.4;
    }
  }
  void cleanup() {
    WindowTest::cleanup();
    QSettings().remove("sheet");  // what a window leaves to the next
  }

  // ---- the sheet ----------------------------------------------------------------------------------------------------
  void files_are_checked_worst_first() {
    file("in/a good.wav", clean_), file("in/below/a click.wav", clicked_);
    std::ofstream(folder_ / "in" / "broken.wav") << "RIFF and no more";
    std::ofstream(folder_ / "in" / "notes.txt") << "no audio";
    SheetView* view = sheet();
    QVERIFY(view->headline().contains("Drop files or folders"));
    view->check_against(rules(no_clicks));
    view->add({path("in")});
    QTRY_COMPARE_WITH_TIMEOUT(view->headline(), QString("2 of 3 fail."), 30000);
    QCOMPARE(view->table()->shown(), 3);
    QCOMPARE(view->table()->text_at(0, SheetView::verdict_column), QString("cannot be read"));
    QCOMPARE(view->table()->text_at(1, SheetView::file_column), QString("a click.wav"));
    QVERIFY(view->table()->text_at(1, SheetView::fault_column).contains("click", Qt::CaseInsensitive));
    QCOMPARE(view->table()->text_at(2, SheetView::verdict_column), QString("passes"));
    // what is saved is what the command line says
    const auto entries = view->run().entries();
    QCOMPARE(entries.size(), size_t(3));
    QVERIFY(QString::fromStdString(sheet_csv(entries)).contains("a click.wav"));
  }
  void a_fault_leads_to_its_spot() {
    const QString click = file("in/a click.wav", clicked_);
    SheetView* view = sheet();
    view->check_against(rules(no_clicks));
    view->add({click});
    QTRY_COMPARE_WITH_TIMEOUT(view->headline(), QString("1 of 1 fail."), 30000);
    QCOMPARE(view->faults()->shown(), 1);
    view->faults()->setFocus();
    view->faults()->choose({0});
    QTest::keyClick(view->faults(), Qt::Key_Return);
    QCOMPARE(window_->workspace().bench().masters.size(), size_t(1));
    QCOMPARE(window_->workspace().bench().masters[0].audio.file, folder_ / "in" / "a click.wav");
    const auto selected = window_->workspace().selection();
    QVERIFY(selected && selected->first < 2 && selected->second > 2);
    QVERIFY(!view->isVisible());  // where the spot is seen
    QTRY_VERIFY_WITH_TIMEOUT(window_->part<SpectrumView>()->findChild<SpectrogramPlate*>()->has_cells(), 30000);
    window_->workspace().model().undo_stack().undo();
    QVERIFY(window_->workspace().bench().masters.empty());
  }
  void a_file_that_changes_is_checked_again() {
    const QString name = file("in/a.wav", clicked_);
    SheetView* view = sheet();
    view->check_against(rules(no_clicks));
    view->add({name});
    QTRY_COMPARE_WITH_TIMEOUT(view->headline(), QString("1 of 1 fail."), 30000);
    file("in/a.wav", clean_);
    QTRY_COMPARE_WITH_TIMEOUT(view->headline(), QString("All 1 pass."), 30000);
    std::filesystem::remove(folder_ / "in" / "a.wav");
    QTRY_COMPARE_WITH_TIMEOUT(view->table()->text_at(0, SheetView::verdict_column), QString("cannot be read"), 30000);
  }
  void other_rules_let_nothing_old_stand() {
    SheetView* view = sheet();
    view->check_against(rules(no_clicks));
    view->add({file("in/a.wav", clicked_)});
    QTRY_COMPARE_WITH_TIMEOUT(view->headline(), QString("1 of 1 fail."), 30000);
    view->check_against(rules("{\"sample_rate_hz\": 48000}"));
    QVERIFY2(!view->headline().contains("fail"), qPrintable(view->headline()));
    QTRY_COMPARE_WITH_TIMEOUT(view->headline(), QString("All 1 pass."), 30000);
  }
  /// They are the masters of the bench where nothing was dropped, and the rules go with the bench.
  void the_bench_is_the_first_sheet() {
    window_->workspace().add_files({file("in/a.wav", clean_)});
    SheetView* view = sheet();
    QTRY_VERIFY_WITH_TIMEOUT(view->headline().contains("1"), 30000);
    QCOMPARE(view->table()->shown(), 1);
    view->check_against(rules(no_clicks));
    QTRY_COMPARE_WITH_TIMEOUT(view->headline(), QString("All 1 pass."), 30000);
    QVERIFY(window_->files()->save_to(path("kept.heathmist")));
    const auto kept = load_bench(folder_ / "kept.heathmist").settings["sheet"];
    QVERIFY(rules_from_json(Json(kept["rules"])) == rules(no_clicks));
  }
  void the_form_makes_rules() {
    RulesForm form(rules(no_clicks));
    QVERIFY(form.rules() == rules(no_clicks));
    form.set_bounds("integrated_lufs", QString::fromUtf8("−20"), "-14,5");
    form.findChild<QLineEdit*>("rates")->setText("44100, 96000");
    const Rules made = form.rules();
    QCOMPARE(*made.bounds.at("integrated_lufs").min, -20.0);
    QCOMPARE(*made.bounds.at("integrated_lufs").max, -14.5);
    QCOMPARE(made.sample_rates_hz, (std::set<int>{44100, 96000}));
    form.set_bounds("integrated_lufs", "-14", "-20");
    form.accept();
    QCOMPARE(form.result(), 0);  // it stays open, and says why
    QVERIFY(form.findChild<QLabel*>("fault")->text().contains("integrated_lufs"));
    form.set_bounds("integrated_lufs", "loud", "");
    QVERIFY_EXCEPTION_THROWN(form.rules(), RulesError);
    form.show_rules(Rules{});
    QVERIFY_EXCEPTION_THROWN(form.rules(), RulesError);  // nothing is asked for
  }

  // ---- folders that are dropped ------------------------------------------------------------------------------------
  /// Drops that come while a folder is looked through wait for their turn; nothing is lost, nothing comes twice.
  void drops_are_listed_in_their_order() {
    for (int n = 0; n < 300; ++n) {
      std::filesystem::create_directories(folder_ / "in" / ("disc " + std::to_string(n % 3)));
      std::ofstream(folder_ / "in" / ("disc " + std::to_string(n % 3)) / (std::to_string(n) + ".wav")) << "RIFF";
    }
    FolderListing listing(window_->workspace().queue());
    QStringList files, refused;
    connect(&listing, &FolderListing::listed, this,
            [&](const QStringList& some, const QStringList& why) { files << some, refused << why; });
    listing.list({"one.wav"});
    QCOMPARE(files, QStringList{"one.wav"});  // at once
    listing.list({path("in/disc 0")});
    listing.list({"two.wav"});
    listing.list({path("in/disc 1"), path("in/disc 2"), path("in/below")});
    QVERIFY(listing.is_running() && files.size() == 1);
    QTRY_VERIFY_WITH_TIMEOUT(!listing.is_running(), 10000);
    QCOMPARE(files.size(), 302);
    QCOMPARE(QSet<QString>(files.begin(), files.end()).size(), 302);
    QVERIFY(files.indexOf("two.wav") == 101 && files[1].endsWith("disc 0/0.wav") && files[2].endsWith("disc 0/3.wav"));
    QVERIFY(refused.size() == 1 && refused[0].contains("no audio"));
  }
  // ---- a master by itself
  // --------------------------------------------------------------------------------------------
  void a_lone_master_is_heard() {
    auto& player = *window_->part<ListeningBar>()->player();
    window_->workspace().add_files({file("in/alone.wav", clean_)});
    QTRY_VERIFY_WITH_TIMEOUT(player.has_source(), 10000);
    QCOMPARE(player.rate_hz(), rate);
    player.seek(1);
    player.play();
    QTRY_VERIFY_WITH_TIMEOUT(player.place_s() > 1.3, 10000);
    window_->workspace().rename(window_->workspace().current(), "Weir");
    QVERIFY(player.is_playing());  // the bench changes, what plays goes on
    player.pause();
    window_->workspace().add_files({file("in/back.wav", scaled(clean_, 0.5))});
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result(), 60000);
    QVERIFY(player.has_source());
    window_->workspace().look_at(window_->workspace().bench().masters[0].id);
    QTRY_VERIFY_WITH_TIMEOUT(player.has_source(), 10000);
    player.clear_source();  // as a page does that was heard in its place
    QTRY_VERIFY_WITH_TIMEOUT(player.has_source(), 10000);
    save(folder_ / "in" / "alone.wav", clean_, 44100, WordFormat::pcm24);  // it is another one now
    QTRY_COMPARE_WITH_TIMEOUT(player.rate_hz(), 44100, 20000);
  }

  // ---- a watched folder ---------------------------------------------------------------------------------------------
  void it_is_watched_again_after_the_program_ended() {
    window_->part<SheetView>()->check_against(rules(no_clicks));
    window_->part<SheetView>()->watch(path("in"));
    WindowTest::cleanup(), WindowTest::init();
    auto* view = window_->part<SheetView>();
    QCOMPARE(view->folder().folder(), path("in"));
    QCOMPARE(view->rules().name, std::string("House"));
    QVERIFY(view->log().lines().front().what.contains("again"));
    view->folder().set_patience(200, 300);
    file("in/new.wav", clicked_);
    QTRY_VERIFY_WITH_TIMEOUT(view->log().lines().front().file == path("in/new.wav"), 30000);
    QCOMPARE(view->log().lines().front().verdict, QString("fails"));
    view->watch({});
    WindowTest::cleanup(), WindowTest::init();
    QVERIFY(window_->part<SheetView>()->folder().folder().isEmpty());
  }
  void rules_that_are_gone_judge_nothing() {
    QSettings().setValue("sheet/watched", path("in"));
    QSettings().setValue("sheet/against", QByteArray("{\"outlet\": \"an outlet that was dropped\"}"));
    WindowTest::cleanup(), WindowTest::init();
    auto* view = window_->part<SheetView>();
    QVERIFY(view->folder().folder().isEmpty());
    QVERIFY(view->log().lines().front().what.contains("not there any more"));
  }
  void what_arrives_is_checked_once_it_is_whole() {
    file("in/there.wav", clean_);
    const std::string whole = bytes_of(file("apart.wav", clicked_).toStdString());
    SheetView* view = sheet();
    view->check_against(rules(no_clicks));
    view->folder().set_patience(400, 5000);
    QSignalSpy arrived(&view->folder(), &FolderWatch::arrived);
    view->watch(path("in"));
    QTRY_COMPARE_WITH_TIMEOUT(view->log().lines().size(), size_t(1), 30000);  // what was there
    QCOMPARE(view->log().lines().front().verdict, QString("passes"));
    const auto slow = folder_ / "in" / "below" / "slow.wav";
    for (size_t at = 0; at < whole.size(); at += whole.size() / 6 + 1) {  // it comes bit by bit
      append(slow, whole.substr(at, whole.size() / 6 + 1));
      QTest::qWait(150);
      QVERIFY(at + whole.size() / 6 + 1 >= whole.size() || arrived.size() == 1);
    }
    QTRY_COMPARE_WITH_TIMEOUT(view->log().lines().size(), size_t(2), 30000);
    const auto& line = view->log().lines().front();
    QCOMPARE(line.file, QString::fromStdString(slow.string()));
    QCOMPARE(line.verdict, QString("fails"));
    QVERIFY2(line.what.contains("click", Qt::CaseInsensitive), qPrintable(line.what));
    const std::string kept = bytes_of(view->log().file_of(line.when));
    QVERIFY(kept.starts_with("time,file,verdict,what\n") && kept.find("slow.wav") != std::string::npos);
    QCOMPARE(view->table()->shown(), 2);
    // a folder that goes and comes back
    std::filesystem::rename(folder_ / "in", folder_ / "away");
    view->folder().set_patience(400, 300);
    QTRY_COMPARE_WITH_TIMEOUT(view->log().lines().front().verdict, QString("folder"), 10000);
    std::filesystem::rename(folder_ / "away", folder_ / "in");
    QTRY_VERIFY_WITH_TIMEOUT(view->log().lines().front().what.contains("back"), 10000);
  }
  /// Bytes that come by chance, at odd times, into files by chance: each file is told once it is whole, and once.
  void each_file_is_told_once() {
    const std::string whole = bytes_of(file("apart.wav", clean_).toStdString());
    FolderWatch watch(window_->workspace().queue());
    watch.set_patience(300, 400);
    QSignalSpy arrived(&watch, &FolderWatch::arrived);
    watch.watch(path("in"));
    dsp::Noise chance(5);
    std::map<std::string, size_t> written;
    for (int n = 0; n < 4; ++n) written["in/" + std::to_string(n) + ".wav"] = 0;
    std::ofstream(folder_ / "in" / "never.wav");  // it stays empty
    for (bool growing = true; growing;) {
      growing = false;
      for (auto& [name, at] : written) {
        if (at >= whole.size()) continue;
        const size_t more = std::min(whole.size() - at, size_t(chance.between(0.1, 0.5) * double(whole.size())));
        append(folder_ / name, whole.substr(at, std::max<size_t>(more, 1)));
        at += std::max<size_t>(more, 1);
        growing |= at < whole.size();
      }
      for (const auto& told : arrived) QCOMPARE(QFileInfo(told[0].toString()).size(), qint64(whole.size()));
      QTest::qWait(int(chance.between(20, 180)));
    }
    QTRY_COMPARE_WITH_TIMEOUT(arrived.size(), 4, 15000);
    QTest::qWait(1500);
    QCOMPARE(arrived.size(), 4);
    append(folder_ / "in" / "0.wav", "more");  // replaced: told again
    QTRY_COMPARE_WITH_TIMEOUT(arrived.size(), 5, 15000);
    watch.watch({});
    append(folder_ / "in" / "1.wav", "more");
    QTest::qWait(1500);
    QCOMPARE(arrived.size(), 5);
  }
  void folders_stand_for_the_audio_in_them() {
    file("in/2.wav", clean_), file("in/10.wav", clean_), file("in/below/1.flac", clean_);
    std::ofstream(folder_ / "in" / "cover.jpg") << "x";
    QStringList refused;
    const auto files = audio_files_of({path("in"), path("in/2.wav")}, &refused);
    QCOMPARE(files.size(), 3);
    QVERIFY(files.indexOf(path("in/2.wav")) < files.indexOf(path("in/10.wav")));
    QVERIFY(refused.isEmpty());
    std::filesystem::create_directories(folder_ / "empty");
    QVERIFY(audio_files_of({path("empty")}, &refused).isEmpty());
    QVERIFY(refused.size() == 1 && refused[0].contains("no audio"));
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
  QString path(const char* name) const { return QString::fromStdString((folder_ / name).string()); }
  QString file(const char* name, const Planar& sound) {
    return QString::fromStdString(save(folder_ / name, sound, rate, WordFormat::pcm24).string());
  }
  SheetView* sheet() {
    window_->show_page("sheet");
    return window_->part<SheetView>();
  }
  Planar clean_, clicked_;
};

QTEST_MAIN(TestManyFiles)
#include "test_many_files.moc"
