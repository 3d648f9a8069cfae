// What the workspace does with the bench's files: are they there, and do they hold what was measured?
#include <QTime>
#include <algorithm>

#include "app/model/workspace.hpp"
#include "core/audio/fingerprint.hpp"

namespace heathmist::app {

namespace {

/// The files beside the trials, each under a name of its own: renders of engines, impulse responses.
std::vector<std::pair<std::string, FileRef>> files_beside(const Bench& bench) {
  std::vector<std::pair<std::string, FileRef>> all;
  for (const TestedEngine& e : bench.engines)
    for (const EngineRender& r : e.renders)
      if (!r.render.file.empty()) all.emplace_back(r.id, r.render);
  for (const FileRef& r : bench.responses) all.emplace_back("response " + r.file.string(), r);
  return all;
}

}  // namespace

/// What a trial is made of.
std::vector<std::filesystem::path> Workspace::files_of(const Master& master, const Trial& trial) const {
  std::vector<std::filesystem::path> files = trial.chain ? files_read_by(*trial.chain) : std::vector{trial.ret.file};
  files.push_back(master.audio.file);
  return files;
}

bool Workspace::is_made_of(const Master& master, const Trial& trial, const std::filesystem::path& file) const {
  const auto files = files_of(master, trial);
  return std::find(files.begin(), files.end(), file) != files.end();
}

/// How often one of its files was seen to change.
int Workspace::version_of(const Master& master, const Trial& trial) const {
  int version = 0;
  for (const auto& file : files_of(master, trial))
    if (const auto it = versions_.find(file.native()); it != versions_.end()) version += it->second;
  return version;
}

void Workspace::look_at_files() {
  for (const Master& m : model_.bench().masters) {
    look_up(m.id, seen_[m.id] = m.audio);
    for (const Trial& t : m.trials)
      if (!t.chain) look_up(t.id, seen_[t.id] = t.ret);
  }
  for (const auto& [name, ref] : files_beside(model_.bench())) look_up(name, seen_[name] = ref);
}

void Workspace::look_up_what_is_new_beside() {
  for (const auto& [name, ref] : files_beside(model_.bench()))
    if (auto& seen = seen_[name]; !(seen == ref)) look_up(name, seen = ref);
}

/// Looking at files is done in the order in which it was asked for, one at a time.
void Workspace::with_files(const std::string& key, std::function<void(const Tell&)> work) {
  Request request{Priority::background, [work = std::move(work)](const Job&, const Tell& tell) { work(tell); }};
  request.key = key;
  request.group = "files";
  queue_.post(std::move(request));
}

/// Is the file there, is it the one it was? A file that is new to the bench gets its fingerprint.
void Workspace::look_up(const std::string& id, const FileRef& ref) {
  with_files("file " + id, [this, id, ref](const Tell& tell) {
    const FileState found = state_of(ref);
    const std::string now = fingerprint(ref.file), known = ref.fingerprint.empty() ? now : ref.fingerprint;
    tell([this, id, ref, found, known, now] {
      auto& seen = seen_[id];
      if (!(seen == ref)) return;  // pointed elsewhere meanwhile
      prints_.try_emplace(ref.file.native(), now);
      seen.fingerprint = known;
      state(id).file = found;
      if (ref.fingerprint.empty()) model_.learn_fingerprint(ref.file, known);
      tell_rows_soon();
    });
  });
}

/// Whether files hold what they held when they were last looked at; what was made of those that do not is measured
/// anew.
void Workspace::look_for_changes(const std::vector<std::filesystem::path>& files) {
  for (const auto& file : files)
    with_files("print " + file.string(), [this, file](const Tell& tell) {
      tell([this, file, print = fingerprint(file)] { take_fingerprint(file, print); });
    });
}

void Workspace::take_fingerprint(const std::filesystem::path& file, const std::string& print) {
  const auto [known, first] = prints_.try_emplace(file.native(), print);
  if (first || known->second == print) return retry_failed_of(file);
  known->second = print;
  const bool there = !print.empty();
  if (there) ++versions_[file.native()], model_.learn_fingerprint(file, print);
  const QString now = QTime::currentTime().toString("HH:mm");
  const auto rows = tell_rows_of(file, there, now);
  const auto& floor = model_.bench().floor;
  const bool of_floor = floor && (floor->recording.file == file || (floor->master && floor->master->file == file));
  const auto beside = files_beside(model_.bench());
  const bool is_beside =
      std::any_of(beside.begin(), beside.end(), [&](const auto& b) { return b.second.file == file; });
  if (rows.empty() && !of_floor && !is_beside) return;
  stopped_ = false;
  refresh();
  if (!there) return;  // what was measured of it stays, and is said to be missing
  emit file_changed(QString::fromStdString(file.string()),
                    tr("%1 changed at %2: what hangs on it is measured anew.")
                        .arg(QString::fromStdString(file.filename().string()), now));
  if (of_floor || rows.count(current_)) request_current();
}

/// Says so in the rows of a file that came, went or changed; their ids.
std::set<std::string> Workspace::tell_rows_of(const std::filesystem::path& file, bool there, const QString& now) {
  std::set<std::string> rows;
  const auto tell = [&](const std::string& id) -> RowState& {
    rows.insert(id);
    RowState& row = state(id);
    if (there) row.anew = now, row.failure.clear();
    return row;
  };
  const FileState found = there ? FileState::present : FileState::missing;
  for (const Master& m : model_.bench().masters) {
    if (m.audio.file == file) tell(m.id).file = found, seen_[m.id] = m.audio;
    for (const Trial& t : m.trials) {
      if (!is_made_of(m, t, file)) continue;
      RowState& row = tell(t.id);
      if (!t.chain && t.ret.file == file) row.file = found, seen_[t.id] = t.ret;
    }
  }
  return rows;
}

/// It was touched and holds what it held: what failed on it while it was being written may go well now.
void Workspace::retry_failed_of(const std::filesystem::path& file) {
  std::set<std::string> failed;
  for (const Master& m : model_.bench().masters)
    for (const Trial& t : m.trials)
      if (RowState& row = state(t.id); !row.failure.isEmpty() && !row.disarmed && is_made_of(m, t, file))
        row.failure.clear(), failed.insert(t.id);
  if (failed.empty()) return;
  emit rows_changed();
  if (failed.count(current_)) request_current();
  if (!results_.is_busy()) request_rest();
}

}  // namespace heathmist::app
