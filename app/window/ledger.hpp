// The ledger: masters, and under each its trials with kind and depth gauge.
#pragma once
#include <QLabel>
#include <QListWidget>
#include <QStyledItemDelegate>
#include <map>

#include "core/bench/document.hpp"
#include "core/bench/summary.hpp"

namespace heathmist::app {

/// What a row says beyond the document.
struct RowState {
  FileState file = FileState::present;
  std::optional<TrialSummary> summary;
  QString facts;          ///< of a master: 1:12 · 96 kHz · 24 bit
  QString failure;        ///< of a trial: why it could not be run
  bool disarmed = false;  ///< of a trial: its chain holds a stage that may not run here
  bool running = false;
  bool looked_up = false;  ///< of a trial: it is known whether an earlier run kept its summary
  QString anew;            ///< of a trial: the time at which one of its files was seen to change
};

class Ledger : public QWidget {
  Q_OBJECT

 public:
  explicit Ledger(QWidget* parent = nullptr);
  void show_bench(const Bench& bench, const std::map<std::string, RowState>& states);
  void select(const std::string& id);
  std::string selected() const;  ///< id of a trial or a master; empty: none
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
