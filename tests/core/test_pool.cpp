// Work spread over the pool: every segment once, whatever runs beside it or within it, and the first failure comes out.
#include <QTest>
#include <numeric>
#include <random>
#include <set>

#include "core/compare/causes/attempts.hpp"
#include "core/job.hpp"

using namespace heathmist;

class TestPool : public QObject {
  Q_OBJECT

  static std::vector<int> times_of(int64_t count, int threads) {
    std::vector<std::atomic<int>> seen(static_cast<size_t>(count));
    for_each_segment(
        count, Job{{}, {}, threads}, [] { return 0; }, [&](int, int64_t n) { ++seen[size_t(n)]; });
    return {seen.begin(), seen.end()};
  }

 private slots:
  void every_segment_is_done_once() {
    for (const int64_t count : {0, 1, 2, 7, 1000})
      for (const int threads : {0, 1, 2, 3, 16}) QCOMPARE(times_of(count, threads), std::vector<int>(size_t(count), 1));
  }

  void no_more_states_are_made_than_may_work() {
    std::atomic<int> states = 0, at_once = 0, most = 0;
    for_each_segment(
        200, Job{{}, {}, 3}, [&] { return ++states; },
        [&](int, int64_t) {
          most = std::max(most.load(), ++at_once);
          std::this_thread::sleep_for(std::chrono::microseconds(100));
          --at_once;
        });
    QVERIFY(states >= 1 && states <= 3);
    QVERIFY(most <= 3);
  }

  /// A segment may spread its own work; who waits for that takes nothing else on, so that no state is entered twice.
  void calls_may_nest() {
    std::atomic<int64_t> sum = 0;
    std::atomic<int> entered = 0;
    for_each_segment(
        8, Job{}, [] { return std::make_unique<std::atomic<int>>(0); },
        [&](std::unique_ptr<std::atomic<int>>& inside, int64_t n) {
          if (++*inside > 1) ++entered;
          for_each_segment(
              50, Job{}, [] { return 0; }, [&](int, int64_t k) { sum += n * 50 + k; });
          --*inside;
        });
    QCOMPARE(sum.load(), int64_t(400 * 399 / 2));
    QCOMPARE(entered.load(), 0);
  }

  void many_may_call_at_once() {
    std::atomic<int64_t> sum = 0;
    std::vector<std::jthread> callers;
    for (int c = 0; c < 6; ++c)
      callers.emplace_back([&] {
        for (int round = 0; round < 20; ++round)
          for_each_segment(
              30, Job{}, [] { return 0; }, [&](int, int64_t n) { sum += n; });
      });
    callers.clear();
    QCOMPARE(sum.load(), int64_t(6 * 20 * 435));
  }

  void the_first_failure_comes_out_and_the_rest_is_left() {
    for (const int threads : {1, 2, 4}) {
      std::atomic<int> done = 0;
      try {
        for_each_segment(
            100000, Job{{}, {}, threads}, [] { return 0; },
            [&](int, int64_t n) {
              ++done;
              if (n == 5) throw std::runtime_error("the file broke off");
            });
        QFAIL("nothing came out");
      } catch (const std::runtime_error& error) {
        QCOMPARE(std::string(error.what()), std::string("the file broke off"));
      }
      QVERIFY(done < 100000);
    }
    std::stop_source stop;
    stop.request_stop();
    QVERIFY_EXCEPTION_THROWN(for_each_segment(
                                 10, Job{stop.get_token(), {}, 2}, [] { return 0; }, [](int, int64_t) {}),
                             Cancelled);
  }

  void progress_rises_to_one() {
    std::vector<double> told;
    for_each_segment(
        40, Job{{}, [&](double f) { told.push_back(f); }, 2}, [] { return 0; }, [](int, int64_t) {});
    QCOMPARE(told.size(), size_t(40));
    QVERIFY(std::is_sorted(told.begin(), told.end()) && told.back() == 1);
  }

  /// What was estimated behind some causes is not estimated again behind the same ones, and is behind others.
  void nothing_is_asked_twice() {
    using namespace causes;
    Attempts attempts;
    const Estimate &first = all()[0], &second = all()[1];
    const auto a = std::make_shared<const Found>(), b = std::make_shared<const Found>();
    int made = 0;
    const auto make = [&] { return ++made, std::make_shared<const Found>(); };
    std::set<FoundPtr> different;
    const std::vector<Attempts::Before> befores{{}, {a}, {b}, {a, b}, {b, a}};
    for (int round = 0; round < 3; ++round)
      for (const auto& before : befores)
        for (const Estimate* e : {&first, &second})
          for (const auto hears : {Model::Hears::either, Model::Hears::model})
            different.insert(attempts.found(*e, hears, before, make));
    QCOMPARE(made, 20);
    QCOMPARE(different.size(), size_t(20));
    int weighed = 0;
    for (int round = 0; round < 3; ++round)
      QCOMPARE(attempts.weight(first, {a}, [&] { return ++weighed, Attempts::Weight{true, 3, 2, 1}; }).taken_db, 3.0);
    QCOMPARE(weighed, 1);
    // what found nothing is known, too
    for (int round = 0; round < 2; ++round)
      QVERIFY(!attempts.found(second, Model::Hears::either, {a, a}, [&]() -> FoundPtr { return ++made, nullptr; }));
    QCOMPARE(made, 21);
  }
};

QTEST_GUILESS_MAIN(TestPool)
#include "test_pool.moc"
