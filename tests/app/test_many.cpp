// A bench of thousands of trials stays quick in the hand, and what is kept of them has a limit.
#include <QElapsedTimer>
#include <QSettings>

#include "tests/support/window.hpp"

using namespace heathmist;
using namespace heathmist::app;
using namespace heathmist::test;

class TestMany : public WindowTest {
  Q_OBJECT

 private slots:
  void initTestCase() { prepare_window(folder_); }

  /// None of their files is there: it is said of each row, saved, opened again and scrolled through in seconds.
  void five_thousand_missing_trials() {
    constexpr int masters = 50, trials = 100;
    QElapsedTimer clock;
    clock.start();
    window_->show();
    window_->workspace().model().edit("many", [&](Bench& bench) {
      for (int m = 0; m < masters; ++m) {
        Master master{"m" + std::to_string(m), "Reach " + std::to_string(m), {gone("master", m, 0), ""}, {}};
        for (int t = 0; t < trials; ++t)
          master.trials.push_back({master.id + "t" + std::to_string(t), "Bounce", {gone("bounce", m, t), ""}, {}});
        bench.masters.push_back(master);
      }
    });
    const auto& workspace = window_->workspace();
    QTRY_VERIFY_WITH_TIMEOUT(
        workspace.states().count("m49t99") && workspace.states().at("m49t99").file == FileState::missing, 20000);
    QTRY_VERIFY_WITH_TIMEOUT(!window_->workspace().queue().is_busy("files"), 20000);
    QCoreApplication::processEvents();
    const auto told = clock.restart();
    const QString file = QString::fromStdString((folder_ / "many.heathmist").string());
    QVERIFY(window_->files()->save_to(file));
    const auto saved = clock.restart();
    window_->workspace().open(file);
    QTRY_VERIFY_WITH_TIMEOUT(!window_->workspace().queue().is_busy("files"), 20000);
    QCOMPARE(window_->workspace().bench().masters.size(), size_t(masters));
    const auto opened = clock.restart();
    for (int n = 0; n < 20; ++n) window_->workspace().look_at("m" + std::to_string(n) + "t7"), QTest::qWait(1);
    const auto looked = clock.restart();
    qInfo("told in %lld ms, saved in %lld, opened in %lld, twenty looked at in %lld", told, saved, opened, looked);
    QVERIFY(told < 10000 && saved < 5000 && opened < 10000 && looked < 10000);  // it was minutes
  }

  /// With room for one result, what was let go is measured again when it is chosen, and is what it was; no row loses
  /// its numbers.
  void results_have_a_limit() {
    window_.reset();
    QSettings().setValue("store/memory_mb", 1);
    window_ = std::make_unique<MainWindow>(simulated_output());
    QSettings().remove("store/memory_mb");
    const auto sound = Programme(4, 5).render(44100);
    Workspace& workspace = window_->workspace();
    workspace.model().edit("five returns", [&](Bench& bench) {
      Master master{"m", "Mill Race", {save(folder_ / "m.wav", sound, 44100, WordFormat::pcm24), ""}, {}};
      for (int n = 0; n < 5; ++n) {
        const auto ret = with_noise(scaled(sound, 0.9 - 0.1 * n), 1e-4, uint64_t(n));
        master.trials.push_back(
            {id(n), "", {save(folder_ / ("r" + std::to_string(n) + ".wav"), ret, 44100, WordFormat::pcm24), ""}, {}});
      }
      bench.masters = {master};
    });
    const auto summary = [&](const std::string& trial) { return workspace.states().at(trial).summary; };
    QTRY_VERIFY_WITH_TIMEOUT(are_measured(5), 120000);
    QCOMPARE(held_of(5), 2);
    QVERIFY(workspace.results().bytes() > 100000 && workspace.results().bytes() < 8 << 20);
    for (const std::string chosen : {"t0", "t3"}) {
      const auto before = summary(chosen)->residual_relative_db;
      workspace.look_at(chosen);
      QTRY_VERIFY_WITH_TIMEOUT(workspace.current_result() && workspace.current_result()->why, 60000);
      QCOMPARE(workspace.current_result()->report->residual_relative_db(), before);
      for (int n = 0; n < 5; ++n) QVERIFY(summary(id(n)));
    }
  }

  /// Sound that chains made lies on the disk as long as its result is held: as many are held as have room, one of them
  /// the one that is looked at; one that is chosen again is made again, and is what it was.
  void made_sound_has_a_limit_on_the_disk() {
    window_.reset();
    QSettings().setValue("store/scratch_mb", 9);
    window_ = std::make_unique<MainWindow>(simulated_output());
    QSettings().remove("store/scratch_mb");
    const auto sound = Programme(4, 5).render(44100);
    Workspace& workspace = window_->workspace();
    workspace.model().edit("six gains", [&](Bench& bench) {
      Master master{"m", "Mill Race", {save(folder_ / "m.wav", sound, 44100, WordFormat::pcm24), ""}, {}};
      for (int n = 0; n < 6; ++n) {
        Trial trial{id(n), "", {}, {}};
        const Json gain{{"type", "gain"}, {"gain_db", -1.0 - n}};
        trial.chain = chain_from_json({{"stages", Json(std::vector<Json>{gain})}});
        master.trials.push_back(trial);
      }
      bench.masters = {master};
    });
    const auto& states = workspace.states();
    workspace.look_at("t0");
    QTRY_VERIFY_WITH_TIMEOUT(are_measured(6), 60000);
    QVERIFY(workspace.current_result());  // what is looked at is not let go for what runs behind it
    const int64_t room = int64_t(9) << 20, each = workspace.results().scratch_bytes() / held_of(6);
    QVERIFY(each > 1000000);
    QCOMPARE(held_of(6), int(room / each));
    for (const int n : {0, 5, 2}) {
      const auto before = states.at(id(n)).summary->gain_db;
      workspace.look_at(id(n));
      QTRY_VERIFY_WITH_TIMEOUT(workspace.current_result() && workspace.current_result()->why, 60000);
      QCOMPARE(workspace.current_result()->report->fit.gain_db, before);
      QVERIFY(std::abs(before - (-1.0 - n)) < 0.001);
    }
  }

 private:
  static std::string id(int n) { return "t" + std::to_string(n); }
  bool are_measured(int trials) const {
    const auto& states = window_->workspace().states();
    for (int n = 0; n < trials; ++n)
      if (!states.count(id(n)) || !states.at(id(n)).summary) return false;
    return !window_->workspace().results().is_busy();
  }
  int held_of(int trials) const {
    int held = 0;
    for (int n = 0; n < trials; ++n) held += window_->workspace().results().result(id(n)) != nullptr;
    return held;
  }
  std::filesystem::path gone(const char* what, int m, int t) const {
    return folder_ / "gone" / (std::string(what) + std::to_string(m) + "-" + std::to_string(t) + ".wav");
  }
};

QTEST_MAIN(TestMany)
#include "test_many.moc"
