// Blind listening in the real window, by keys alone; and the deck that plays it, sample by sample.
#include <QSignalSpy>
#include <QtTest>
#include <algorithm>
#include <cmath>

#include "app/pages/blind/blind_view.hpp"
#include "core/dsp/noise.hpp"
#include "core/json_place.hpp"
#include "core/measure/meter.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/window.hpp"

using namespace heathmist;
using namespace heathmist::app;
using namespace heathmist::test;

namespace {

/// A device that takes what it is asked to, when it is asked to.
struct HandDevice : OutputDevice {
  bool start(int, RenderCallback callback) override { return render = std::move(callback), works; }
  void stop() override { render = {}; }
  std::string name() const override { return "hand"; }
  bool is_simulated() const override { return true; }
  int device_rate_hz() const override { return 48000; }
  std::vector<double> take(size_t frames) {
    std::vector<double> out(2 * frames, 0);
    for (size_t at = 0; at < frames; at += 256)
      if (render) render(std::span(out).subspan(2 * at, 2 * std::min<size_t>(256, frames - at)));
    return out;
  }
  RenderCallback render;
  bool works = true;
};

/// Sounds of one length: a sine each, alike but for its phase.
std::shared_ptr<const Stimuli> sines(size_t count, double seconds = 1) {
  auto s = std::make_shared<Stimuli>();
  s->rate_hz = 48000;
  for (size_t k = 0; k < count; ++k) {
    Planar sound(2, int64_t(seconds * 48000));
    for (int c = 0; c < 2; ++c)
      for (int64_t n = 0; n < sound.frames(); ++n)
        sound.channel(c)[size_t(n)] =
            0.2 * std::sin(2 * std::numbers::pi * (500.0 * double(n) / 48000 + 0.13 * double(k)));
    s->sound.push_back(std::move(sound));
    s->lufs.push_back(-17), s->gain_db.push_back(0);
  }
  return s;
}

struct HandDeck {
  HandDevice* device = nullptr;
  Deck deck{[this] {
    auto own = std::make_unique<HandDevice>();
    device = own.get();
    return own;
  }};
};

/// `number`: another order for each.
BlindTest a_test(BlindMethod method, size_t stimuli, int number) {
  std::vector<BlindStimulus> heard;
  for (size_t n = 0; n < stimuli; ++n) heard.push_back({"sound " + std::to_string(n), n ? "t" : ""});
  const QString chance = QString("%1%2").arg(number + 1, 16, 16, QChar('0')).arg(number, 32, 16, QChar('0'));
  return begin_blind_test({method, int(stimuli), 8}, heard, chance.toStdString());
}

}  // namespace

class TestBlindPage : public WindowTest {
  Q_OBJECT

 private slots:
  void initTestCase() {
    prepare_window(folder_);
    const Planar sound = programme("dense", 48000, 8, 3);
    save(folder_ / "mill-race.wav", sound, 48000);
    for (const auto& [name, level, seed] : {std::tuple{"hiss.wav", 0.004, 5}, {"more-hiss.wav", 0.02, 6}}) {
      Planar hiss = sound;
      dsp::Noise chance(static_cast<uint64_t>(seed));
      for (int c = 0; c < 2; ++c)
        for (double& v : hiss.channel(c)) v += level * chance.gaussian();
      save(folder_ / name, hiss, 48000);
    }
    save(folder_ / "same.wav", sound, 48000);
  }

  void every_sound_is_switched_to_alike() {
    HandDeck hand;
    const auto sounds = sines(4);
    hand.deck.load(sounds);
    hand.deck.play();
    hand.device->take(4800);
    std::vector<size_t> latencies;
    int64_t at = 4800;
    for (const int to : {1, 3, 2, 0, 2, 1, 3, 0}) {
      hand.deck.choose(to);
      const auto out = hand.device->take(2400);
      const auto own = sounds->sound[size_t(to)].channel(0);
      size_t arrived = 2400;
      const auto there = [&](size_t n) { return std::abs(out[2 * n] - own[size_t((at + int64_t(n)) % 48000)]) < 1e-9; };
      while (arrived > 0 && there(arrived - 1)) --arrived;
      latencies.push_back(arrived);
      double jump =
          0;  // no sample is further from the one before than a sine's steepest place and the crossfade make it
      for (size_t n = 1; n < 2400; ++n) jump = std::max(jump, std::abs(out[2 * n] - out[2 * n - 2]));
      QVERIFY2(jump < 0.2 * 2 * std::numbers::pi * 500 / 48000 + 0.4 / 480, qPrintable(QString::number(jump)));
      at += 2400;
    }
    for (const size_t l : latencies) QVERIFY2(l == latencies.front(), qPrintable(QString::number(l)));
    QVERIFY(latencies.front() <= size_t(Deck::switch_s * 48000) + 1);
    for (size_t k = 0; k < 4; ++k) QVERIFY(std::abs(*hand.deck.sent_lufs(k) + 17) < 1e-9);
  }

  void a_round_ends_and_begins_without_a_click() {
    HandDeck hand;
    hand.deck.load(sines(2, 0.6));
    hand.deck.play();
    const auto out = hand.device->take(3 * 28800);
    double jump = 0;
    for (size_t n = 1; n < out.size() / 2; ++n) jump = std::max(jump, std::abs(out[2 * n] - out[2 * n - 2]));
    QVERIFY2(jump < 0.016, qPrintable(QString::number(jump)));
    QVERIFY(std::abs(hand.deck.place_s()) < 1e-9);
    hand.deck.choose(99);  // there is none: the last one is heard
    hand.device->take(1000);
    hand.deck.pause();
    QVERIFY(!hand.deck.is_playing());
  }

  void a_device_that_drops_out_is_noticed() {
    HandDeck hand;
    hand.deck.load(sines(2));
    QSignalSpy dropped(&hand.deck, &Deck::dropped_out);
    hand.deck.play();
    hand.device->take(512);
    QVERIFY(dropped.wait(4000));
    QVERIFY(!hand.deck.is_playing());
    hand.device->works = false;
    hand.deck.play();
    QCOMPARE(dropped.size(), 2);
  }

  /// Two rounds that differ in all that is hidden look the same to the last pixel.
  void nothing_on_screen_tells_which_is_which() {
    for (const BlindMethod method :
         {BlindMethod::abx, BlindMethod::triple, BlindMethod::multi, BlindMethod::preference}) {
      const size_t stimuli = method == BlindMethod::multi ? 4 : 2;
      BlindRun run;
      run.resize(1000, 640);
      std::vector<QImage> first;
      std::set<std::vector<int>> orders;
      for (int n = 0; n < 8; ++n) {
        const BlindTest test = a_test(method, stimuli, n);
        const Round round = next_round(test);
        auto hidden = round.buttons;
        hidden.push_back(round.truth);
        orders.insert(hidden);
        run.ask(test, round);
        QCoreApplication::sendPostedEvents(nullptr, QEvent::DeferredDelete);
        for (size_t b = 0; b < round.buttons.size(); ++b) {
          run.buttons()[b]->click();
          const QImage now = run.grab().toImage();
          if (n == 0)
            first.push_back(now);
          else
            QVERIFY2(now == first[b], name_of(method));
        }
        for (const auto* child : run.findChildren<QWidget*>())
          for (const QString& text : {child->toolTip(), child->accessibleName(), child->objectName()})
            QVERIFY2(!text.contains("sound"), qPrintable(text));
      }
      QVERIFY2(orders.size() > 1, name_of(method));
    }
  }

  void an_abx_is_gone_through_by_keys_alone() {
    bring_in({"hiss.wav"});
    window_->activateWindow();
    QVERIFY(QTest::qWaitForWindowActive(window_.get()));
    QTest::keyClick(window_.get(), Qt::Key_F9, Qt::ControlModifier);
    QTRY_VERIFY(view()->isVisible());
    QVERIFY(!window_->findChild<Ledger*>()->isVisible());
    QVERIFY2(view()->setup()->chances().contains("12 of 16"), qPrintable(view()->setup()->chances()));
    QSignalSpy rested(view(), &BlindView::rested);
    for (int n = 0; n < 12 && !begin_button()->hasFocus(); ++n)
      QTest::keyClick(QApplication::focusWidget(), Qt::Key_Tab);
    QVERIFY(begin_button()->hasFocus());
    QTest::keyClick(QApplication::focusWidget(), Qt::Key_Return);
    QVERIFY(rested.wait(60000));
    QVERIFY2(view()->is_running(), qPrintable(note()));
    QVERIFY(view()->run()->hasFocus() && view()->deck().is_playing());
    QVERIFY(view()->run()->note().contains(QString::fromStdString(test().key.hash).left(16)));
    int wrong = 3;
    while (view()->is_running()) {
      const Round round = next_round(test());
      QTest::keyClick(view()->run(), Qt::Key_3);
      QCOMPARE(view()->run()->heard(), 2);
      QCOMPARE(view()->deck().chosen(), round.buttons[2]);
      const bool slip = wrong > 0 && counted(test()) % 2 == 1;
      wrong -= slip;
      QTest::keyClick(view()->run(), (round.truth == 0) != slip ? Qt::Key_Left : Qt::Key_Right);
    }
    QCOMPARE(view()->result()->answer(), QString("13 of 16: by guessing 1 time in 94."));
    QVERIFY(!view()->deck().is_playing());
    QCOMPARE(view()->result()->table()->shown(), 16);
    for (int n = 0; n < 16; ++n) QVERIFY(QStringList({"A", "B"}).contains(view()->result()->table()->text_at(n, 4)));
    QVERIFY(view()->csv().startsWith("round,"));
    QCOMPARE(view()->csv().count('\n'), 17);
    window_->workspace().model().undo_stack().undo();  // the whole of it
    QVERIFY(window_->workspace().bench().blind.empty());
    window_->workspace().model().undo_stack().redo();
    QCOMPARE(counted(test()), 16);
  }

  void a_slip_is_taken_back_and_a_rest_is_gone_on_from() {
    bring_in({"hiss.wav"});
    begin(BlindMethod::abx);
    const Round first = next_round(test());
    QTest::keyClick(view()->run(), Qt::Key_Left);
    QCOMPARE(counted(test()), 1);
    QTest::keyClick(view()->run(), Qt::Key_Z, Qt::ControlModifier);  // the slip, not the test
    QCOMPARE(counted(test()), 0);
    QCOMPARE(next_round(test()).buttons, first.buttons);
    QTest::keyClick(view()->run(), Qt::Key_Backspace);
    QVERIFY(view()->run()->note().contains("two seconds"));
    QTest::keyClick(view()->run(), Qt::Key_Right);
    QTest::keyClick(view()->run(), Qt::Key_R);  // keys of the window do nothing here
    QTest::keyClick(view()->run(), Qt::Key_Escape);
    QVERIFY(!view()->is_running() && !view()->deck().is_playing());
    QVERIFY2(view()->setup()->table()->text_at(0, 3).contains("1 of 16"),
             qPrintable(view()->setup()->table()->text_at(0, 3)));
    QSignalSpy rested(view(), &BlindView::rested);
    view()->go_on(test().id);
    QVERIFY(rested.wait(60000));
    QVERIFY(view()->is_running());
    QVERIFY(view()->run()->question().startsWith("Round 2 of 16"));
    window_->show_page("null");  // left in the middle: it is quiet, and kept
    QVERIFY(!view()->deck().is_playing());
    QCOMPARE(counted(test()), 1);
  }

  void what_is_the_same_is_refused_but_for_a_catch_test() {
    bring_in({"same.wav"});
    begin(BlindMethod::abx);
    QVERIFY(!view()->is_running());
    QVERIFY2(note().contains("bit-identical"), qPrintable(note()));
    QVERIFY(window_->workspace().bench().blind.empty());
    view()->findChild<QCheckBox*>()->setChecked(true);
    begin(BlindMethod::preference);
    QVERIFY2(view()->is_running(), qPrintable(note()));
    for (int n = 0; n < 16; ++n) QTest::keyClick(view()->run(), n % 4 ? Qt::Key_Left : Qt::Key_Down);
    QVERIFY2(view()->result()->answer().contains("one was preferred in 12 of 16"),
             qPrintable(view()->result()->answer()));
  }

  void grades_are_given_by_keys() {
    bring_in({"hiss.wav", "more-hiss.wav"});
    begin(BlindMethod::triple);
    while (view()->is_running()) {
      const Round round = next_round(test());
      QTest::keyClick(view()->run(), round.buttons[1] == 1 ? Qt::Key_2 : Qt::Key_3);
      for (int n = 0; n < 10; ++n) QTest::keyClick(view()->run(), Qt::Key_Down);
      QTest::keyClick(view()->run(), Qt::Key_Return);
    }
    QVERIFY2(view()->result()->answer().startsWith("Graded -1.00"), qPrintable(view()->result()->answer()));
    begin(BlindMethod::multi);
    QVERIFY2(view()->is_running(), qPrintable(note()));
    QCOMPARE(test().stimuli.size(), size_t(5));  // master, two trials, two anchors
    QCOMPARE(view()->run()->sliders().size(), size_t(5));
    while (view()->is_running()) {
      const Round round = next_round(test());
      for (size_t b = 1; b < round.buttons.size(); ++b) {
        QTest::keyClick(view()->run(), Qt::Key(Qt::Key_1 + int(b)));
        for (int n = 0; n < 5 * round.buttons[b]; ++n) QTest::keyClick(view()->run(), Qt::Key_Down);
      }
      QTest::keyClick(view()->run(), Qt::Key_Return);
    }
    QVERIFY2(view()->result()->detail().contains("anchor of 7 kHz: 80"), qPrintable(view()->result()->detail()));
  }

  void training_shows_names_and_keeps_nothing() {
    bring_in({"hiss.wav"});
    open_page();
    QSignalSpy rested(view(), &BlindView::rested);
    view()->train();
    QVERIFY(rested.wait(60000));
    QVERIFY(view()->is_running());
    QStringList words;
    for (const auto* label : view()->run()->findChildren<QLabel*>()) words << label->text();
    QVERIFY(words.contains("the master") && words.contains("hiss"));
    for (int n = 0; n < 20; ++n) QTest::keyClick(view()->run(), Qt::Key_Return);
    QVERIFY(view()->is_running());
    QTest::keyClick(view()->run(), Qt::Key_Escape);
    QVERIFY(window_->workspace().bench().blind.empty());
  }

  void a_changed_trial_and_a_tampered_key_are_told() {
    save(folder_ / "bounce.wav", programme("piano", 48000, 8, 4), 48000);
    Planar other = programme("piano", 48000, 8, 4);
    for (double& v : other.channel(0)) v *= 0.5;
    save(folder_ / "back.wav", other, 48000);
    bring_in({"back.wav"}, "bounce.wav");
    begin(BlindMethod::abx);
    QTest::keyClick(view()->run(), Qt::Key_Left);
    const std::string id = test().id;
    for (double& v : other.channel(0)) v *= 0.5;
    save(folder_ / "back.wav", other, 48000);
    view()->forget(folder_ / "back.wav");  // as the watch tells it
    QVERIFY(!view()->is_running());
    QVERIFY2(note().contains("back.wav changed"), qPrintable(note()));
    QTRY_VERIFY_WITH_TIMEOUT(!window_->workspace().results().is_busy() && window_->workspace().current_result(), 60000);
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().results().result(trial_id())->ret_print != test().stimuli[1].content,
                             60000);
    QSignalSpy rested(view(), &BlindView::rested);
    view()->go_on(id);
    QVERIFY(rested.wait(60000));
    QVERIFY2(!view()->is_running() && note().contains("has changed since"), qPrintable(note()));
    window_->workspace().model().edit("tamper", [](Bench& bench) { bench.blind[0].key.hash[0] ^= 1; });
    view()->show_bench();
    view()->go_on(id);
    QVERIFY2(note().contains("can't be trusted"), qPrintable(note()));
    QVERIFY(view()->setup()->table()->text_at(0, 3).contains("can't be trusted"));
  }

 private:
  BlindView* view() { return window_->part<BlindView>(); }
  QString note() {
    QStringList words;
    for (const auto* label : view()->setup()->findChildren<QLabel*>()) words << label->text();
    return words.join(" | ");
  }
  QPushButton* begin_button() {
    for (auto* button : view()->setup()->findChildren<QPushButton*>())
      if (button->property("main").toBool()) return button;
    return nullptr;
  }
  const BlindTest& test() { return window_->workspace().bench().blind.back(); }
  std::string trial_id() { return window_->workspace().bench().masters[0].trials[0].id; }
  void open_page() {
    window_->show_page("blind");
    QVERIFY(view()->isVisible());
  }
  /// A master and its returns, measured.
  void bring_in(const QStringList& returns, const QString& master = "mill-race.wav") {
    QStringList files{QString::fromStdString((folder_ / master.toStdString()).string())};
    for (const QString& r : returns) files << QString::fromStdString((folder_ / r.toStdString()).string());
    window_->workspace().add_files(files);
    const auto all_there = [&] {
      for (const Trial& t : window_->workspace().bench().masters[0].trials)
        if (!window_->workspace().results().result(t.id)) return false;
      return !window_->workspace().results().is_busy();
    };
    QTRY_VERIFY_WITH_TIMEOUT(all_there(), 120000);
  }
  void begin(BlindMethod method) {
    open_page();
    view()->setCurrentWidget(view()->setup());
    view()->setup()->choose(method);
    QSignalSpy rested(view(), &BlindView::rested);
    view()->begin();
    QVERIFY(rested.wait(60000));
  }
};

QTEST_MAIN(TestBlindPage)
#include "test_blind_page.moc"
