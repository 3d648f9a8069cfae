// Folders of audio: what is in them, and what comes.
#pragma once
#include <QElapsedTimer>
#include <QFileSystemWatcher>
#include <QObject>
#include <QStringList>
#include <QTimer>
#include <map>

#include "app/model/file_facts.hpp"
#include "app/model/long_work.hpp"

namespace heathmist::app {

/// The audio files of a folder and all below it, by their endings, in the order of their names; hidden ones and links
/// to folders are left out. What could not be looked into is told to `refused`, a sentence each.
QStringList audio_files_in(const QString& folder, QStringList* refused = nullptr);

/// What somebody dropped or named: folders stand for the audio in them.
QStringList audio_files_of(const QStringList& files_and_folders, QStringList* refused = nullptr);

/// What was dropped or chosen, as files: folders are looked through off the interface thread, in the order they came.
class FolderListing : public QObject {
  Q_OBJECT

 public:
  explicit FolderListing(Queue& queue, QObject* parent = nullptr);
  /// Where there is no folder in it, and none is looked through yet, they are listed before this returns.
  void list(const QStringList& files_and_folders);
  bool is_running() const { return work_.is_running(); }

 signals:
  void begun();  ///< a folder is looked through
  void listed(const QStringList& files, const QStringList& refused);
  void ended();  ///< none is looked through any more

 private:
  void look();
  QStringList wanted_;
  LongWork work_;
};

/// Watches one folder and all below it, for days: tells of each audio file that came or was replaced, once it has been
/// still for a while and is whole by that. A folder that vanishes is told, and watched again when it is back. It is
/// looked at again at times besides: folders over a network tell nothing, and may take long to look through, which is
/// done off the interface thread.
class FolderWatch : public QObject {
  Q_OBJECT

 public:
  explicit FolderWatch(Queue& queue, QObject* parent = nullptr);
  /// Files that are there already are told, too. Empty: none is watched.
  void watch(const QString& folder);
  const QString& folder() const { return folder_; }
  bool is_there() const { return is_there_; }
  /// How long a file must not change, and how often all is looked at again.
  void set_patience(int still_ms, int again_ms) { still_ms_ = still_ms, again_ms_ = again_ms; }

 signals:
  void arrived(const QString& file);
  void vanished(const QString& folder);
  void came_back(const QString& folder);

 private:
  struct Content {
    bool is_there = false;
    QStringList folders;
    std::map<QString, FileFacts> files;
  };
  struct Pending {
    FileFacts facts;
    QElapsedTimer since;  // they are these
  };
  static Content content_of(const QString& folder, const Job& job);
  void look();
  void take(const Content& content);
  QStringList whole_of(const Content& content);

  QString folder_;
  bool is_there_ = false, look_again_ = false;
  int still_ms_, again_ms_;
  QFileSystemWatcher watcher_;
  std::map<QString, FileFacts> told_;
  std::map<QString, Pending> pending_;
  QTimer timer_;
  LongWork work_;
};

}  // namespace heathmist::app
