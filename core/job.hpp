// Long work: how it is watched, stopped and spread over the cores.
#pragma once
#include <atomic>
#include <cstdint>
#include <exception>
#include <functional>
#include <mutex>
#include <stdexcept>
#include <stop_token>
#include <thread>

namespace heathmist {

/// Thrown out of any long function when its job is asked to stop.
struct Cancelled : std::runtime_error {
  Cancelled() : std::runtime_error("cancelled") {}
};

/// Handed to every long function. `progress` gets 0..1, from any thread, never two calls at once.
struct Job {
  std::stop_token stop{};
  std::function<void(double)> progress{};
  int threads = 0;  ///< 0: as many as there are cores

  void check() const {
    if (stop.stop_requested()) throw Cancelled();
  }
  void report(double fraction) const {
    if (progress) progress(fraction);
  }
  int workers() const { return threads > 0 ? threads : std::max(1, int(std::thread::hardware_concurrency())); }
  /// The same job as a part [from, to] of a longer one.
  Job part(double from, double to) const {
    Job inner = *this;
    if (progress) inner.progress = [outer = progress, from, to](double f) { outer(from + (to - from) * f); };
    return inner;
  }
};

/// Calls `loop` here and on up to `others` threads of the program's one pool, and returns when all calls have. Calls
/// may nest. `loop` must not throw.
void on_pool(int others, const std::function<void()>& loop);
/// The calling thread gives way to others of the program by so much (see nice(2)), for good.
void stand_back(int nice);
/// The same for the pool's threads, from here on.
void set_pool_nice(int nice);

/// Runs work(state, i) for i in [0, count) on the job's workers, each with a state of its own from make_state().
/// What work() writes must go to the i-th place of something: the result then depends on no thread count.
/// The first exception is thrown again here.
template <class MakeState, class Work>
void for_each_segment(int64_t count, const Job& job, MakeState make_state, Work work) {
  std::atomic<int64_t> next{0}, done{0};
  std::mutex lock;
  std::exception_ptr failure;
  auto loop = [&] {
    if (next >= count) return;  // come too late: a state may be dear
    try {
      auto state = make_state();
      for (int64_t i; (i = next++) < count;) {
        job.check();
        work(state, i);
        std::scoped_lock held(lock);
        job.report(double(++done) / double(count));
      }
    } catch (...) {
      next = count;
      std::scoped_lock held(lock);
      if (!failure) failure = std::current_exception();
    }
  };
  on_pool(int(std::min<int64_t>(job.workers(), count)) - 1, loop);
  if (failure) std::rethrow_exception(failure);
}

}  // namespace heathmist
