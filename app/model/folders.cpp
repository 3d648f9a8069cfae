#include "app/model/folders.hpp"

#include <QCollator>
#include <QDateTime>
#include <QDir>
#include <QDirIterator>
#include <QSet>

namespace heathmist::app {

namespace {

constexpr int still_ms = 2000, again_ms = 15000;

bool is_audio(const QString& name) {
  static const QSet<QString> endings{"wav", "w64",  "rf64", "bwf", "aif",  "aiff", "caf", "flac", "mp3", "mp2",
                                     "aac", "m4a",  "ogg",  "oga", "opus", "wv",   "ac3", "eac3", "mp4", "mkv",
                                     "mka", "webm", "mov",  "mxf", "ts",   "avi",  "au",  "dsf",  "tta", "ape"};
  return endings.contains(QFileInfo(name).suffix().toLower());
}

QStringList folders_in(const QString& folder) {
  QStringList all{folder};
  QDirIterator below(folder, QDir::Dirs | QDir::NoDotAndDotDot | QDir::NoSymLinks, QDirIterator::Subdirectories);
  while (below.hasNext()) all << below.next();
  return all;
}

}  // namespace

QStringList audio_files_in(const QString& folder, QStringList* refused) {
  QStringList files;
  for (const QString& one : folders_in(folder)) {
    const QDir dir(one);
    if (refused && !QFileInfo(one).isReadable())
      *refused << QObject::tr("%1: this folder may not be read; check its permissions.").arg(one);
    for (const QString& name : dir.entryList(QDir::Files))
      if (is_audio(name)) files << dir.filePath(name);
  }
  QCollator order{QLocale(QLocale::English)};  // 2 before 10, which that of C does not know
  order.setNumericMode(true);
  std::sort(files.begin(), files.end(), order);
  return files;
}

QStringList audio_files_of(const QStringList& files_and_folders, QStringList* refused) {
  QStringList files;
  for (const QString& one : files_and_folders) {
    if (!QFileInfo(one).isDir()) {
      files << one;
      continue;
    }
    const QStringList in_it = audio_files_in(one, refused);
    if (in_it.isEmpty() && refused && QFileInfo(one).isReadable())
      *refused << QObject::tr("%1: there is no audio in this folder.").arg(one);
    files << in_it;
  }
  files.removeDuplicates();
  return files;
}

FolderWatch::FolderWatch(QObject* parent) : QObject(parent) {
  set_patience(still_ms, again_ms);
  connect(&watcher_, &QFileSystemWatcher::directoryChanged, this, &FolderWatch::look);
  connect(&watcher_, &QFileSystemWatcher::fileChanged, this, &FolderWatch::look);
  connect(&again_timer_, &QTimer::timeout, this, &FolderWatch::look);
  connect(&still_timer_, &QTimer::timeout, this, &FolderWatch::look_still);
}

void FolderWatch::set_patience(int still, int again) {
  still_timer_.setInterval(still);
  again_timer_.setInterval(again);
}

std::optional<FolderWatch::Facts> FolderWatch::facts_of(const QString& file) {
  QFileInfo info(file);
  info.setCaching(false);
  if (!info.isFile()) return {};
  return Facts{info.size(), info.lastModified().toMSecsSinceEpoch()};
}

void FolderWatch::watch(const QString& folder) {
  if (const QStringList held = watcher_.directories() + watcher_.files(); !held.isEmpty()) watcher_.removePaths(held);
  told_.clear(), pending_.clear();
  still_timer_.stop(), again_timer_.stop();
  folder_ = folder.isEmpty() ? QString() : QFileInfo(folder).absoluteFilePath();
  is_there_ = !folder_.isEmpty() && QFileInfo(folder_).isDir();
  if (folder_.isEmpty()) return;
  again_timer_.start();
  look();
}

void FolderWatch::look() {
  const bool there = QFileInfo(folder_).isDir();
  if (there != is_there_) {
    is_there_ = there;
    there ? emit came_back(folder_) : emit vanished(folder_);
  }
  if (!there) return;
  const QStringList folders = folders_in(folder_), held = watcher_.directories();
  QStringList fresh;
  for (const QString& one : folders)
    if (!held.contains(one)) fresh << one;
  if (!fresh.isEmpty()) watcher_.addPaths(fresh);
  std::map<QString, Facts> now;
  for (const QString& file : audio_files_in(folder_))
    if (const auto facts = facts_of(file)) now.emplace(file, *facts);
  std::erase_if(told_, [&](const auto& one) { return !now.contains(one.first); });  // days are long
  std::erase_if(pending_, [&](const auto& one) { return !now.contains(one.first); });
  for (const auto& [file, facts] : now)
    if (const auto told = told_.find(file); (told == told_.end() || told->second != facts) && !pending_.contains(file))
      pending_[file] = facts;
  if (!pending_.empty() && !still_timer_.isActive()) still_timer_.start();
}

void FolderWatch::look_still() {
  QStringList whole;
  for (auto one = pending_.begin(); one != pending_.end();) {
    const auto now = facts_of(one->first);
    if (now && *now == one->second && now->bytes > 0) {
      told_[one->first] = *now;
      whole << one->first;
      one = pending_.erase(one);
    } else if (!now) {
      one = pending_.erase(one);
    } else {
      (one++)->second = *now;
    }
  }
  if (pending_.empty()) still_timer_.stop();
  for (const QString& file : whole) emit arrived(file);
}

}  // namespace heathmist::app
