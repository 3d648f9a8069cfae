#include "core/bench/versions.hpp"

#include <fmt/format.h>

namespace heathmist {

int version_of(const Master& master) { return int(master.earlier.size()) + 1; }

std::string take_new_version(Master& master, const FileRef& now) {
  const int before = version_of(master);
  const FileRef file = master.audio;
  master.earlier.push_back(file);
  master.audio = now;
  master.trials.push_back({fresh_id(), fmt::format("version {}", before), file, {}, {}, version_of(master)});
  return master.trials.back().id;
}

bool is_out_of_date(const Master& master, const Trial& trial) {
  return !trial.chain && trial.version < version_of(master);
}

std::optional<Finding> finding_of_version(const Master& master, const Trial& trial) {
  std::optional<Finding> finding;
  if (!is_out_of_date(master, trial)) return finding;
  Finding& f = finding.emplace();
  f.code = "version";
  f.severity = Severity::caution;
  f.text = fmt::format("This came back from version {} of the master, which is version {} now.", trial.version,
                       version_of(master));
  f.detail = "What the versions differ by is in these numbers, too; have it made again from the one that counts.";
  f.evidence = Evidence::words;
  return finding;
}

}  // namespace heathmist
