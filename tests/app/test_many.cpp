// A bench of thousands of trials stays quick in the hand, and what is kept of them has a limit.
#include <QElapsedTimer>
#include <QSignalSpy>

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
    QTRY_VERIFY_WITH_TIMEOUT(!window_->workspace().errands().is_busy(), 20000);
    QCoreApplication::processEvents();
    const auto told = clock.restart();
    const QString file = QString::fromStdString((folder_ / "many.heathmist").string());
    QVERIFY(window_->files()->save_to(file));
    const auto saved = clock.restart();
    window_->workspace().open(file);
    QTRY_VERIFY_WITH_TIMEOUT(!window_->workspace().errands().is_busy(), 20000);
    QCOMPARE(window_->workspace().bench().masters.size(), size_t(masters));
    const auto opened = clock.restart();
    for (int n = 0; n < 20; ++n) window_->workspace().look_at("m" + std::to_string(n) + "t7"), QTest::qWait(1);
    const auto looked = clock.restart();
    qInfo("told in %lld ms, saved in %lld, opened in %lld, twenty looked at in %lld", told, saved, opened, looked);
    QVERIFY(told < 10000 && saved < 5000 && opened < 10000 && looked < 10000);  // it was minutes
  }

 private:
  std::filesystem::path gone(const char* what, int m, int t) const {
    return folder_ / "gone" / (std::string(what) + std::to_string(m) + "-" + std::to_string(t) + ".wav");
  }
};

QTEST_MAIN(TestMany)
#include "test_many.moc"
