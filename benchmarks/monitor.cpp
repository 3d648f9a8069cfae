#include "benchmarks/monitor.hpp"

#include <chrono>
#include <ctime>
#include <thread>

#include "core/devices/monitor.hpp"

namespace heathmist::bench {

double monitoring_share() {
  constexpr double times = 5, wall_s = 6;  // its clock runs faster, so that little is measured often
  MonitorPlan plan{.history_s = 600};
  plan.stream = {.input = loop_name(), .sample_rate_hz = 48000};
  plan.stream.loop.noise_dbfs = -30, plan.stream.loop.clock = times;
  const Monitor monitor(plan);
  const double from_s = monitor.reading().seconds;
  const std::clock_t before = std::clock();
  for (int n = 0; n < int(wall_s * 20 * times); ++n) {
    std::this_thread::sleep_for(std::chrono::duration<double>(1 / (20 * times)));
    (void)monitor.reading();
  }
  const double work_s = double(std::clock() - before) / CLOCKS_PER_SEC;
  return work_s / (monitor.reading().seconds - from_s);
}

}  // namespace heathmist::bench
