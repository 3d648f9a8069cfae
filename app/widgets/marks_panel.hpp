// Marks: the notes of a master in the order of time; a click or Enter goes there.
#pragma once
#include <QLabel>
#include <QListWidget>

#include "core/bench/document.hpp"

namespace heathmist::app {

class MarksPanel : public QWidget {
  Q_OBJECT

 public:
  explicit MarksPanel(QWidget* parent = nullptr);
  /// `trial`: the one that is looked at; what was noted of another says so, by the name `title_of_trial` gives.
  void show_marks(const std::vector<Mark>& marks, const std::string& trial,
                  const std::function<QString(const std::string&)>& title_of_trial);
  QListWidget* list() const { return list_; }
  std::string chosen() const;  ///< id; empty: none

 signals:
  void opened(const QString& id);
  void wording_wanted(const QString& id);
  void removal_wanted(const QString& id);

 protected:
  bool eventFilter(QObject* watched, QEvent* event) override;

 private:
  void show_menu(const QPoint& at);
  QLabel *count_, *empty_;
  QListWidget* list_;
};

/// "0:12.40", "0:12.40 to 0:15.00".
QString place_of(const Mark& mark);

}  // namespace heathmist::app
