// The handbook in a window of its own: docs/handbook, a chapter a page.
#pragma once
#include <QDialog>
#include <QListWidget>
#include <QTextBrowser>

namespace heathmist::app {

class Handbook : public QDialog {
  Q_OBJECT

 public:
  explicit Handbook(QWidget* parent);
  /// By the key of its page; the first one where there is none of that key.
  void open_chapter(const QString& key);
  QString chapter() const;  ///< the key of the one that is shown
  QListWidget* list() const { return list_; }
  QTextBrowser* text() const { return text_; }

 private:
  void follow(const QUrl& to);
  QListWidget* list_;
  QTextBrowser* text_;
};

}  // namespace heathmist::app
