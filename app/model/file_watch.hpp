// Watches files: says which were changed, replaced, came or went, once they have been still for a moment.
#pragma once
#include <QFileSystemWatcher>
#include <QObject>
#include <QTimer>
#include <filesystem>
#include <map>
#include <optional>
#include <vector>

namespace heathmist::app {

class FileWatch : public QObject {
  Q_OBJECT

 public:
  explicit FileWatch(QObject* parent = nullptr);
  /// These files, and no others.
  void watch(const std::vector<std::filesystem::path>& files);

 signals:
  void settled(const QString& file);

 private:
  /// What tells at once that a file was touched; nothing: it is not there.
  struct Facts {
    qint64 bytes = 0, changed_ms = 0;
    bool operator==(const Facts&) const = default;
  };
  static std::optional<Facts> facts_of(const QString& file);
  void touched(const QString& file);
  void look_into(const QString& folder);
  void look();

  QFileSystemWatcher watcher_;
  std::vector<std::filesystem::path> files_;
  std::map<QString, QStringList> names_;             // of the sounds that are meant in a file
  std::map<QString, std::optional<Facts>> known_;    // of all that are watched, as last told
  std::map<QString, std::optional<Facts>> pending_;  // as they were when last looked at
  QTimer timer_;
};

}  // namespace heathmist::app
