// Editing what should exist of each master.
#pragma once
#include <QDialog>
#include <QLabel>
#include <QTableWidget>

#include "core/delivery/deliverables.hpp"

namespace heathmist::app {

class PlanForm : public QDialog {
  Q_OBJECT

 public:
  explicit PlanForm(const DeliveryPlan& plan, QWidget* parent = nullptr);
  /// What the rows say; rules that have no column stay as they came. Throws RulesError.
  DeliveryPlan plan() const;
  void show_plan(const DeliveryPlan& plan);
  void add_row();
  QTableWidget* table() const { return table_; }
  void accept() override;

 private:
  void open();
  void save();
  bool is_good();              ///< else it is said why not
  std::vector<Rules> before_;  // of each row; what has no column is kept
  QTableWidget* table_;
  QLabel* fault_;
};

}  // namespace heathmist::app
