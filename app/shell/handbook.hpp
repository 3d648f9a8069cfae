// The handbook in a window of its own: docs/handbook, a chapter a page.
#pragma once
#include <QDialog>
#include <QListWidget>
#include <QTextBrowser>
#include <vector>

namespace heathmist::app {

struct Chapter {
  QString title, key;  ///< the key is that of its page
};

class Handbook : public QDialog {
  Q_OBJECT

 public:
  /// In the order of the table of contents.
  static std::vector<Chapter> chapters();
  explicit Handbook(QWidget* parent);
  /// By the key of its page; the first one where there is none of that key.
  void open_chapter(const QString& key);
  void go_to_term(const QString& key);  ///< in the chapter of terms
  QString chapter() const;              ///< the key of the one that is shown
  QListWidget* list() const { return list_; }
  QTextBrowser* text() const { return text_; }

 private:
  void follow(const QUrl& to);
  QListWidget* list_;
  QTextBrowser* text_;
};

}  // namespace heathmist::app
