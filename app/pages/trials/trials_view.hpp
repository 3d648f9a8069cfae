// All trials of the bench side by side: one table, and the depth of those that are chosen on one plate.
#pragma once
#include <QComboBox>
#include <QLabel>
#include <map>

#include "app/model/row_state.hpp"
#include "app/plots/lines_plate.hpp"
#include "app/widgets/result_table.hpp"

namespace heathmist::app {

class TrialsView : public QWidget {
  Q_OBJECT

 public:
  enum Column {
    master_column,
    trial_column,
    kind_column,
    causes_column,
    depth_column,
    band_column,
    remainder_column,
    delay_column,
    gain_column,
    drift_column,
    reach_column,
    word_column,
    columns
  };

  explicit TrialsView(QWidget* parent = nullptr);
  void show_bench(const Bench& bench, const std::map<std::string, RowState>& states);
  ResultTable* table() const { return table_; }
  LinesPlate* plate() const { return plate_; }
  QComboBox* band() const { return band_; }
  QString csv() const;

 signals:
  void opened(const QString& trial_id);  ///< Enter or double click: to its null

 protected:

 private:
  struct Line {
    std::string id;
    QString master, trial;
    TrialSummary summary;
  };
  std::vector<app::Column> columns_shown();
  void fill();
  void draw();
  void save_csv();
  std::optional<double> in_band(const TrialSummary& summary) const;
  std::vector<Line> lines_;
  ResultTable* table_;
  QComboBox* band_;
  QLabel* note_;
  LinesPlate* plate_;
};

}  // namespace heathmist::app
