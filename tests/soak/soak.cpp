// The real window, driven by seeded chance over its pages, commands, dialogs, keys and files, for as many minutes as
// wanted: what it holds stays true, and it does not grow. Says what was done, and what was found; ends with 1 for that.
//
//   heathmist-soak MINUTES [SEED [TRIALS]]
//
// TRIALS: how many the bench has beside a handful.
//
// HEATHMIST_SOAK_SHOW: each step is said as it is done. HEATHMIST_SOAK_ONLY: deeds by name, no others.
#include <QtTest>
#include <cstdio>

#include "tests/soak/life.hpp"
#include "tests/soak/truths.hpp"

using namespace heathmist;
using namespace heathmist::soak;

namespace {

using Clock = std::chrono::steady_clock;

constexpr double learned_min = 10;  // by then what is kept is kept: from there on nothing grows
constexpr int64_t most_bytes = int64_t(600) << 20;

double minutes_since(Clock::time_point start) {
  return std::chrono::duration<double>(Clock::now() - start).count() / 60;
}

void report(const Life& life, const std::vector<QString>& faults, const Size& early, const Size& late) {
  std::printf("%d steps; %d dialogs opened, %d files changed, %d times the device was lost; %d times all was checked\n",
              life.steps(), life.dialogs(), life.files_changed(), life.devices_lost(), life.checks());
  std::printf("memory %lld to %lld MiB, handles %d to %d, threads %d to %d\n", (long long)(early.bytes >> 20),
              (long long)(late.bytes >> 20), early.handles, late.handles, early.threads, late.threads);
  for (const QString& fault : faults) std::printf("FAULT: %s\n", qPrintable(fault));
  std::printf(faults.empty() ? "nothing wrong\n" : "%zu faults\n", faults.size());
}

}  // namespace

int main(int argc, char** argv) {
  QApplication app(argc, argv);
  const double minutes = argc > 1 ? std::atof(argv[1]) : 1;
  const auto seed = argc > 2 ? std::strtoull(argv[2], nullptr, 10) : 1;
  if (!(minutes > 0)) {
    std::fprintf(stderr, "heathmist-soak: for how many minutes? heathmist-soak MINUTES [SEED [TRIALS]]\n");
    return 2;
  }
  Life life(seed, argc > 3 ? std::atoi(argv[3]) : 0);
  const auto start = Clock::now();
  std::vector<QString> faults;
  std::optional<Size> early;
  Size late;
  while (minutes_since(start) < minutes && faults.size() < 20) {
    for (int n = 0; n < 60 && minutes_since(start) < minutes; ++n) life.step();
    for (const QString& fault : life.check()) faults.push_back(fault);
    late = size_now();
    if (qEnvironmentVariableIsSet("HEATHMIST_SOAK_SHOW"))
      qInfo("after %d steps: %lld MiB, %d handles, %d threads", life.steps(), (long long)(late.bytes >> 20),
            late.handles, late.threads);
    if (!early && minutes_since(start) > learned_min) early = late;
  }
  for (const QString& fault : life.end()) faults.push_back(fault);
  if (late.bytes > most_bytes) faults.push_back(QString("it takes %1 MiB").arg(late.bytes >> 20));
  if (early)
    for (const QString& fault : growth(*early, late)) faults.push_back(fault);
  report(life, faults, early.value_or(late), late);
  return faults.empty() ? 0 : 1;
}
