// A row of files in a page: dropped, added and taken away.
#pragma once
#include <QLabel>
#include <QListWidget>

namespace heathmist::app {

/// A row of files that are dropped, added and taken away.
class FileRow : public QWidget {
  Q_OBJECT

 public:
  FileRow(const QString& name, const QString& empty, QWidget* parent);
  const QStringList& files() const { return files_; }
  void set_files(const QStringList& files);
  void add(const QStringList& files_and_folders);

 signals:
  void changed();
  void refused(const QString& sentence);

 protected:
  void dragEnterEvent(QDragEnterEvent* event) override;
  void dropEvent(QDropEvent* event) override;
  void keyPressEvent(QKeyEvent* event) override;

 private:
  QStringList files_;
  QString empty_;
  QListWidget* list_;
  QLabel* count_;
};

}  // namespace heathmist::app
