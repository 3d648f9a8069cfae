// The setting matrix: masters and probes by chains, one number a cell, each cell the way to its trial.
#pragma once
#include <QComboBox>
#include <QLabel>
#include <QMenu>
#include <QPushButton>
#include <set>

#include "app/model/long_work.hpp"
#include "app/plots/graph_plate.hpp"
#include "app/widgets/result_table.hpp"
#include "core/bench/document.hpp"
#include "core/boards/matrix.hpp"

namespace heathmist::app {

class MatrixView : public QWidget {
  Q_OBJECT

 public:
  explicit MatrixView(Queue& queue, QWidget* parent = nullptr);
  /// What can be run: the bench's masters and kept chains (or the common settings).
  void show_bench(const Bench& bench);
  void start();
  void cancel() { work_.cancel(); }
  bool is_running() const { return work_.is_running(); }
  void choose_value(MatrixValue value) { value_->setCurrentIndex(int(value)); }
  /// What was made of it is not what it holds any more.
  void forget(const std::filesystem::path& file);
  /// Which rows are in: masters and probes by name.
  void set_row(const QString& name, bool in);
  const Matrix& matrix() const { return matrix_; }
  ResultTable* table() const { return table_; }
  GraphPlate* plate() const { return plate_; }
  QString note() const { return note_->text(); }

 signals:
  void opened(const heathmist::MatrixRow& row, const heathmist::Chain& chain);
  void rested();
  void recalled();  ///< what was found before is shown

 private:
  void set_up();
  void recall();
  void take(size_t row, size_t column, const MatrixCell& cell);
  void show_columns();
  Cell cell_of(size_t row, size_t column) const;
  void fill();
  void draw();
  void save_csv();
  void fill_rows_menu();
  void fill_columns_menu();
  void refresh_state();
  LongWork work_, recalling_;
  std::vector<MatrixRow> known_rows_;
  std::vector<Chain> known_columns_;
  std::set<QString> rows_out_, columns_out_;
  Matrix matrix_;
  size_t done_ = 0;
  QComboBox* value_;
  QLabel* note_;
  QPushButton* run_;
  QMenu *rows_menu_, *columns_menu_;
  double least_ = 0, most_ = 0;  // of what the cells show
  ResultTable* table_;
  GraphPlate* plate_;
};

}  // namespace heathmist::app
