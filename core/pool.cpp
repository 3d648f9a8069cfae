#include <sys/resource.h>
#include <sys/syscall.h>
#include <tbb/task_arena.h>
#include <tbb/task_group.h>
#include <unistd.h>

#include <vector>

#include "core/job.hpp"

namespace heathmist {

void stand_back(int nice) { setpriority(PRIO_PROCESS, id_t(syscall(SYS_gettid)), nice); }

#ifdef __SANITIZE_THREAD__

void set_pool_nice(int) {}

/// The sanitizer does not see how the pool hands work over: plain threads, that it sees.
void on_pool(int others, const std::function<void()>& loop) {
  std::vector<std::jthread> threads;
  for (int n = 0; n < others; ++n) threads.emplace_back(loop);
  loop();
}

#else

namespace {

std::atomic<int> pool_nice{0};

void stand_back_in_pool() {
  thread_local int now = 0;
  const int wanted = pool_nice;
  if (std::exchange(now, wanted) != wanted) stand_back(wanted);
}

}  // namespace

void set_pool_nice(int nice) { pool_nice = nice; }

void on_pool(int others, const std::function<void()>& loop) {
  if (others < 1) return loop();
  const auto here = std::this_thread::get_id();
  tbb::this_task_arena::isolate([&] {  // who waits here takes no work from elsewhere on
    tbb::task_group group;
    for (int n = 0; n < others; ++n)
      group.run([&] {
        if (std::this_thread::get_id() != here) stand_back_in_pool();
        loop();
      });
    loop();
    group.wait();
  });
}

#endif

}  // namespace heathmist
