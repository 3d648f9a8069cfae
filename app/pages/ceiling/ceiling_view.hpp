// The ceiling search of one master: which gain keeps every encode under the limit, with the curve that proves it.
#pragma once
#include <QComboBox>
#include <QDoubleSpinBox>
#include <QLabel>
#include <QPushButton>
#include <QSplitter>

#include "app/model/long_work.hpp"
#include "app/plots/graph_plate.hpp"
#include "app/widgets/result_table.hpp"
#include "core/delivery/ceiling.hpp"

namespace heathmist::app {

class CeilingView : public QWidget {
  Q_OBJECT

 public:
  explicit CeilingView(Queue& queue, QWidget* parent = nullptr);
  /// What is searched: a master's file, and the chains that a search makes sense for.
  void set_subject(const QString& name, const std::filesystem::path& file, const std::vector<Chain>& chains);
  /// What was found of it is not what it holds any more.
  void forget(const std::filesystem::path& file);
  void start();
  void cancel() { work_.cancel(); }
  bool is_running() const { return work_.is_running(); }
  const Ceiling& found() const { return found_; }
  QString headline() const { return headline_->text(); }
  ResultTable* table() const { return table_; }
  ResultTable* moments() const { return moments_; }
  GraphPlate* plate() const { return plate_; }
  QDoubleSpinBox* limit() const { return limit_; }
  QComboBox* means() const { return means_; }

 signals:
  void opened(const heathmist::Chain& chain, double at_s);  ///< to the trial of that chain; at_s < 0: no moment
  void rested();
  void recalled();  ///< what was found before is shown

 private:
  CeilingOptions options() const;
  void ask();
  void recall();
  void take(size_t place, const CeilingAnswer& answer);
  void show_found();
  void make_tables(QSplitter* split);
  Cell answer_cell(const CeilingAnswer& answer) const;
  void draw();
  void show_moments();
  void refresh_state();
  LongWork work_, recalling_;
  QString name_;
  std::filesystem::path file_;
  std::vector<Chain> chains_;
  Ceiling found_;
  std::vector<Over> worst_;  // moments of the chain that is chosen
  size_t worst_of_ = 0;
  QLabel *headline_, *note_;
  QDoubleSpinBox* limit_;
  QComboBox* means_;
  QPushButton* run_;
  ResultTable *table_, *moments_;
  GraphPlate* plate_;
};

}  // namespace heathmist::app
