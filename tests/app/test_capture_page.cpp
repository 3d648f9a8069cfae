// Capture and Monitor in the real window, on the stand-in: a recording is a trial with its null, silence is the floor,
// a loop is judged, what was cut off is offered, an input is watched and kept.
#include "app/pages/capture/capture_view.hpp"
#include "app/pages/device_form.hpp"
#include "app/pages/monitor/monitor_view.hpp"
#include "core/audio/folders.hpp"
#include "core/devices/unfinished.hpp"
#include "tests/support/signals.hpp"
#include "tests/support/window.hpp"

using namespace heathmist;
using namespace heathmist::app;
using namespace heathmist::test;

namespace {

/// An output that only remembers.
struct HandDevice : OutputDevice {
  explicit HandDevice(std::string called, std::optional<int> own = {}) : called_(std::move(called)), own_(own) {}
  bool start(int rate, RenderCallback) override { return rate_ = at_own_ && own_ ? *own_ : rate, true; }
  void stop() override {}
  std::string name() const override { return called_; }
  bool is_simulated() const override { return false; }
  int device_rate_hz() const override { return rate_; }
  Conversion conversion() const override {
    return !own_ ? Conversion::none : at_own_ ? Conversion::here : Conversion::server;
  }
  std::optional<int> own_rate_hz() const override { return own_; }
  void set_at_own_rate(bool on) override { at_own_ = on; }
  std::string lost() const override { return lost_; }
  std::string lost_;
  std::string called_;
  std::optional<int> own_;
  int rate_ = 0;
  bool at_own_ = false;
};

}  // namespace

class TestCapturePage : public WindowTest {
  Q_OBJECT

 private slots:
  void init() {
    WindowTest::init();
    std::filesystem::remove_all(folder_ / "takes");
    sound_ = requantised(Programme(2, 31).render(48000), 24, false);
    master_ = QString::fromStdString(save(folder_ / "mill-race.wav", sound_, 48000, WordFormat::pcm24).string());
    window_->workspace().add_files({master_});
    window_->show_page("capture");
    view_ = window_->part<CaptureView>();
    view_->form()->set_clock(0);
    QTRY_VERIFY(view_->form()->order());
  }
  void cleanup() { WindowTest::cleanup(); }

  void what_comes_back_is_a_trial_with_its_null() {
    QVERIFY(view_->answer().contains("mill-race"));
    QCOMPARE(view_->form()->rate()->currentData().toInt(), 48000);
    record_into("take.wav");
    QCOMPARE(bench().masters.size(), size_t(1));
    QCOMPARE(bench().masters[0].trials.size(), size_t(1));
    QCOMPARE(bench().masters[0].trials[0].ret.file, folder_ / "takes" / "take.wav");
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result(), 20000);
    const auto& report = *window_->workspace().current_result()->report;
    QCOMPARE(report.fit.delay_samples, 1024.0);
    QVERIFY(!report.residual_relative_db());
    QTRY_COMPARE(view_->answer(), QString::fromStdString(report.findings.front().text));
    view_->choose(CaptureView::What::floor);  // another question: nothing of the last one is told any more
    QVERIFY2(view_->answer().contains("silence"), qPrintable(view_->answer()));
    QVERIFY(QFileInfo(view_->file()->text()).fileName().startsWith("floor recorded"));
    window_->workspace().model().undo_stack().undo();  // the trial goes, the file stays
    QVERIFY(view_->answer().contains("silence"));
    QVERIFY(bench().masters[0].trials.empty());
    QVERIFY(std::filesystem::exists(folder_ / "takes" / "take.wav"));
  }
  void a_poor_line_is_told() {
    view_->form()->choose_stand_in(2);
    record_into("poor.wav");
    QTRY_VERIFY_WITH_TIMEOUT(view_->answer().contains("hum") || view_->answer().contains("noise"), 60000);
  }
  /// Masters of any rate: the device is to run at it, and where it cannot that is said and nothing begins.
  void a_master_is_played_at_its_own_rate() {
    const auto slow = save(folder_ / "slow.wav", Programme(1, 3).render(44100), 44100),
               odd = save(folder_ / "odd.wav", Programme(1, 4).render(50000), 50000);
    DeviceForm form(window_->workspace().queue(), true);
    form.show_devices(devices());
    form.set_played(slow);
    QTRY_VERIFY(form.order());
    QCOMPARE(form.order()->sample_rate_hz, 44100);
    form.set_played(odd);
    QTRY_VERIFY2(form.note().contains("50 kHz"), qPrintable(form.note()));
    QVERIFY(!form.order());
    form.set_played(folder_ / "gone.wav");
    QTRY_VERIFY2(form.note().contains("gone.wav"), qPrintable(form.note()));
    QVERIFY(!form.order());
    form.set_played({});
    QVERIFY(form.order() && form.note().isEmpty());
  }
  /// Everything a loop can do can be written; what is wrong is said, and nothing begins.
  void the_stand_in_is_what_is_written() {
    auto* form = view_->form();
    form->set_by_hand();
    form->by_hand()->setText("delay_samples=900, gain_db=-2, inverted=1, bits=16");
    QVERIFY(form->order() && form->order()->loop.delay_samples == 900 && form->order()->loop.inverted);
    form->by_hand()->setText("delay_samples=900, gain=-2");
    QVERIFY2(form->note().contains("gain"), qPrintable(form->note()));
    QVERIFY(!form->order() && !view_->record_button()->isEnabled());
    form->by_hand()->setText("gain_db=-2");
    QVERIFY(form->order() && form->note().isEmpty() && view_->record_button()->isEnabled());
    form->choose_stand_in(0);
    QCOMPARE(form->order()->loop.gain_db, 0.0);
  }
  void no_file_is_recorded_over() {
    view_->file()->setText(master_);
    view_->start();
    QTRY_VERIFY(!view_->is_running());
    QTRY_VERIFY2(view_->note().contains("mill-race.wav"), qPrintable(view_->note()));
    QCOMPARE(Clip::open(master_.toStdString())->format().frames, sound_.frames());
    QVERIFY(bench().masters[0].trials.empty());
  }
  void silence_is_the_floor_of_the_route() {
    view_->choose(CaptureView::What::floor);
    view_->form()->choose_stand_in(1);
    view_->seconds()->setValue(1.5);
    record_into("floor.wav");
    QVERIFY(bench().floor);
    QCOMPARE(bench().floor->recording.file, folder_ / "takes" / "floor.wav");
    QVERIFY(Clip::open(folder_ / "takes" / "floor.wav")->format().duration_s() >= 1.5);
    window_->workspace().model().undo_stack().undo();
    QVERIFY(!bench().floor);
  }
  void a_loop_is_judged() {
    view_->choose(CaptureView::What::loop_check);
    run();
    QVERIFY2(view_->answer().contains("transparent"), qPrintable(view_->answer()));
    view_->form()->choose_stand_in(2);
    run();
    QVERIFY2(!view_->answer().contains("transparent"), qPrintable(view_->answer()));
    QVERIFY(bench().masters[0].trials.empty());
  }
  void it_is_stopped_and_kept() {
    view_->choose(CaptureView::What::played_elsewhere);
    view_->form()->set_clock(1);
    view_->file()->setText(QString::fromStdString((folder_ / "takes" / "long.wav").string()));
    view_->start();
    QTRY_VERIFY_WITH_TIMEOUT(view_->answer().contains("Recording: 0:00"), 10000);
    QVERIFY(view_->is_running() && !view_->record_button()->isVisible());
    QTest::qWait(300);
    view_->stop();
    QTRY_VERIFY(!view_->is_running());
    QTRY_COMPARE(bench().masters[0].trials.size(), size_t(1));
    const double seconds = Clip::open(folder_ / "takes" / "long.wav")->format().duration_s();
    QVERIFY2(seconds > 0.2 && seconds < 10, qPrintable(QString::number(seconds)));
  }
  /// The window is closed in the middle: the file is whole, and the next window offers it.
  void a_window_that_is_closed_leaves_its_recording_to_the_next() {
    view_->choose(CaptureView::What::played_elsewhere);
    view_->form()->set_clock(1);
    const auto file = folder_ / "takes" / "closed.wav";
    view_->file()->setText(QString::fromStdString(file.string()));
    view_->start();
    QTRY_VERIFY_WITH_TIMEOUT(view_->answer().contains("Recording: 0:00"), 10000);
    QTest::qWait(300);
    WindowTest::cleanup();
    QVERIFY(Clip::open(file)->format().duration_s() > 0.1);
    const auto offered = unfinished_recordings(config_folder() / "recordings");
    QCOMPARE(offered.size(), size_t(1));
    QCOMPARE(offered[0].file, file);
    forget_recording(config_folder() / "recordings", file);
    WindowTest::init();
  }
  void the_level_is_watched_without_recording() {
    view_->form()->choose_stand_in(2);  // its noise
    view_->check_level();
    QVERIFY(view_->is_checking());
    QTRY_VERIFY_WITH_TIMEOUT(view_->bars()->accessibleDescription().contains("dBFS"), 10000);
    window_->show_page("null");
    QVERIFY(!view_->is_checking());  // the device is let go
  }
  void what_was_cut_off_is_offered() {
    const auto notes = config_folder() / "recordings";
    const auto cut = save(folder_ / "cut.wav", sound_, 48000, WordFormat::pcm24);
    {
      RecordingNote held(notes, {cut, "Mill Race", master_.toStdString()});
      QVERIFY(unfinished_recordings(notes).empty());  // that run lives
      held.done();
    }
    QVERIFY(unfinished_recordings(notes).empty());  // and has ended
    { const RecordingNote left(notes, {cut, "Mill Race", master_.toStdString()}); }
    QCOMPARE(unfinished_recordings(notes).size(), size_t(1));
    forget_recording(notes, cut);
    QVERIFY(unfinished_recordings(notes).empty() && std::filesystem::exists(cut));
    const auto note = notes / "recording-left.recording";
    write_whole(Destination(note, true),
                text_of(Json{{"file", cut.string()}, {"master_name", "Mill Race"}, {"master", master_.toStdString()}}));
    write_whole(Destination(notes / "recording-bad.recording", true), "{\"file\":");
    QCOMPARE(unfinished_recordings(notes).size(), size_t(1));
    CaptureView fresh(window_->workspace().queue());
    fresh.show_bench(bench(), {});
    QSignalSpy recorded(&fresh, &CaptureView::recorded);
    QPushButton* take = nullptr;
    for (auto* button : fresh.findChildren<QPushButton*>())
      if (button->text() == "Add as a trial") take = button;
    QVERIFY(take);
    take->click();
    QCOMPARE(recorded.size(), 1);
    QCOMPARE(recorded[0][1].toString().toStdString(), cut.string());
    QVERIFY(unfinished_recordings(notes).empty());
    QVERIFY(std::filesystem::exists(cut));
  }

  // ---- monitor ------------------------------------------------------------------------------------------------------
  void an_input_is_watched_and_its_last_minutes_are_kept() {
    window_->show_page("monitor");
    auto* view = window_->part<MonitorView>();
    view->form()->set_clock(0);
    QTRY_VERIFY(view->form()->order());
    view->sent()->setCurrentIndex(1);  // the master goes round
    view->outlets()->setCurrentIndex(1);
    QTRY_VERIFY(view->form()->order());
    view->start();
    QVERIFY2(view->is_running(), qPrintable(view->note()));
    QTRY_VERIFY_WITH_TIMEOUT(view->monitor()->reading().seconds > 70, 60000);
    QTRY_VERIFY2(view->answer().contains("the target"), qPrintable(view->answer()));
    for (int n = 0; n < 6; ++n) QTRY_VERIFY(view->value(n) != QString(QChar(0x2013)));
    QTRY_VERIFY(view->spectrum()->csv().count('\n') > 200);  // drawn when the next of its blocks is there
    QTRY_VERIFY(view->course()->csv().count('\n') > 20);
    const auto kept = folder_ / "takes" / "kept.wav";
    view->keep_last(1, Destination(kept));
    QTRY_VERIFY_WITH_TIMEOUT(!view->is_writing() && std::filesystem::exists(kept), 20000);
    const auto clip = Clip::open(kept);
    QCOMPARE(clip->format().frames, 60 * 48000);
    QVERIFY(std::abs(*measure_loudness(*clip).integrated_lufs - integrated_lufs(sound_, 48000)) < 1.5);
    view->reset();
    view->stop();
    QVERIFY(!view->is_running());
    QVERIFY(view->main_button()->isEnabled());
  }

  /// A master beside its live return: chosen where it always is, in the bar and by its keys.
  void a_process_is_heard_beside_its_master() {
    auto* view = watch_live(2);  // -1.5 dB, inverted, hum
    QTRY_VERIFY_WITH_TIMEOUT(view->monitor()->reading().seconds > 6, 30000);
    QVERIFY2(view->live_words().contains("You hear the master"), qPrintable(view->live_words()));
    keys(Qt::Key_2);
    QTRY_VERIFY2(view->live_words().contains("You hear the return"), qPrintable(view->live_words()));
    QVERIFY2(view->live_words().contains("raised 1.5 dB to the master"), qPrintable(view->live_words()));
    QVERIFY2(view->live_words().contains("1713.4"), qPrintable(view->live_words()));
    auto* bar = window_->part<ListeningBar>();
    QVERIFY2(bar->note().contains("live +1.5 dB"), qPrintable(bar->note()));
    keys(Qt::Key_M);
    QTRY_VERIFY2(view->live_words().contains("as it comes back, 1.5 dB softer"), qPrintable(view->live_words()));
    QVERIFY(!view->monitor()->reading().live->matched);
    keys(Qt::Key_3);  // of a live return there is no residual: what was heard stays
    QVERIFY(view->monitor()->reading().live->hears_return);
    keys(Qt::Key_1);
    QTRY_VERIFY(!view->monitor()->reading().live->hears_return);
    QVERIFY(view->spectrum()->csv().startsWith("hz,average_db,held_db,momentary_db,master_average_db"));
    view->stop();
    QVERIFY(!view->is_heard() && !bar->note().contains("live"));
  }
  /// Only one thing is heard at a time.
  void playing_a_trial_ends_it() {
    window_->workspace().look_at_pair(bench().masters[0].id, "same", master_.toStdString());
    auto& player = *window_->part<ListeningBar>()->player();
    QTRY_VERIFY_WITH_TIMEOUT(player.has_source(), 20000);
    auto* view = watch_live(0);
    player.play();
    QVERIFY(!view->is_running());
    player.pause();
  }
  // ---- what is heard, and through what ------------------------------------------------------------------------------
  void the_bar_says_what_is_converted_on_the_way() {
    window_->workspace().look_at_pair(bench().masters[0].id, "same", master_.toStdString());
    auto& player = *window_->part<ListeningBar>()->player();
    QTRY_VERIFY_WITH_TIMEOUT(player.has_source(), 20000);
    auto* device = new HandDevice("Mill desk", 44100);
    player.set_device(std::unique_ptr<OutputDevice>(device));
    player.play();
    auto* bar = window_->part<ListeningBar>();
    QCOMPARE(bar->rate_words(), QString::fromUtf8("48 → 44.1 kHz"));
    QVERIFY(bar->rate_hint().contains("server"));
    player.set_at_own_rate(true);
    QCOMPARE(device->rate_, 44100);
    QVERIFY(bar->rate_hint().contains("here"));
    const double place = player.place_s();
    player.set_device(std::make_unique<HandDevice>("Other desk"));
    QVERIFY(player.is_playing() && std::abs(player.place_s() - place) < 0.5);
    QCOMPARE(bar->rate_words(), QString("48 kHz"));
    QCOMPARE(player.device().name(), std::string("Other desk"));
  }
  void what_is_heard_stops_where_something_is_recorded() {
    window_->workspace().look_at_pair(bench().masters[0].id, "same", master_.toStdString());
    auto& player = *window_->part<ListeningBar>()->player();
    QTRY_VERIFY_WITH_TIMEOUT(player.has_source(), 20000);
    player.play();
    record_into("quiet.wav");
    QVERIFY(!player.is_playing());
  }
  void a_device_that_goes_away_while_it_is_heard_is_told() {
    window_->workspace().look_at_pair(bench().masters[0].id, "same", master_.toStdString());
    auto& player = *window_->part<ListeningBar>()->player();
    QTRY_VERIFY_WITH_TIMEOUT(player.has_source(), 20000);
    auto* device = new HandDevice("Mill desk");
    player.set_device(std::unique_ptr<OutputDevice>(device));
    player.play();
    QSignalSpy failed(&player, &Player::failed);
    device->lost_ = "Mill desk: it is gone";
    QTRY_COMPARE(failed.size(), 1);
    QVERIFY(failed[0][0].toString().startsWith("Mill desk: it is gone; choose"));
    QVERIFY(!player.is_playing() && player.has_source());  // the place and what is heard stay
  }

 private:
  /// The master goes round the stand-in, and is heard at its other outputs.
  MonitorView* watch_live(int preset) {
    window_->show_page("monitor");
    auto* view = window_->part<MonitorView>();
    view->form()->set_clock(0);
    view->form()->choose_stand_in(preset);
    QTest::qWait(20);
    view->sent()->setCurrentIndex(1);
    waited_ = QTest::qWaitFor([&] { return view->form()->order() && view->listened()->count() > 1; }, 10000);
    view->listened()->setCurrentIndex(1);
    view->start();
    return view;
  }
  void keys(Qt::Key key) { QTest::keyClick(window_.get(), key); }
  bool waited_ = false;
  const Bench& bench() { return window_->workspace().bench(); }
  void run() {
    QSignalSpy rested(view_, &CaptureView::rested);
    view_->start();
    QVERIFY(rested.wait(60000));
  }
  void record_into(const std::string& name) {
    view_->file()->setText(QString::fromStdString((folder_ / "takes" / name).string()));
    run();
    QVERIFY2(std::filesystem::exists(folder_ / "takes" / name), qPrintable(view_->note()));
  }
  CaptureView* view_ = nullptr;
  Planar sound_;
  QString master_;
};

QTEST_MAIN(TestCapturePage)
#include "test_capture_page.moc"
