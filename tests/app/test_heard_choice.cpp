// Heard in the return's place: other trials of the master and other masters, at the same spot and equally loud.
#include <QSignalSpy>
#include <QtTest>
#include <cmath>

#include "app/shell/heard_choice.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/window.hpp"

using namespace heathmist;
using namespace heathmist::app;
using namespace heathmist::test;

class TestHeardChoice : public WindowTest {
  Q_OBJECT

 private slots:
  void initTestCase() {
    prepare_window(folder_);
    sound_ = programme("dense", 48000, 8, 3);
    save(folder_ / "mill-race.wav", sound_, 48000);
    save(folder_ / "soft.wav", scaled(sound_, 0.3), 48000);
    save(folder_ / "noisy.wav", with_noise(sound_, 0.0005, 5), 48000);
    Planar late(2, sound_.frames());
    for (int c = 0; c < 2; ++c)
      std::copy(sound_.channel(c).begin(), sound_.channel(c).end() - 700, late.channel(c).begin() + 700);
    save(folder_ / "late.wav", scaled(late, 0.5), 48000);
    save(folder_ / "slack-water.wav", scaled(programme("piano", 44100, 9, 4), 0.2), 44100);
  }

  /// What stands in the return's place lies where the master does, whatever its own delay is; and goes again.
  void another_return_lies_on_the_master() {
    const auto open = [&](const char* name) { return Clip::open(folder_ / name); };
    const auto pair = comparable(open("mill-race.wav"), open("soft.wav"));
    const auto late = comparable(open("mill-race.wav"), open("late.wav"));
    PairStream stream(pair, null_test(*pair.master, *pair.ret, pair).fit);
    Hearing hearing;
    std::vector<MixFrame> out(512);
    for (const int64_t at : {int64_t(1000), int64_t(48000), int64_t(3 * 48000 + 17)}) {
      for (const double gain : {0.3, 0.5, 0.3}) {
        hearing.other =
            gain == 0.5
                ? std::make_shared<const OtherSound>(OtherSound{late.ret, null_test(*late.master, *late.ret, late).fit})
                : nullptr;
        stream.read(at, hearing, out);
        for (size_t n = 0; n < out.size(); ++n)
          for (size_t c = 0; c < 2; ++c) {
            const double own = sound_.channel(int(c))[size_t(at) + n];
            QCOMPARE(out[n].master[c], own);
            QVERIFY2(std::abs(out[n].ret[c] - gain * own) < 1e-9, qPrintable(QString::number(out[n].ret[c])));
            QVERIFY(std::abs(out[n].residual[c]) < 1e-9);  // the pair's, as ever
          }
      }
    }
  }

  /// dB between two clips: a scaled copy's is its scale, within any stretch.
  void loudness_is_matched_by_clips_too() {
    const auto master = Clip::open(folder_ / "mill-race.wav"), soft = Clip::open(folder_ / "soft.wav");
    for (const auto& range : std::vector<std::optional<std::pair<double, double>>>{{}, {{1, 4.5}}, {{2.25, 3}}}) {
      const auto db = match_gain_db(*master, *soft, range);
      QVERIFY(db && std::abs(*db + 20 * std::log10(0.3)) < 0.01);
    }
    QVERIFY(!match_gain_db(*master, *soft, std::pair{20.0, 30.0}));  // there is nothing
    std::stop_source stop;
    stop.request_stop();
    QVERIFY_THROWS_EXCEPTION(Cancelled, match_gain_db(*master, *soft, {}, {.stop = stop.get_token()}));
  }

  void trials_are_heard_by_keys_at_the_masters_loudness() {
    bring_in();
    auto& player = window_->player();
    auto* bar = window_->listening();
    window_->workspace().go_to(2);
    QTRY_VERIFY(std::abs(player.place_s() - 2) < 0.01);
    const double own_db = *bar->match_db();
    const std::string looked_at = window_->workspace().current();
    for (const auto& [key, name, scale] :
         {std::tuple{Qt::Key_3, "late", 0.5}, {Qt::Key_2, "noisy", 1.0}, {Qt::Key_1, "", 0.3}}) {
      QTest::keyClick(window_.get(), key, Qt::ControlModifier);
      QCOMPARE(player.has_other(), *name != 0);
      QCOMPARE(bar->other() ? bar->other()->name : QString(), QString(name));
      QCOMPARE(bar->heard(), Heard::ret);
      QVERIFY2(std::abs(*bar->match_db() + 20 * std::log10(scale)) < 0.05,
               qPrintable(QString::number(*bar->match_db())));
      QVERIFY(std::abs(player.place_s() - 2) < 0.01);
      QCOMPARE(window_->workspace().current(), looked_at);
      QVERIFY(bar->findChild<QToolButton*>("hearReturn")->text().contains(*name ? name : "Return"));
    }
    QVERIFY(std::abs(*bar->match_db() - own_db) < 1e-9);
    auto* lanes = window_->part<NullView>()->lanes();
    QTest::qWait(50);
    const QImage own = lanes->grab().toImage();
    QTest::keyClick(window_.get(), Qt::Key_2, Qt::ControlModifier);  // in no lane: no lane's name stands out
    QTest::qWait(50);
    QVERIFY(lanes->grab().toImage() != own);
    QTest::keyClick(window_.get(), Qt::Key_1, Qt::ControlModifier);
    QTest::qWait(50);
    QCOMPARE(lanes->grab().toImage(), own);
    QTest::keyClick(window_.get(), Qt::Key_3, Qt::ControlModifier);
    window_->workspace().select(Range{1, 3});  // the loop has another loudness, and it is matched in it
    QVERIFY(std::abs(*bar->match_db() + 20 * std::log10(0.5)) < 0.05);
    QTest::keyClick(window_.get(), Qt::Key_0, Qt::ControlModifier);
    QVERIFY(!player.has_other() && !bar->other());
    QTest::keyClick(window_.get(), Qt::Key_9, Qt::ControlModifier);  // there is none
    QVERIFY(!player.has_other());
  }

  /// A trial that has only its summary at hand is measured, and heard when it is; one that can't be is said.
  void what_is_not_at_hand_is_measured_first() {
    bring_in();
    auto& workspace = window_->workspace();
    workspace.results().forget(workspace.bench().masters[0].trials[2].id);
    choice()->hear_trial(2);
    QVERIFY(!window_->player().has_other());
    QTRY_VERIFY_WITH_TIMEOUT(window_->player().has_other(), 60000);
    QCOMPARE(window_->listening()->other()->name, QString("late"));
    QCOMPARE(workspace.current(), workspace.bench().masters[0].trials[0].id);
    workspace.model().edit("a trial without a file", [&](Bench& b) {
      b.masters[0].trials.push_back({"gone", "gone", {folder_ / "gone.wav", {}}, {}});
    });
    choice()->hear_trial(3);
    QTRY_VERIFY_WITH_TIMEOUT(window_->notice()->isVisible(), 60000);
    QVERIFY(!window_->player().has_other() && !window_->listening()->other());
  }

  void it_is_let_go_with_its_trial_or_its_file() {
    bring_in();
    choice()->hear_trial(1);
    QVERIFY(window_->player().has_other());
    window_->workspace().look_at(window_->workspace().bench().masters[0].trials[2].id);
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result(), 60000);
    QVERIFY(!window_->player().has_other() && !window_->listening()->other());
    choice()->hear_trial(1);
    QVERIFY(window_->player().has_other());
    emit window_->workspace().file_changed(path("noisy.wav"), "noisy.wav changed");
    QVERIFY(!window_->player().has_other() && !window_->listening()->other());
  }

  /// Held otherwise or gone from the bench, it is not heard as it was; and a cause is of the return.
  void it_follows_the_bench() {
    bring_in();
    auto& workspace = window_->workspace();
    const std::string id = workspace.bench().masters[0].trials[1].id;
    choice()->hear_trial(1);
    const double before = *window_->listening()->match_db();
    workspace.model().edit("hold", [&](Bench& b) { b.trial(id)->hold.delay_samples = 24000; });
    QTRY_VERIFY_WITH_TIMEOUT(std::abs(*window_->listening()->match_db() - before) > 1e-6, 60000);
    QVERIFY(window_->player().has_other());
    workspace.model().edit(
        "gone", [&](Bench& b) { std::erase_if(b.masters[0].trials, [&](const Trial& t) { return t.id == id; }); });
    QVERIFY(!window_->player().has_other() && !window_->listening()->other());
    choice()->hear_trial(1);  // the third, now the second
    QVERIFY(window_->player().has_other());
    window_->player().set_cause(window_->workspace().current_result()->pair.ret);
    window_->listening()->name_cause("EQ");
    QVERIFY(!window_->player().has_other() && !window_->listening()->other());
  }

  void another_master_is_heard_at_its_loudness() {
    bring_in();
    Bench& bench = const_cast<Bench&>(window_->workspace().bench());
    window_->workspace().model().edit("reference", [&](Bench& b) {
      b.masters.push_back({"ref", "Slack Water", {folder_ / "slack-water.wav", {}}, {}});
    });
    QCOMPARE(bench.masters.size(), size_t(2));
    QSignalSpy rested(choice(), &HeardChoice::rested);
    choice()->hear_master("ref");
    QVERIFY(rested.wait(30000));
    QVERIFY(window_->player().has_other());
    QCOMPARE(window_->listening()->other()->name, QString("Slack Water"));
    const double whole =
        integrated_lufs(sound_, 48000) - integrated_lufs(scaled(programme("piano", 44100, 9, 4), 0.2), 44100);
    QVERIFY2(std::abs(*window_->listening()->match_db() - whole) < 0.1,
             qPrintable(QString::number(*window_->listening()->match_db() - whole)));
    window_->workspace().select(Range{2, 5});
    QVERIFY(rested.wait(30000));
    const auto within = match_gain_db(*Clip::open(folder_ / "mill-race.wav"), *Clip::open(folder_ / "slack-water.wav"),
                                      std::pair{2.0, 5.0});
    QVERIFY2(std::abs(*window_->listening()->match_db() - *within) < 0.1,
             qPrintable(QString::number(*window_->listening()->match_db() - *within)));
    window_->listening()->hear(Heard::master);
    choice()->hear_own();
    QVERIFY(!window_->player().has_other());
    std::filesystem::remove(folder_ / "slack-water.wav");
    choice()->hear_master("ref");
    QVERIFY(rested.wait(30000));
    QVERIFY(window_->notice()->isVisible() && !window_->player().has_other());
  }

  void the_menu_lists_them_all() {
    bring_in();
    choice()->hear_trial(2);
    auto* button = window_->listening()->findChild<QToolButton*>("hearReturn");
    emit button->menu()->aboutToShow();
    QStringList names, checked;
    for (const QAction* action : button->menu()->actions()) {
      if (action->isSeparator()) continue;
      names << action->text().section('\t', 0, 0);
      if (action->isChecked()) checked << names.last();
    }
    QCOMPARE(names, QStringList({"soft", "noisy", "late"}));
    QCOMPARE(checked, QStringList({"late"}));
  }

 private:
  HeardChoice* choice() { return window_->part<HeardChoice>(); }
  QString path(const char* name) { return QString::fromStdString((folder_ / name).string()); }
  /// Three returns of one master, measured; the first is looked at.
  void bring_in() {
    window_->workspace().add_files({path("mill-race.wav"), path("soft.wav"), path("noisy.wav"), path("late.wav")});
    for (const Trial& t : window_->workspace().bench().masters[0].trials) window_->workspace().measure(t.id);
    QTRY_VERIFY_WITH_TIMEOUT(!window_->workspace().results().is_busy(), 120000);
    window_->workspace().look_at(window_->workspace().bench().masters[0].trials[0].id);
    QTRY_VERIFY_WITH_TIMEOUT(window_->player().has_source() && !window_->workspace().results().is_busy(), 60000);
    window_->activateWindow();
    QVERIFY(QTest::qWaitForWindowActive(window_.get()));
  }
  Planar sound_;
};

SHARED_WINDOW_MAIN(TestHeardChoice)
#include "test_heard_choice.moc"
