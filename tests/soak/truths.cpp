#include "tests/soak/truths.hpp"

#include <unistd.h>
#include <QFile>
#include <cmath>
#include <filesystem>

#include "app/pages/trials/trials_view.hpp"
#include "app/theme/theme.hpp"
#include "core/bench/summary.hpp"

namespace heathmist::soak {

namespace {

constexpr double least_growth = 1.35;  // of memory, that is no chance: pages and caches come and go
constexpr int64_t least_bytes = int64_t(64) << 20;
constexpr int few = 12;  // handles or threads

int entries_of(const char* folder) {
  int count = 0;
  std::error_code ignored;
  for ([[maybe_unused]] const auto& entry : std::filesystem::directory_iterator(folder, ignored)) ++count;
  return count;
}

QString level_text(const std::optional<double>& db) {
  return !db || *db <= -200 ? QString("nothing") : app::number(*db, 1);
}

}  // namespace

Size size_now() {
  Size size;
  QFile status("/proc/self/statm");
  if (status.open(QIODevice::ReadOnly))
    size.bytes = status.readAll().split(' ').value(1).toLongLong() * int64_t(sysconf(_SC_PAGESIZE));
  size.handles = entries_of("/proc/self/fd"), size.threads = entries_of("/proc/self/task");
  return size;
}

std::vector<QString> growth(const Size& early, const Size& late) {
  std::vector<QString> faults;
  if (double(late.bytes) > least_growth * double(early.bytes) && late.bytes - early.bytes > least_bytes)
    faults.push_back(QString("memory grew from %1 to %2 MiB").arg(early.bytes >> 20).arg(late.bytes >> 20));
  if (late.handles > early.handles + few)
    faults.push_back(QString("%1 file handles were open, %2 are").arg(early.handles).arg(late.handles));
  if (late.threads > early.threads + few)
    faults.push_back(QString("%1 threads ran, %2 do").arg(early.threads).arg(late.threads));
  return faults;
}

std::vector<QString> unlike_numbers(app::MainWindow& window) {
  std::vector<QString> faults;
  auto& workspace = window.workspace();
  const QStringList rows = window.part<app::TrialsView>()->table()->text(false).split('\n');
  for (const Master& m : workspace.bench().masters)
    for (const Trial& t : m.trials) {
      const auto state = workspace.states().find(t.id);
      const auto result = workspace.exact_result_of(t.id);
      if (state == workspace.states().end() || !state->second.summary || !result || !result->report) continue;
      const auto &told = *state->second.summary, now = summary_of(*result->report);
      const QString name = QString::fromStdString(m.name + ", " + title_of(t));
      if (level_text(told.residual_relative_db) != level_text(now.residual_relative_db))
        faults.push_back(QString("%1: the ledger says %2, its result %3")
                             .arg(name, level_text(told.residual_relative_db), level_text(now.residual_relative_db)));
      if (told.kind != now.kind)
        faults.push_back(QString("%1: the ledger says %2, its result %3")
                             .arg(name, QString::fromStdString(told.kind), QString::fromStdString(now.kind)));
      if (now.trusted && now.residual_relative_db && *now.residual_relative_db > -200 &&
          std::none_of(rows.begin(), rows.end(), [&](const QString& row) {
            return row.contains(QString::fromStdString(title_of(t))) &&
                   row.contains(app::number(*now.residual_relative_db, 1));
          }))
        faults.push_back(QString("%1: the table of trials has no %2").arg(name, level_text(now.residual_relative_db)));
    }
  return faults;
}

}  // namespace heathmist::soak
