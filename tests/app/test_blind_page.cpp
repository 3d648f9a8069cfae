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
#include "tests/support/share.hpp"
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
  BlindDesign design{method, int(stimuli), 8};
  design.rule.rungs = stimuli - 1;
  return begin_blind_test(design, heard, chance.toStdString());
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
    QVERIFY(latencies.front() <= size_t(Deck::crossfade_s * 48000) + 1);
    hand.deck.set_crossfade(false);
    hand.deck.choose(2);
    const auto cut = hand.device->take(2400);
    for (size_t n = size_t(Deck::cut_s * 48000) + 1; n < 2400; ++n)
      QVERIFY(std::abs(cut[2 * n] - sounds->sound[2].channel(0)[size_t((at + int64_t(n)) % 48000)]) < 1e-9);
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

  /// The sound of the next round takes the place of the last one's while the music runs.
  void a_sound_is_put_in_anothers_place_without_a_click() {
    HandDeck hand;
    const auto sounds = sines(2);
    const auto third = std::make_shared<const Planar>(sines(4)->sound[3]);
    std::weak_ptr<const Planar> first_put;
    hand.deck.load(sounds);
    hand.deck.play();
    hand.deck.choose(1);
    std::vector<double> all = hand.device->take(4800);
    const auto go_on = [&](size_t frames) {
      const auto more = hand.device->take(frames);
      all.insert(all.end(), more.begin(), more.end());
    };
    const auto heard_is = [&](const Planar& own) {
      return std::abs(all[all.size() - 2] - own.channel(0)[(all.size() / 2 - 1) % 48000]) < 1e-9;
    };
    QVERIFY(heard_is(sounds->sound[1]));
    {
      const auto copy = std::make_shared<const Planar>(sounds->sound[0]);
      first_put = copy;
      hand.deck.put(1, copy);
    }
    hand.deck.put(1, third);  // before the first was taken
    QVERIFY(first_put.expired());
    go_on(128);  // it is still heard: the first sound takes over until it is not
    go_on(2400);
    QVERIFY(heard_is(*third));
    hand.deck.choose(0);
    hand.deck.put(1, std::make_shared<const Planar>(sounds->sound[1]));
    go_on(2400);
    QVERIFY(heard_is(sounds->sound[0]));
    hand.deck.choose(1);
    go_on(2400);
    QVERIFY(heard_is(sounds->sound[1]));
    double jump = 0;
    for (size_t n = 1; n < all.size() / 2; ++n) jump = std::max(jump, std::abs(all[2 * n] - all[2 * n - 2]));
    QVERIFY2(jump < 0.2 * 2 * std::numbers::pi * 500 / 48000 + 0.4 / 480, qPrintable(QString::number(jump)));
    hand.deck.put(1, std::make_shared<const Planar>(2, 100));  // of another length: it is not taken
    go_on(2400);
    QVERIFY(heard_is(sounds->sound[1]));
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
         {BlindMethod::abx, BlindMethod::triple, BlindMethod::multi, BlindMethod::preference, BlindMethod::threshold}) {
      const size_t stimuli = method == BlindMethod::multi ? 4 : method == BlindMethod::threshold ? 21 : 2;
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
    const auto around = [this] {
      return std::array<bool, 3>{window_->listening()->isVisible(), window_->menuBar()->isVisible(),
                                 window_->part<TopRow>()->isVisible()};
    };
    QCOMPARE(around(), (std::array<bool, 3>{}));  // nothing that could tell
    for (const auto& [key, modifiers] :
         {std::pair{Qt::Key_2, Qt::ControlModifier}, {Qt::Key_K, Qt::ControlModifier}, {Qt::Key_M, Qt::NoModifier}})
      QTest::keyClick(view()->run(), key, modifiers);
    QVERIFY(!window_->player().has_other() && !QApplication::activePopupWidget() && view()->is_running());
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
    QCOMPARE(around(), (std::array<bool, 3>{true, true, true}));
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
    QVERIFY(window_->listening()->isVisible());
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
    view()->setCurrentWidget(view()->setup());
    view()->setup()->choose(BlindMethod::multi);
    view()->setup()->choose_among({trial_id()});
    QCOMPARE(view()->setup()->choice().trials.size(), size_t(1));
    view()->setup()->choose_among({trial_id(), window_->workspace().bench().masters[0].trials[1].id});
    window_->workspace().results().forget(trial_id());  // what is not at hand is measured first
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

  /// Somebody who hears a residual at a lift of 6 dB and more, and is wrong below: whatever the order, it ends there.
  void a_threshold_is_found_by_keys() {
    bring_in({"hiss.wav"});
    for (const int down : {2, 1}) {
      open_page();
      view()->setCurrentWidget(view()->setup());
      view()->setup()->choose(LadderDesign{}, down);
      QVERIFY2(view()->setup()->chances().contains("answers"), qPrintable(view()->setup()->chances()));
      begin(BlindMethod::threshold);
      QVERIFY2(view()->is_running(), qPrintable(note()));
      QCOMPARE(test().stimuli.size(), size_t(32));
      while (view()->is_running()) {
        const Round round = next_round(test());
        const int played = *std::max_element(round.buttons.begin(), round.buttons.end());
        const bool heard = played > 0 && *test().stimuli[size_t(played)].value >= 6;
        if (down == 1) {
          QTest::keyClick(view()->run(), heard ? Qt::Key_Left : Qt::Key_Right);
          continue;
        }
        QTest::keyClick(view()->run(), Qt::Key(Qt::Key_1 + round.truth));
        QCOMPARE(view()->deck().chosen(), 1);
        const bool left = heard == (round.truth == 1);
        QTest::keyClick(view()->run(), left ? Qt::Key_Left : Qt::Key_Right);
        if (counted(test()) != 5) continue;
        const size_t so_far = test().answers.size();
        QTest::keyClick(view()->run(), Qt::Key_Escape);  // another day
        QSignalSpy rested(view(), &BlindView::rested);
        view()->go_on(test().id);
        QVERIFY(rested.wait(60000));
        QVERIFY2(view()->is_running() && test().answers.size() == so_far, qPrintable(note()));
      }
      const BlindResult result = result_of(test());
      QVERIFY2(std::abs(*result.threshold - 5) < 0.01, qPrintable(QString::fromStdString(result.sentence)));
      QVERIFY2(view()->result()->answer().contains("dB of lift"), qPrintable(view()->result()->answer()));
      if (down == 1) {
        const bool said_yes = test().answers.front().button == 1;
        QCOMPARE(view()->result()->table()->text_at(0, 2), QString(said_yes ? "it differs" : "the same"));
        QCOMPARE(result.caught, 0);
      }
      QVERIFY(view()->csv().contains("value") && view()->csv().contains("dB of lift"));
    }
  }

  void other_ladders_begin_or_say_why_not() {
    bring_in({"hiss.wav"});
    for (const LadderDesign& ladder : {LadderDesign{LadderOf::level, {}, 0},
                                       {LadderOf::word_length, {}, 0},
                                       {LadderOf::bit_rate, "mp3", 0},
                                       {LadderOf::fold, {}, 16000}}) {
      open_page();
      view()->setCurrentWidget(view()->setup());
      view()->setup()->choose(ladder);
      begin(BlindMethod::threshold);
      QVERIFY2(view()->is_running(), qPrintable(note()));
      QVERIFY(test().design.ladder == ladder && test().stimuli[1].trial.empty());
      QTest::keyClick(view()->run(), Qt::Key_Left);
      QTest::keyClick(view()->run(), Qt::Key_Escape);
      QSignalSpy rested(view(), &BlindView::rested);
      view()->go_on(test().id);
      QVERIFY(rested.wait(60000));
      QVERIFY2(view()->is_running() && counted(test()) == 1, qPrintable(note()));
      QTest::keyClick(view()->run(), Qt::Key_Escape);
    }
    window_->workspace().select(Range{1, 1.2});  // what is selected is proposed
    begin(BlindMethod::threshold);
    QVERIFY2(!view()->is_running() && note().contains("too short"), qPrintable(note()));
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
    window_->workspace().model().edit("a trial goes", [](Bench& bench) { bench.masters[0].trials.clear(); });
    view()->go_on(id);
    QVERIFY2(!view()->is_running() && note().contains("not on the bench any more"), qPrintable(note()));
    window_->workspace().model().undo_stack().undo();
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

SHARED_WINDOW_MAIN(TestBlindPage)
#include "test_blind_page.moc"
