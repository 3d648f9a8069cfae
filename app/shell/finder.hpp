// "Find or do anything": every action and every trial by a few letters.
#pragma once
#include <QDialog>
#include <QLineEdit>
#include <QListWidget>
#include <functional>

namespace heathmist::app {

struct FinderEntry {
  QString title, hint;
  std::function<void()> run;
};

class Finder : public QDialog {
  Q_OBJECT

 public:
  Finder(std::vector<FinderEntry> entries, QWidget* parent);

 protected:
  bool eventFilter(QObject* watched, QEvent* event) override;

 private:
  void filter(const QString& letters);
  void run_current();
  std::vector<FinderEntry> entries_;
  QLineEdit* edit_;
  QListWidget* list_;
};

}  // namespace heathmist::app
