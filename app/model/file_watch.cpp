#include "app/model/file_watch.hpp"

#include <QFileInfo>

#include "core/audio/sound_name.hpp"

namespace heathmist::app {

namespace {
constexpr int still_ms = 300;  // for so long a file must not change
}

FileWatch::FileWatch(QObject* parent) : QObject(parent) {
  timer_.setInterval(still_ms);
  connect(&timer_, &QTimer::timeout, this, &FileWatch::look);
  connect(&watcher_, &QFileSystemWatcher::fileChanged, this, &FileWatch::touched);
  connect(&watcher_, &QFileSystemWatcher::directoryChanged, this, &FileWatch::look_into);
}

void FileWatch::watch(const std::vector<std::filesystem::path>& files) {
  if (files == files_) return;
  files_ = files;
  std::map<QString, std::optional<FileFacts>> wanted;
  QStringList paths, held = watcher_.files() + watcher_.directories();
  names_.clear();
  for (const auto& path : files) {
    const QString file = QString::fromStdString(file_behind(path).string());
    names_[file] << QString::fromStdString(path.string());
    const auto known = known_.find(file);
    wanted.emplace(file, known == known_.end() ? facts_of(file) : known->second);
    paths << file << QFileInfo(file).absolutePath();  // a file that is replaced is lost, and found by its folder
  }
  paths.removeDuplicates();
  const QSet<QString> all(paths.begin(), paths.end()), old(held.begin(), held.end());
  if (const auto gone = (old - all).values(); !gone.isEmpty()) watcher_.removePaths(gone);
  if (const auto fresh = (all - old).values(); !fresh.isEmpty()) watcher_.addPaths(fresh);
  known_ = std::move(wanted);
  std::erase_if(pending_, [&](const auto& p) { return !known_.count(p.first); });
}

void FileWatch::take_as_known() {
  for (auto& [file, facts] : known_) facts = facts_of(file);
  pending_.clear();
}

void FileWatch::touched(const QString& file) {
  if (!known_.count(file)) return;
  pending_[file] = facts_of(file);
  timer_.start();
}

void FileWatch::look_into(const QString& folder) {
  for (const auto& [file, facts] : known_)
    if (QFileInfo(file).absolutePath() == folder && !pending_.count(file) && facts_of(file) != facts) touched(file);
}

void FileWatch::look() {
  QStringList still;
  for (auto& [file, before] : pending_) {
    const auto now = facts_of(file);
    if (now == before) still << file;
    before = now;
  }
  for (const QString& file : still) {
    const bool is_news = known_[file] != pending_[file];
    known_[file] = pending_[file];
    pending_.erase(file);
    if (known_[file] && !watcher_.files().contains(file)) watcher_.addPath(file);
    if (!is_news) continue;
    for (const QString& name : QStringList(names_[file])) emit settled(name);
  }
  if (pending_.empty()) timer_.stop();
}

}  // namespace heathmist::app
