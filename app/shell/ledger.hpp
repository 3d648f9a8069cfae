// The ledger: masters, and under each its trials with kind and depth gauge.
#pragma once
#include <QLabel>
#include <QListWidget>
#include <QStyledItemDelegate>
#include <map>

#include "app/model/row_state.hpp"

namespace heathmist::app {

class Ledger : public QWidget {
  Q_OBJECT

 public:
  explicit Ledger(QWidget* parent = nullptr);
  void show_bench(const Bench& bench, const std::map<std::string, RowState>& states);
  void select(const std::string& id);
  std::string selected() const;  ///< id of a trial or a master; empty: none
  /// What a trial's row says: its kind and how deep the residual lies, or why it says nothing.
  QString said_of(const std::string& id) const;
  QListWidget* list() const { return list_; }

 signals:
  void chosen(const QString& id);
  void menu_wanted(const QString& id, const QPoint& at);
  void remove_wanted(const QString& id);
  void rename_wanted(const QString& id);

 protected:
  bool eventFilter(QObject* watched, QEvent* event) override;

 private:
  QListWidget* list_;
  QLabel* count_;
};

}  // namespace heathmist::app
