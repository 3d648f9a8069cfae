// Watches files: says which were changed, replaced, came or went, once they have been still for a moment.
#pragma once
#include <QFileSystemWatcher>
#include <QObject>
#include <QTimer>
#include <filesystem>
#include <map>
#include <optional>
#include <vector>

#include "app/model/file_facts.hpp"

namespace heathmist::app {

class FileWatch : public QObject {
  Q_OBJECT

 public:
  explicit FileWatch(QObject* parent = nullptr);
  /// These files, and no others.
  void watch(const std::vector<std::filesystem::path>& files);
  /// They are read afresh: what happened to them so far is not told any more.
  void take_as_known();

 signals:
  void settled(const QString& file);

 private:
  void touched(const QString& file);
  void look_into(const QString& folder);
  void look();

  QFileSystemWatcher watcher_;
  std::vector<std::filesystem::path> files_;
  std::map<QString, QStringList> names_;                 // of the sounds that are meant in a file
  std::map<QString, std::optional<FileFacts>> known_;    // of all that are watched, as last told
  std::map<QString, std::optional<FileFacts>> pending_;  // as they were when last looked at
  QTimer timer_;
};

}  // namespace heathmist::app
