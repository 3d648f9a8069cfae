#include "app/widgets/result_model.hpp"

#include "app/widgets/terms.hpp"

namespace heathmist::app {

void ResultModel::set_columns(std::vector<Column> columns) {
  beginResetModel();
  columns_ = std::move(columns);
  rows_ = 0;
  cells_.clear();
  endResetModel();
}

void ResultModel::set_rows(size_t rows) {
  if (rows < rows_ || rows_ == 0) {
    beginResetModel();
    rows_ = rows;
    cells_.assign(rows_ * columns_.size(), {});
    return endResetModel();
  }
  // those that were there as they are now, and more: the table stays where it is scrolled to
  const int before = int(rows_);
  cells_.assign(cells_.size(), {});
  emit dataChanged(index(0, 0), index(before - 1, columnCount() - 1));
  if (rows == rows_) return;
  beginInsertRows({}, before, int(rows) - 1);
  rows_ = rows;
  cells_.resize(rows_ * columns_.size());
  endInsertRows();
}

const Cell& ResultModel::cell(size_t row, int column) const {
  auto& kept = cells_[row * columns_.size() + size_t(column)];
  if (!kept) kept = columns_[size_t(column)].cell(row);
  return *kept;
}

/// The card of what its numbers are; nothing where they are none.
QString ResultModel::card(int column) const {
  const char* key = columns_[size_t(column)].term;
  const Term* term = key ? term_of(key) : nullptr;
  return term ? card_of(*term) : QString();
}

QVariant ResultModel::data(const QModelIndex& index, int role) const {
  if (!index.isValid()) return {};
  if (role == Qt::WhatsThisRole) return card(index.column());
  const auto& c = cell(size_t(index.row()), index.column());
  switch (role) {
    case Qt::DisplayRole:
      return c.text;
    case Qt::ToolTipRole:
      return c.hint.isEmpty() ? QVariant() : QVariant(c.hint);
    case Qt::ForegroundRole:
      return c.ink ? QVariant(QBrush(colour(*c.ink))) : QVariant();
    case Qt::FontRole:
      return c.is_bold ? QVariant(face(Type::small, true)) : QVariant();
    case Qt::DecorationRole:
      return c.picture.canConvert<QIcon>() ? c.picture : QVariant();
    case ResultTable::picture_role:
      return c.picture;
    case Qt::TextAlignmentRole:
      return int((columns_[size_t(index.column())].is_number ? Qt::AlignRight : Qt::AlignLeft) | Qt::AlignVCenter);
    default:
      return {};
  }
}

QVariant ResultModel::headerData(int section, Qt::Orientation orientation, int role) const {
  if (orientation != Qt::Horizontal || section >= columnCount()) return {};
  const Column& c = columns_[size_t(section)];
  if (role == Qt::DisplayRole) return c.title;
  if (role == Qt::ToolTipRole && !c.hint.isEmpty()) return c.hint;
  if (role == Qt::WhatsThisRole) return card(section);
  if (role == Qt::TextAlignmentRole) return int((c.is_number ? Qt::AlignRight : Qt::AlignLeft) | Qt::AlignVCenter);
  return {};
}

ResultOrder::ResultOrder(ResultModel* model) : QSortFilterProxyModel(model), model_(model) { setSourceModel(model); }

/// Rows that are alike stay in the order that they have by themselves, either way.
bool ResultOrder::lessThan(const QModelIndex& a, const QModelIndex& b) const {
  const Cell &x = model_->cell(size_t(a.row()), a.column()), &y = model_->cell(size_t(b.row()), b.column());
  const bool ascending = sortOrder() == Qt::AscendingOrder, first = ascending ? a.row() < b.row() : a.row() > b.row();
  if (x.value && y.value) return *x.value != *y.value ? *x.value < *y.value : first;
  if (x.value || y.value) return x.value.has_value() == ascending;  // none: last either way
  const int order = QString::localeAwareCompare(x.text, y.text);
  return order != 0 ? order < 0 : first;
}

}  // namespace heathmist::app
