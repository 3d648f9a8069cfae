// A table of results. Its columns say what they show of a row; sorting, choosing, filtering, copying and hiding are the
// same for all tables.
#pragma once
#include <QSortFilterProxyModel>
#include <QTableView>
#include <functional>
#include <optional>
#include <set>
#include <vector>

#include "app/theme/theme.hpp"

namespace heathmist::app {

/// What stands in a cell.
struct Cell {
  QString text{};
  std::optional<double> value{};  ///< what it sorts by; none: by its text, behind all that have one
  QString hint{};
  std::optional<Role> ink{};
  bool is_bold = false;
  QVariant picture{};  ///< an icon, or what the column's delegate paints
};
/// A number with so many decimals, a dash where there is none.
Cell number_cell(std::optional<double> value, int decimals, const QString& unit = {});

struct Column {
  static constexpr int stretch = -1, as_content = 0;
  QString title, hint{};  ///< the hint: what it is, with its unit
  std::function<Cell(size_t row)> cell{};
  bool is_number = false;  ///< stands at the right
  int width = as_content;
  const char* term = nullptr;  ///< what its numbers are (terms.hpp)
  int spare = 0;               ///< where room is short, the column with the greatest folds away first; 0: none does
};

class ResultModel;

/// Rows are numbered as the page numbers them; what is shown where is the table's own business.
class ResultTable : public QTableView {
  Q_OBJECT

 public:
  static constexpr int picture_role = Qt::UserRole + 1;
  /// `words`: what it is, for those who do not see it.
  ResultTable(const QString& words, QWidget* parent);
  /// The table is empty until rows are set again.
  void set_columns(std::vector<Column> columns);
  /// Other rows, or the same ones as they are now: to be called whenever what the cells are made of has changed, before
  /// anything else is done. Those that were chosen stay so by their keys; without any, by their numbers.
  void set_rows(size_t rows, const std::function<QString(size_t row)>& key = {});
  /// Only these are shown; nothing: all.
  void set_filter(std::function<bool(size_t row)> filter);
  /// What is going to stand there, in the middle of a table without rows.
  void set_empty(const QString& words) { empty_words_ = words; }
  void sort_by(int column, Qt::SortOrder order);
  void hide_by_hand(int column, bool hidden);  ///< as its menu does
  /// Away, or back where nothing else hides it.
  void fold(int column, bool folded);
  /// Columns that can be spared fold away until the others have room, but for those that were shown by hand; called
  /// whenever that may have changed.
  void fit_columns();

  size_t rows() const;                               ///< all of them
  int shown() const { return model()->rowCount(); }  ///< those the filter lets through
  size_t row_at(int place) const;                    ///< which row is shown there
  Cell cell_at(int place, int column) const;
  QString text_at(int place, int column) const { return cell_at(place, column).text; }
  QString title(int column) const;
  const char* term(int column) const;  ///< what its numbers are; null: nothing is said
  void set_term(int column, const char* term);
  int width_of_content(int column) const;  ///< pixels that its cells and its head take
  int columns() const { return model()->columnCount(); }

  std::vector<size_t> chosen() const;  ///< rows, from the top of the table down
  void choose(const std::vector<size_t>& rows);

  /// As it is shown, in that order: heads first, a tab between columns; what is hidden is left out, what lacks only
  /// room is not. `only_chosen`: the chosen rows, all where none is.
  QString text(bool only_chosen) const;

 signals:
  void opened(size_t row, int column);  ///< Enter or double click
  void chosen_changed();

 protected:
  void selectionChanged(const QItemSelection& selected, const QItemSelection& deselected) override;
  void keyPressEvent(QKeyEvent* event) override;
  void contextMenuEvent(QContextMenuEvent* event) override;
  void resizeEvent(QResizeEvent* event) override;
  void paintEvent(QPaintEvent* event) override;

 private:
  std::set<QString> keys_of_chosen() const;
  void copy(bool only_chosen) const;
  void add_columns(QMenu* menu);
  void show_or_hide(int column);
  std::vector<int> shown_columns() const;  ///< those that lack only room, too

  ResultModel* model_;
  QSortFilterProxyModel* order_;
  std::vector<QString> keys_;    // of all rows
  std::set<QString> carried_{};  // of those that were chosen when other columns came
  std::set<int> hidden_by_hand_, shown_by_hand_, folded_, spared_;
  QString empty_words_;
  bool quiet_ = false;
};

}  // namespace heathmist::app
