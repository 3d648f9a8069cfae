#include "app/model/folders.hpp"

#include <QCollator>
#include <QDir>
#include <QDirIterator>
#include <utility>

#include "app/widgets/audio_files.hpp"

namespace heathmist::app {

namespace {

constexpr int usual_still_ms = 2000, usual_again_ms = 15000;

bool is_audio(const QString& name) { return audio_endings().contains(QFileInfo(name).suffix().toLower()); }

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

FolderListing::FolderListing(Queue& queue, QObject* parent) : QObject(parent), work_(queue) {
  connect(&work_, &LongWork::ended, this, [this] { wanted_.isEmpty() ? emit ended() : look(); });
}

void FolderListing::list(const QStringList& files_and_folders) {
  const bool any_folder = std::any_of(files_and_folders.begin(), files_and_folders.end(),
                                      [](const QString& one) { return QFileInfo(one).isDir(); });
  if (!any_folder && !is_running()) return emit listed(files_and_folders, {});
  wanted_ << files_and_folders;
  if (!is_running()) look();
}

void FolderListing::look() {
  work_.start([this, names = std::exchange(wanted_, {})](const Job&, const Tell& tell) {
    QStringList refused;
    const QStringList files = audio_files_of(names, &refused);
    tell([this, files, refused] { emit listed(files, refused); });
  });
  emit begun();
}

FolderWatch::FolderWatch(Queue& queue, QObject* parent)
    : QObject(parent), still_ms_(usual_still_ms), again_ms_(usual_again_ms), work_(queue) {
  timer_.setSingleShot(true);
  connect(&timer_, &QTimer::timeout, this, &FolderWatch::look);
  connect(&watcher_, &QFileSystemWatcher::directoryChanged, this, &FolderWatch::look);
  connect(&work_, &LongWork::ended, this, [this] {
    if (folder_.isEmpty()) return;
    if (std::exchange(look_again_, false)) return look();
    timer_.start(pending_.empty() ? again_ms_ : still_ms_);
  });
}

void FolderWatch::watch(const QString& folder) {
  work_.drop();
  timer_.stop();
  if (const QStringList held = watcher_.directories(); !held.isEmpty()) watcher_.removePaths(held);
  told_.clear(), pending_.clear();
  look_again_ = false;
  folder_ = folder.isEmpty() ? QString() : QFileInfo(folder).absoluteFilePath();
  is_there_ = !folder_.isEmpty();
  if (is_there_) look();
}

FolderWatch::Content FolderWatch::content_of(const QString& folder, const Job& job) {
  Content content;
  content.is_there = QFileInfo(folder).isDir();
  if (!content.is_there) return content;
  content.folders = folders_in(folder);
  for (const QString& file : audio_files_in(folder)) {
    job.check();
    if (const auto facts = facts_of(file)) content.files.emplace(file, *facts);
  }
  return content;
}

void FolderWatch::look() {
  if (work_.is_running()) return void(look_again_ = true);
  work_.start([this, folder = folder_](const Job& job, const Tell& tell) {
    const auto content = std::make_shared<const Content>(content_of(folder, job));
    tell([this, content] { take(*content); });
  });
}

void FolderWatch::take(const Content& content) {
  if (content.is_there != is_there_) {
    is_there_ = content.is_there;
    is_there_ ? emit came_back(folder_) : emit vanished(folder_);
  }
  if (!is_there_) return;
  const QStringList held = watcher_.directories();
  QStringList fresh;
  for (const QString& one : content.folders)
    if (!held.contains(one)) fresh << one;
  if (!fresh.isEmpty()) watcher_.addPaths(fresh);
  for (const QString& file : whole_of(content)) emit arrived(file);
}

/// What came, or is another than was told, and has been still for long enough.
QStringList FolderWatch::whole_of(const Content& content) {
  const auto is_gone = [&](const auto& one) { return !content.files.contains(one.first); };
  std::erase_if(told_, is_gone), std::erase_if(pending_, is_gone);  // days are long
  QStringList whole;
  for (const auto& [file, facts] : content.files) {
    const auto told = told_.find(file);
    if (facts.bytes == 0 || (told != told_.end() && told->second == facts)) continue;  // nothing, or nothing new
    const auto [waiting, is_new] = pending_.try_emplace(file);
    if (is_new || waiting->second.facts != facts) {
      waiting->second.facts = facts;
      waiting->second.since.start();
    } else if (waiting->second.since.elapsed() >= still_ms_) {
      told_[file] = facts;
      pending_.erase(waiting);
      whole << file;
    }
  }
  return whole;
}

}  // namespace heathmist::app
