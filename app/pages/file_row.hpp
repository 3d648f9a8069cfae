// A row of files in a page: dropped, added and taken away.
#pragma once
#include <QLabel>
#include <QListWidget>

#include "app/model/folders.hpp"

namespace heathmist::app {

/// A row of files that are dropped, added and taken away.
class FileRow : public QWidget {
  Q_OBJECT

 public:
  FileRow(Queue& queue, const QString& name, const QString& empty, QWidget* parent);
  const QStringList& files() const { return files_; }
  void set_files(const QStringList& files);
  void add(const QStringList& files_and_folders);
  bool is_listing() const { return listing_.is_running(); }  ///< folders are looked through: more files will come

 signals:
  void changed();
  void listing_changed();
  void refused(const QString& sentence);

 protected:
  void dragEnterEvent(QDragEnterEvent* event) override;
  void dropEvent(QDropEvent* event) override;
  void keyPressEvent(QKeyEvent* event) override;

 private:
  void take(const QStringList& files, const QStringList& refused);
  void show_count();
  FolderListing listing_;
  QStringList files_;
  QString empty_;
  QListWidget* list_;
  QLabel* count_;
};

}  // namespace heathmist::app
