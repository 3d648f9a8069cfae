// The Engines page in the real window: stand-ins asked, renders brought in, changed and undone, probes and scores
// written.
#include <QSignalSpy>
#include <QtTest>
#include <algorithm>
#include <fstream>

#include "app/pages/crossfade/crossfade_view.hpp"
#include "app/pages/engines/engines_controller.hpp"
#include "app/pages/engines/engines_view.hpp"
#include "app/pages/responses/responses_view.hpp"
#include "core/probes/score_json.hpp"
#include "tests/support/mixer.hpp"
#include "tests/support/share.hpp"
#include "tests/support/window.hpp"

using namespace heathmist;
using namespace heathmist::app;
using namespace heathmist::test;

class TestEnginesPage : public WindowTest {
  Q_OBJECT

 private slots:
  void initTestCase() { prepare_window(folder_); }

  void an_empty_page_says_how_it_goes() {
    open_page();
    QVERIFY(view()->answer().contains("mixing engine"));
    QVERIFY(view()->findChild<QPushButton*>("addEngine")->isVisible());
    QVERIFY(!window_->findChild<Ledger*>()->isVisible());
    window_->show_page("null");
    QVERIFY(window_->findChild<Ledger*>()->isVisible());
  }

  void a_stand_in_is_asked_and_undone() {
    open_page();
    controller()->add_stand_in("alder", true);
    QVERIFY(read_all());
    QCOMPARE(view()->cards()->cards().size(), size_t(1));
    EngineCard* card = view()->cards()->cards().front();
    QCOMPARE(card->text_of(0), QString("identical"));
    QVERIFY2(card->text_of(1).contains("straight"), qPrintable(card->text_of(1)));
    QVERIFY2(card->text_of(3).contains("dips 3.0 dB"), qPrintable(card->text_of(3)));
    QVERIFY2(view()->answer().contains("rendered straight over 5.0"), qPrintable(view()->answer()));
    QCOMPARE(view()->table()->shown(), 11);
    QCOMPARE(view()->table()->text_at(0, 2), QString("2.50"));
    QVERIFY(view()->plots()->upper()->csv().contains("\"drawn\""));
    window_->workspace().model().undo_stack().undo();
    QVERIFY(view()->cards()->cards().empty());
    window_->workspace().model().undo_stack().redo();
    QVERIFY(read_all());
    QCOMPARE(view()->cards()->cards().size(), size_t(1));
  }

  void an_event_is_looked_at_closely() {
    open_page();
    controller()->add_stand_in("alder", true);
    QVERIFY(read_all());
    const double whole = view()->plots()->upper()->xAxis->range().size();
    view()->table()->choose({0});
    const QCPRange close = view()->plots()->upper()->xAxis->range();
    QVERIFY(close.size() < 0.05 * whole && close.contains(3.01) && close.contains(3.015));
    QCOMPARE(view()->plots()->lower()->xAxis->range().size(), close.size());
    view()->table()->choose({});
    QVERIFY(std::abs(view()->plots()->upper()->xAxis->range().size() - whole) < 0.01 * whole);
  }

  void keys_go_through_kinds_and_cards() {
    open_page();
    controller()->add_stand_in("alder", true);
    controller()->add_stand_in("birch", true);
    QVERIFY(read_all());
    EngineCard* card = view()->cards()->cards().back();
    card->setFocus();
    QTest::keyClick(card, Qt::Key_Down);
    QCOMPARE(view()->kind(), std::string("pan"));
    QTest::keyClick(card, Qt::Key_Down);
    QCOMPARE(view()->kind(), std::string("crossfade"));
    QVERIFY2(view()->answer().contains("swells") || view()->answer().contains("keeps"), qPrintable(view()->answer()));
    QTest::keyClick(card, Qt::Key_Up);
    QCOMPARE(view()->kind(), std::string("pan"));
    QTest::mouseClick(view()->cards()->cards().front(), Qt::LeftButton, {}, {60, 20});
    QCOMPARE(view()->engine()->name, std::string("Alder"));
    view()->choose(view()->engine()->id, "all");
    QCOMPARE(view()->table()->shown(), 2);
    QCOMPARE(view()->table()->text_at(0, 1), QString("identical"));
    QVERIFY(view()->csv().startsWith("engine,") && view()->csv().contains("gain smoothing"));
  }

  void a_render_is_brought_in_and_read_anew_when_it_changes() {
    open_page();
    controller()->add_own("The mix room");
    QVERIFY(view()->answer().contains("not been asked"));
    const auto file = folder_ / "render.wav";
    write_render(file, 0.004);
    controller()->bring_in(QString::fromStdString(file.string()));
    QVERIFY(read_all());
    QVERIFY2(view()->answer().contains("straight over 4.0"), qPrintable(view()->answer()));
    QTRY_VERIFY(!window_->workspace().bench().engines.front().renders.front().render.fingerprint.empty());
    QTest::qWait(300);
    write_render(file, 0.012);
    QTRY_VERIFY2_WITH_TIMEOUT(view()->answer().contains("straight over 12.0"), qPrintable(view()->answer()), 15000);
  }

  void a_clips_gain_stands_beside_the_fader() {
    open_page();
    controller()->add_own("The mix room");
    write_render(folder_ / "fader.wav", 0.01);
    write_render(folder_ / "clip.wav", 0);
    controller()->bring_in(QString::fromStdString((folder_ / "fader.wav").string()));
    controller()->bring_in(QString::fromStdString((folder_ / "clip.wav").string()), "clip gain");
    QVERIFY(read_all());
    QCOMPARE(window_->workspace().bench().engines.front().renders.size(), size_t(2));
    QVERIFY2(view()->answer().contains("straight over 10.0"), qPrintable(view()->answer()));
    QVERIFY2(view()->detail().contains("Clip gain of the same engine: as drawn"), qPrintable(view()->detail()));
    QVERIFY(view()->plots()->upper()->csv().contains("\"clip gain\""));
    QVERIFY(view()->csv().contains("gain clip gain smoothing"));
  }

  void what_is_no_render_says_so_and_loses_nothing() {
    open_page();
    controller()->add_own("The mix room");
    const auto wrong = save(folder_ / "wrong.wav", Programme(4, 3).render(48000), 48000);
    controller()->bring_in(QString::fromStdString(wrong.string()));
    QVERIFY(read_all());
    QVERIFY2(view()->answer().contains("wrong.wav") && view()->answer().contains("chirps"),
             qPrintable(view()->answer()));
    QCOMPARE(view()->cards()->cards().front()->text_of(1), QString("cannot be read"));
    window_->workspace().model().undo_stack().undo();
    QVERIFY(view()->answer().contains("not been asked"));
  }

  void probes_and_scores_are_written_and_never_over_a_file() {
    open_page();
    controller()->add_own("The mix room");
    const auto probe = folder_ / "gain.wav";
    write_probe_to(probe);
    QVERIFY(std::filesystem::exists(probe));
    QCOMPARE(Clip::open(probe)->format().frames, probe_score("gain", 48000).frames());
    view()->choose(view()->engine()->id, "crossfade");
    std::ofstream(folder_ / "fade-b.wav") << "mine";
    write_probe_to(folder_ / "fade.wav");
    QCOMPARE(std::filesystem::file_size(folder_ / "fade-b.wav"), size_t(4));  // nobody was asked about that one
    QVERIFY(!std::filesystem::exists(folder_ / "fade-a.wav"));
    view()->choose(view()->engine()->id, "gain");
    controller()->write_score(folder_ / "gain.mid");
    controller()->write_score(folder_ / "gain.json");
    controller()->write_score(folder_ / "gain.csv");
    QVERIFY(with_score(probe_score("gain", 48000), json_from_file(folder_ / "gain.json")).gain.events.size() > 5);
    QVERIFY_EXCEPTION_THROWN(controller()->write_score(folder_ / "gain.csv"), OutputRefused);
    QVERIFY(view()->steps().size() > 10);
  }

  void two_clips_are_crossfaded_and_heard() {
    open_page();
    auto* fades = window_->part<CrossfadeView>();
    QTest::keyClick(window_.get(), Qt::Key_F10, Qt::ControlModifier);
    QVERIFY(fades->isVisible());
    QVERIFY(fades->answer().contains("Put two masters"));
    const auto a = save(folder_ / "a.wav", Programme(6, 11).render(48000), 48000),
               b = save(folder_ / "b.wav", Programme(6, 12).render(48000), 48000);
    window_->workspace().add_files({QString::fromStdString(a.string())});
    window_->workspace().master_of_file("b", b);
    QTRY_VERIFY(window_->workspace().bench().masters.size() == 2);
    fades->choose(a, b, {2, 2, 1});
    QTRY_VERIFY2(fades->answer().contains("correlation"), qPrintable(fades->answer()));
    QCOMPARE(fades->table()->shown(), 5);
    fades->table()->choose({0});
    QCOMPARE(fades->chosen()->law, FadeLaw::linear);
    QVERIFY(fades->levels()->csv().contains("straight lines"));
    emit fades->hearing_wanted();
    QTRY_VERIFY(window_->findChild<ListeningBar*>() && window_->player().is_playing());
    window_->show_page("null");
    QTRY_VERIFY(!window_->player().is_playing());
    fades->choose(a, b, {5.9, 2, 1});
    QVERIFY(!fades->study() && fades->levels()->csv().count('\n') == 1);  // nothing of the spot before
    QTRY_VERIFY2(fades->answer().contains("lies outside it"), qPrintable(fades->answer()));
    fades->choose(a, b, {2, 2, 1});
    QTRY_VERIFY(fades->study());
    window_->show_page("crossfade");
    window_->workspace().model().start_anew();
    QTRY_VERIFY(!fades->study() && fades->answer().contains("Put two masters"));
  }

  void responses_are_read_nulled_and_kept() {
    open_page();
    QTest::keyClick(window_.get(), Qt::Key_F11, Qt::ControlModifier);
    auto* page = window_->part<ResponsesView>();
    QVERIFY(page->isVisible() && page->answer().contains("Add some"));
    dsp::Noise chance(4);
    Planar long_one(2, 96000);
    for (int c = 0; c < 2; ++c)
      for (size_t n = 0; n < 96000; ++n)
        long_one.channel(c)[n] = 0.3 * chance.gaussian() * std::pow(10, -3.0 * double(n) / 48000);
    Planar short_one(2, 24000);
    for (int c = 0; c < 2; ++c) std::copy_n(long_one.channel(c).begin(), 24000, short_one.channel(c).begin());
    const auto a = save(folder_ / "long.wav", long_one, 48000), b = save(folder_ / "short.wav", short_one, 48000);
    const auto text = [](const std::filesystem::path& file) { return QString::fromStdString(file.string()); };
    emit page->files_dropped({text(a), text(b), text(a), text(folder_ / "gone.wav")});
    QCOMPARE(page->rows().size(), size_t(3));
    QTRY_VERIFY(!page->is_reading());
    QVERIFY(page->rows()[0].study && std::abs(*page->rows()[0].study->reading.t30_s - 1) < 0.05);
    QVERIFY(page->rows()[2].failure.contains("gone.wav"));
    QVERIFY2(page->answer().contains("rings for 1.0") || page->answer().contains("rings for 99"),
             qPrintable(page->answer()));
    page->table()->choose({0, 1});
    QTRY_VERIFY2(page->answer().contains("Nulled with each other"), qPrintable(page->answer()));
    page->taken_for()->setCurrentIndex(page->taken_for()->findData(44100));
    QVERIFY2(page->detail().contains("shifts by"), qPrintable(page->detail()));
    QVERIFY(page->csv().startsWith("response,rate_hz") && page->csv().count('\n') == 3);
    const auto& in_use = files_in_use();
    QVERIFY(std::find(in_use.begin(), in_use.end(), a) != in_use.end());  // never written over
    page->table()->choose({2});
    emit page->taking_out_wanted();
    QCOMPARE(page->rows().size(), size_t(2));
    auto& model = window_->workspace().model();
    model.undo_stack().undo();
    QCOMPARE(page->rows().size(), size_t(3));
    model.undo_stack().redo();
    QTRY_VERIFY(!window_->workspace().bench().responses.front().fingerprint.empty());
    const auto bench = folder_ / "responses.heathmist";
    model.save(text(bench));
    QCOMPARE(load_bench(bench).responses.size(), size_t(2));
    QTest::qWait(300);
    save(a, scaled(short_one, 0.5), 48000);  // another one in its place
    QTRY_VERIFY_WITH_TIMEOUT(page->rows()[0].study && page->rows()[0].study->reading.length_s < 0.6, 15000);
    model.start_anew();
    QTRY_VERIFY(page->rows().empty());  // another bench has others
  }

  void a_bench_keeps_its_engines() {
    open_page();
    controller()->add_stand_in("rowan", true);
    controller()->add_own("The mix room");
    const auto file = folder_ / "kept.wav";
    write_render(file, 0.02);
    controller()->bring_in(QString::fromStdString(file.string()));
    QVERIFY(read_all());
    const auto engines = window_->workspace().bench().engines;
    const auto bench = folder_ / "engines.heathmist";
    window_->workspace().model().save(QString::fromStdString(bench.string()));
    const Bench loaded = load_bench(bench);
    QCOMPARE(loaded.engines.size(), size_t(2));
    QVERIFY(loaded.engines[0] == engines[0]);
    QCOMPARE(loaded.engines[1].renders.front().render.file, file);
    QCOMPARE(files_of(loaded).size(), size_t(1));  // never written over
    QVERIFY_EXCEPTION_THROWN(
        bench_from_json(
            Json::parse(
                R"({"heathmist_bench": 3, "name": "", "masters": [], "engines": [{"id": "a", "name": "b", "renders": [{"id": "c", "kind": "gain"}]}]})"),
            {}, "x"),
        InputError);
    Bench none = loaded;
    none.engines.clear();
    QCOMPARE(bench_json(none, folder_ / "").at("heathmist_bench").get<int>(),
             2);  // an earlier program can still open it
  }

 private:
  EnginesView* view() { return window_->part<EnginesView>(); }
  EnginesController* controller() { return view()->findChild<EnginesController*>(); }
  void open_page() {
    window_->set_quiet(true);
    QVERIFY(QTest::qWaitForWindowActive(window_.get()));
    QTest::keyClick(window_.get(), Qt::Key_F12, Qt::ControlModifier | Qt::ShiftModifier);
    QVERIFY(view()->isVisible());
  }
  bool read_all() {
    return QTest::qWaitFor([this] { return !view()->readings().is_reading(); }, 60000);
  }
  void write_probe_to(const std::filesystem::path& file) {
    controller()->write_probe({file, true});
    QVERIFY(QTest::qWaitFor([this] { return !controller()->is_writing(); }, 20000));
  }
  static void write_render(const std::filesystem::path& file, double glide_s) {
    save(file, glided_probe(probe_score("gain", 48000), {Glide::straight, glide_s, 0}, ProbeWord::pcm24), 48000,
         WordFormat::pcm24);
  }
};

SHARED_WINDOW_MAIN(TestEnginesPage)
#include "test_engines_page.moc"
