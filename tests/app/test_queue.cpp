// The queue: who goes first, who steps back, and that every end is told for what it is.
#include <QSignalSpy>
#include <QTest>
#include <condition_variable>
#include <filesystem>
#include <random>

#include "app/model/long_work.hpp"
#include "app/model/trial_results.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::app;
using namespace heathmist::test;

namespace {

/// Work that waits here until it is let through, or stopped.
class Gate {
 public:
  void wait(const Job& job) {
    std::unique_lock held(lock_);
    ++inside_;
    if (!opened_.wait(held, job.stop, [this] { return open_; })) throw Cancelled();
  }
  void open() {
    std::scoped_lock held(lock_);
    open_ = true;
    opened_.notify_all();
  }
  int inside() {
    std::scoped_lock held(lock_);
    return inside_;
  }

 private:
  std::mutex lock_;
  std::condition_variable_any opened_;
  bool open_ = false;
  int inside_ = 0;
};

}  // namespace

class TestQueue : public QObject {
  Q_OBJECT

  QStringList ends_;

  Request named(const char* name, Priority priority, std::function<void(const Job&)> work) {
    Request r{priority, [work = std::move(work)](const Job& job, const Tell&) { work(job); }};
    r.ended = [this, name](Outcome outcome, const QString& sentence) {
      static const char* words[] = {"done", "superseded", "cancelled", "failed"};
      ends_ << QString("%1 %2%3").arg(name, words[int(outcome)], sentence.isEmpty() ? "" : ": " + sentence);
    };
    return r;
  }
  Request of_group(Request r, const char* group, const char* key = "", bool stopped = false) {
    r.group = group, r.key = key, r.stopped_by_later = stopped;
    return r;
  }

 private slots:
  void init() { ends_.clear(); }

  void every_end_is_told_for_what_it_is() {
    Queue queue;
    Gate gate;
    queue.post(named("whole", Priority::shown, [](const Job&) {}));
    queue.post(named("broken", Priority::shown, [](const Job&) { throw std::runtime_error("the file is gone"); }));
    queue.post(named("nameless", Priority::shown, [](const Job&) { throw 7; }));
    const auto token = queue.post(named("stopped", Priority::shown, [&](const Job& job) { gate.wait(job); }));
    QVERIFY(queue.is_busy());
    QTRY_COMPARE(ends_.size(), 3);
    queue.cancel(token);
    QTRY_COMPARE(ends_.size(), 4);
    ends_.sort();
    QCOMPARE(ends_[0], QString("broken failed: the file is gone"));
    QVERIFY(ends_[1].startsWith("nameless failed: "));
    QCOMPARE(ends_[2], QString("stopped cancelled"));
    QCOMPARE(ends_[3], QString("whole done"));
    QVERIFY(!queue.is_busy() && !queue.knows(token));
  }

  void of_one_key_the_newest_comes() {
    Queue queue;
    Gate gate;
    queue.post(of_group(named("first", Priority::background, [&](const Job& job) { gate.wait(job); }), "files"));
    for (const char* name : {"a", "b", "c"})
      queue.post(of_group(named(name, Priority::background, [](const Job&) {}), "files", "same"));
    queue.post(of_group(named("other", Priority::background, [](const Job&) {}), "files"));
    QTRY_COMPARE(ends_, QStringList({"a superseded", "b superseded"}));
    gate.open();
    QTRY_VERIFY(!queue.is_busy("files"));
    QCOMPARE(ends_, QStringList({"a superseded", "b superseded", "first done", "c done", "other done"}));
  }

  void one_that_runs_is_superseded_where_it_may_be() {
    Queue queue;
    Gate gate, kept;
    queue.post(of_group(named("moved", Priority::live, [&](const Job& job) { gate.wait(job); }), "look", "look", true));
    queue.post(of_group(named("lanes", Priority::live, [&](const Job& job) { kept.wait(job); }), "lanes", "lanes"));
    QTRY_COMPARE(gate.inside() + kept.inside(), 2);
    queue.post(of_group(named("moved on", Priority::live, [](const Job&) {}), "look", "look", true));
    queue.post(of_group(named("lanes after", Priority::live, [](const Job&) {}), "lanes", "lanes"));
    QTRY_COMPARE(ends_, QStringList({"moved superseded", "moved on done"}));
    kept.open();
    QTRY_COMPARE(ends_.mid(2), QStringList({"lanes done", "lanes after done"}));
  }

  /// What was begun for later steps back for what is looked at, is told as nothing, and comes after all.
  void a_higher_one_of_the_group_goes_first_and_the_lower_one_begins_anew() {
    Queue queue;
    Gate gate;
    std::atomic<int> begun = 0;
    queue.post(of_group(named("later", Priority::background,
                              [&](const Job& job) {
                                ++begun;
                                gate.wait(job);
                              }),
                        "trials"));
    QTRY_COMPARE(gate.inside(), 1);
    queue.post(of_group(named("now", Priority::shown, [](const Job&) {}), "trials"));
    QTRY_COMPARE(ends_, QStringList({"now done"}));
    QTRY_COMPARE(gate.inside(), 2);
    gate.open();
    QTRY_COMPARE(ends_, QStringList({"now done", "later done"}));
    QCOMPARE(begun.load(), 2);
  }

  void one_that_comes_to_be_looked_at_goes_first() {
    Queue queue;
    Gate gate;
    queue.post(of_group(named("runs", Priority::shown, [&](const Job& job) { gate.wait(job); }), "trials"));
    queue.post(of_group(named("waits", Priority::background, [](const Job&) {}), "trials"));
    const auto token = queue.post(of_group(named("looked at", Priority::background, [](const Job&) {}), "trials"));
    queue.set_priority(token, Priority::shown);
    gate.open();
    QTRY_COMPARE(ends_, QStringList({"runs done", "looked at done", "waits done"}));
  }

  void what_is_dropped_is_heard_of_no_more() {
    Queue queue;
    Gate gate;
    bool told = false;
    Request r{Priority::shown, [&](const Job& job, const Tell& tell) {
                gate.wait(job);
                tell([&] { told = true; });
              }};
    r.ended = [&](Outcome, const QString&) { told = true; };
    const auto running = queue.post(r);
    QTRY_COMPARE(gate.inside(), 1);
    queue.drop(running);
    gate.open();
    QTRY_VERIFY(!queue.is_busy());
    QTest::qWait(20);
    QVERIFY(!told);
  }

  void all_that_is_posted_ends_once() {
    Queue queue;
    std::mt19937 random(20);
    std::vector<Queue::Token> tokens;
    std::map<int, int> ended;
    std::atomic<int> in_group[3] = {}, at_once = 0;
    constexpr int many = 600;
    for (int n = 0; n < many; ++n) {
      const int group = int(random() % 3);
      Request r{Priority(random() % 3), [&, group](const Job& job, const Tell&) {
                  if (in_group[group]++) ++at_once;
                  std::this_thread::sleep_for(std::chrono::microseconds(200));
                  --in_group[group];
                  job.check();
                }};
      r.group = std::string("group ") + char('a' + group);
      if (random() % 2) r.key = "key " + std::to_string(random() % 20);
      r.stopped_by_later = random() % 2;
      r.ended = [&ended, n](Outcome, const QString&) { ++ended[n]; };
      tokens.push_back(queue.post(r));
      if (random() % 4 == 0) queue.cancel(tokens[random() % tokens.size()]);
      if (random() % 4 == 0) queue.set_priority(tokens[random() % tokens.size()], Priority(random() % 3));
      if (random() % 8 == 0) QCoreApplication::processEvents();
    }
    QTRY_VERIFY_WITH_TIMEOUT(!queue.is_busy(), 5000);
    QCOMPARE(ended.size(), size_t(many));
    for (const auto& [n, times] : ended) QCOMPARE(times, 1);
    QCOMPARE(at_once.load(), 0);
  }

  /// Letters of work come in order, before its end; progress does not flood the one who hears it.
  void what_work_tells_comes_in_order() {
    Queue queue;
    QStringList heard;
    int progressed = 0;
    Request r{Priority::shown, [&](const Job& job, const Tell& tell) {
                for (int n = 0; n < 3; ++n) tell([&heard, n] { heard << QString::number(n); });
                for (int n = 0; n <= 100000; ++n) job.report(n / 1e5);
              }};
    r.progressed = [&](double) { ++progressed; };
    r.ended = [&](Outcome, const QString&) { heard << "end"; };
    queue.post(r);
    QTRY_COMPARE(heard, QStringList({"0", "1", "2", "end"}));
    QVERIFY(progressed >= 1 && progressed < 100000);
  }

  /// Large blocks that work let go are the system's again, small ones between them or not.
  void the_memory_of_long_work_goes_back() {
    const auto resident_mib = [] {
      QFile statm("/proc/self/statm");
      return statm.open(QIODevice::ReadOnly) ? statm.readAll().split(' ').value(1).toLongLong() * 4096 >> 20 : 0;
    };
    static std::vector<std::unique_ptr<std::array<char, 200>>> kept;  // between the large ones
    Queue queue;
    int done = 0;
    const auto before = resident_mib();
    for (int round = 0; round < 3; ++round) {
      Request request;
      request.work = [](const Job&, const Tell&) {
        std::vector<std::vector<char>> large;
        for (int n = 0; n < 500; ++n) {
          large.emplace_back(size_t(400) << 10, char(n));
          kept.push_back(std::make_unique<std::array<char, 200>>());
        }
        std::this_thread::sleep_for(std::chrono::milliseconds(400));
      };
      request.ended = [&](Outcome, const QString&) { ++done; };
      queue.post(std::move(request));
      QTRY_COMPARE_WITH_TIMEOUT(done, round + 1, 20000);
    }
    QVERIFY2(resident_mib() - before < 80, qPrintable(QString("%1 to %2 MiB").arg(before).arg(resident_mib())));
  }

  void nothing_of_its_owner_is_touched_when_the_owner_is_gone() {
    Queue queue;
    Gate gate;
    auto owned = std::make_unique<int>(0);
    auto work = std::make_unique<LongWork>(queue);
    work->start([&](const Job& job, const Tell&) {
      try {
        gate.wait(job);
      } catch (const Cancelled&) {
      }
      ++*owned;
    });
    QTRY_COMPARE(gate.inside(), 1);
    work.reset();
    QCOMPARE(*owned, 1);  // it had ended before the owner went
    owned.reset();
  }

  void a_later_start_drops_the_one_before_it() {
    Queue queue;
    Gate gate;
    LongWork work(queue);
    QSignalSpy ended(&work, &LongWork::ended);
    work.start([&](const Job& job, const Tell&) { gate.wait(job); });
    work.start([](const Job&, const Tell&) {});
    QTRY_COMPARE(ended.count(), 1);
    QCOMPARE(ended[0][0].value<Outcome>(), Outcome::done);
    QVERIFY(!work.is_running() && how_it_ended(Outcome::done, {}).isEmpty());
  }

  void the_trial_that_is_looked_at_runs_first() {
    const auto folder = std::filesystem::temp_directory_path() / "heathmist-queue";
    std::filesystem::create_directories(folder);
    const auto sound = with_noise(Planar(2, 48000 * 30), 0.1, 1);
    const auto a = save(folder / "a.wav", sound, 48000), b = save(folder / "b.wav", with_noise(sound, 0.01, 2), 48000);
    Queue queue;
    TrialResults results(queue);
    QStringList order;
    QSignalSpy rested(&results, &TrialResults::rested), cancelled(&results, &TrialResults::cancelled);
    connect(&results, &TrialResults::finished, this, [&](const QString& id) {
      if (results.result(id.toStdString())->why) order << id;
    });
    results.request({"later", a, b, {}, {}}, false);
    results.request({"last", a, b, {}, {}}, false);
    results.request({"now", a, a, {}, {}}, true);
    QTRY_COMPARE_WITH_TIMEOUT(order, QStringList({"now", "later", "last"}), 60000);
    QTRY_COMPARE(rested.count(), 1);
    QCOMPARE(results.result("now")->report->kind, Kind::identical);
    results.forget("now");
    results.request({"now", a, b, {}, {}}, true);
    results.cancel();
    results.request({"now", a, b, {}, {}}, true);  // chosen again at once: it comes, and is not said to be stopped
    QTRY_COMPARE_WITH_TIMEOUT(order.size(), 4, 60000);
    QCOMPARE(cancelled.count(), 0);
    results.forget_all();
    QVERIFY(!results.result("now"));
    std::filesystem::remove_all(folder);
  }
};

QTEST_MAIN(TestQueue)
#include "test_queue.moc"
