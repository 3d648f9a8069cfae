// For each master the files that should exist: a row a master, a column each; missing, faulty and older ones told.
#pragma once
#include <QLabel>
#include <QPushButton>

#include "app/model/file_watch.hpp"
#include "app/model/long_work.hpp"
#include "app/pages/file_row.hpp"
#include "app/widgets/result_table.hpp"
#include "core/delivery/deliverables.hpp"

namespace heathmist::app {

class DeliverablesView : public QWidget {
  Q_OBJECT

 public:
  explicit DeliverablesView(Queue& queue, QWidget* parent = nullptr);
  /// The masters of the bench with their earlier versions.
  void follow_bench(const std::vector<MasterVersions>& masters);
  void set_plan(const DeliveryPlan& plan);
  const DeliveryPlan& plan() const { return plan_; }
  FileRow* files() const { return files_; }
  ResultTable* table() const { return table_; }
  ResultTable* aside() const { return aside_; }
  QString headline() const { return headline_->text(); }
  void find();
  void edit_plan();
  bool is_running() const { return work_.is_running(); }

 signals:
  void rested();

 private:
  QWidget* make_head();
  void make_columns();
  void forget(const QString& why = {});
  void fill();
  QString words() const;
  Cell cell_of(size_t master, size_t wanted) const;
  QString csv() const;
  DeliveryPlan plan_;
  std::vector<MasterVersions> masters_;
  std::optional<Deliverables> found_;
  LongWork work_;
  FileWatch watch_;
  FileRow* files_;
  QLabel *headline_, *note_;
  QPushButton* find_;
  ResultTable *table_, *aside_;
};

/// What is asked for where nobody has said anything else.
DeliveryPlan usual_plan();

}  // namespace heathmist::app
