// The rows of a table of results, each cell worked out when it is first asked for; and their order.
#pragma once
#include <QAbstractTableModel>

#include "app/widgets/result_table.hpp"

namespace heathmist::app {

class ResultModel : public QAbstractTableModel {
  Q_OBJECT

 public:
  using QAbstractTableModel::QAbstractTableModel;
  void set_columns(std::vector<Column> columns);
  void set_rows(size_t rows);
  void forget_cells() { set_rows(rows_); }  ///< they are worked out anew
  const Cell& cell(size_t row, int column) const;
  const Column& column(int n) const { return columns_[size_t(n)]; }
  QString card(int column) const;
  void set_term(int column, const char* term) { columns_[size_t(column)].term = term; }

  int rowCount(const QModelIndex& parent = {}) const override { return parent.isValid() ? 0 : int(rows_); }
  int columnCount(const QModelIndex& parent = {}) const override { return parent.isValid() ? 0 : int(columns_.size()); }
  QVariant data(const QModelIndex& index, int role) const override;
  QVariant headerData(int section, Qt::Orientation orientation, int role) const override;

 private:
  std::vector<Column> columns_;
  size_t rows_ = 0;
  mutable std::vector<std::optional<Cell>> cells_;  // row by row
};

class ResultOrder : public QSortFilterProxyModel {
  Q_OBJECT

 public:
  explicit ResultOrder(ResultModel* model);
  std::function<bool(size_t)> filter{};
  void filter_again() { invalidateFilter(); }

 protected:
  bool lessThan(const QModelIndex& a, const QModelIndex& b) const override;
  bool filterAcceptsRow(int row, const QModelIndex&) const override { return !filter || filter(size_t(row)); }

 private:
  ResultModel* model_;
};

}  // namespace heathmist::app
