// Many files in the real window: a sheet with its rules, and a folder that is watched.
#include <QInputDialog>
#include <fstream>

#include "app/pages/sheet/rules_form.hpp"
#include "app/pages/sheet/sheet_view.hpp"
#include "app/plots/spectrogram_plate.hpp"
#include "app/shell/bench_files.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/window.hpp"

using namespace heathmist;
using namespace heathmist::app;
using namespace heathmist::test;

namespace {

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

class TestManyFiles : public FolderTest {
  Q_OBJECT

 private slots:
  void init() {
    FolderTest::init();
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
    const auto alone = scaled(programme("piano", rate, 30, 3), 0.4);  // it does not end while it is looked at
    window_->workspace().add_files({file("in/alone.wav", alone)});
    QTRY_VERIFY_WITH_TIMEOUT(player.has_source(), 10000);
    QCOMPARE(player.rate_hz(), rate);
    player.seek(1);
    player.play();
    QTRY_VERIFY_WITH_TIMEOUT(player.place_s() > 1.3, 10000);
    window_->workspace().rename(window_->workspace().current(), "Weir");
    QVERIFY(player.is_playing());  // the bench changes, what plays goes on
    player.pause();
    window_->workspace().add_files({file("in/back.wav", scaled(alone, 0.5))});
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result(), 60000);
    QTRY_VERIFY_WITH_TIMEOUT(player.has_source(), 10000);  // the pair is laid in after its result
    window_->workspace().look_at(window_->workspace().bench().masters[0].id);
    QTRY_VERIFY_WITH_TIMEOUT(player.has_source(), 10000);
    player.clear_source();  // as a page does that was heard in its place
    QTRY_VERIFY_WITH_TIMEOUT(player.has_source(), 10000);
    save(folder_ / "in" / "alone.wav", alone, 44100, WordFormat::pcm24);  // it is another one now
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

 private:
  SheetView* sheet() {
    window_->show_page("sheet");
    return window_->part<SheetView>();
  }
  Planar clean_, clicked_;
};

SHARED_WINDOW_MAIN(TestManyFiles)
#include "test_many_files.moc"
