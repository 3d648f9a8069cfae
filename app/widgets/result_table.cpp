#include "app/widgets/result_table.hpp"

#include <QClipboard>
#include <QGuiApplication>
#include <QHeaderView>
#include <QKeyEvent>
#include <QMenu>
#include <QPainter>
#include <QWhatsThis>
#include <algorithm>
#include <set>

#include "app/theme/position.hpp"
#include "app/widgets/result_model.hpp"

namespace heathmist::app {

Cell number_cell(std::optional<double> value, int decimals, const QString& unit) {
  return {value ? number(*value, decimals) + unit : QString::fromUtf8("\u2013"), value};
}

ResultTable::ResultTable(const QString& words, QWidget* parent)
    : QTableView(parent), model_(new ResultModel(this)), order_(new ResultOrder(model_)) {
  setModel(order_);
  setAccessibleName(words);
  connect(&Positions::instance(), &Positions::changed, model_, &ResultModel::forget_cells);  // places among them
  setSelectionBehavior(QAbstractItemView::SelectRows);
  setEditTriggers(QAbstractItemView::NoEditTriggers);
  setShowGrid(false);
  setWordWrap(false);
  setTabKeyNavigation(false);
  setFont(face(Type::small));
  verticalHeader()->hide();
  verticalHeader()->setDefaultSectionSize(24);
  horizontalHeader()->setHighlightSections(false);
  horizontalHeader()->setResizeContentsPrecision(200);  // rows that are asked what room they need
  horizontalHeader()->setSortIndicator(-1, Qt::AscendingOrder);
  setSortingEnabled(true);
  connect(this, &QAbstractItemView::activated, this,
          [this](const QModelIndex& index) { emit opened(row_at(index.row()), index.column()); });
}

void ResultTable::set_columns(std::vector<Column> columns) {
  carried_ = keys_of_chosen();
  keys_.clear();
  quiet_ = true;
  model_->set_columns(std::move(columns));
  quiet_ = false;
  for (int n = 0; n < this->columns(); ++n) {
    const int width = model_->column(n).width;
    horizontalHeader()->setSectionResizeMode(n, width == Column::stretch      ? QHeaderView::Stretch
                                                : width == Column::as_content ? QHeaderView::ResizeToContents
                                                                              : QHeaderView::Interactive);
    if (width > 0) setColumnWidth(n, width);
  }
  folded_.clear(), spared_.clear();
  for (int n = 0; n < this->columns(); ++n) show_or_hide(n);
}

std::set<QString> ResultTable::keys_of_chosen() const {
  std::set<QString> keys;
  for (const size_t row : chosen()) keys.insert(keys_[row]);
  return keys;
}

void ResultTable::set_rows(size_t rows, const std::function<QString(size_t)>& key) {
  std::set<QString> before = keys_of_chosen();
  before.merge(std::exchange(carried_, {}));
  keys_.clear();
  for (size_t row = 0; row < rows; ++row) keys_.push_back(key ? key(row) : QString::number(row));
  quiet_ = true;
  model_->set_rows(rows);
  if (keys_of_chosen() != before) {
    std::vector<size_t> still;
    for (size_t row = 0; row < rows; ++row)
      if (before.count(keys_[row])) still.push_back(row);
    choose(still);
  }
  quiet_ = false;
  for (int n = 0; n < columns(); ++n)
    if (model_->column(n).width == Column::as_content) resizeColumnToContents(n);
  fit_columns();
  if (keys_of_chosen() != before) emit chosen_changed();
}

void ResultTable::set_filter(std::function<bool(size_t)> filter) {
  auto* order = static_cast<ResultOrder*>(order_);
  order->filter = std::move(filter);
  order->filter_again();
}

void ResultTable::sort_by(int column, Qt::SortOrder order) { sortByColumn(column, order); }

size_t ResultTable::rows() const { return size_t(model_->rowCount()); }

size_t ResultTable::row_at(int place) const { return size_t(order_->mapToSource(order_->index(place, 0)).row()); }

Cell ResultTable::cell_at(int place, int column) const { return model_->cell(row_at(place), column); }

const char* ResultTable::term(int column) const { return model_->column(column).term; }
void ResultTable::set_term(int column, const char* term) { model_->set_term(column, term); }

QString ResultTable::title(int column) const { return model_->column(column).title; }

int ResultTable::width_of_content(int column) const {
  return std::max(sizeHintForColumn(column), horizontalHeader()->sectionSizeHint(column));
}

std::vector<size_t> ResultTable::chosen() const {
  std::set<int> places;
  for (const QModelIndex& index : selectionModel()->selectedIndexes()) places.insert(index.row());
  std::vector<size_t> rows;
  for (const int place : places) rows.push_back(row_at(place));
  return rows;
}

void ResultTable::choose(const std::vector<size_t>& rows) {
  QItemSelection wanted;
  for (const size_t row : rows)
    if (const auto at = order_->mapFromSource(model_->index(int(row), 0)); at.isValid()) wanted.select(at, at);
  selectionModel()->select(wanted, QItemSelectionModel::ClearAndSelect | QItemSelectionModel::Rows);
  if (!wanted.isEmpty()) {
    selectionModel()->setCurrentIndex(wanted.indexes().front(), QItemSelectionModel::NoUpdate);
    scrollTo(wanted.indexes().front());
  }
}

void ResultTable::selectionChanged(const QItemSelection& selected, const QItemSelection& deselected) {
  QTableView::selectionChanged(selected, deselected);
  if (!quiet_) emit chosen_changed();
}

/// In the order of the screen.
std::vector<int> ResultTable::shown_columns() const {
  std::vector<int> shown;
  for (int place = 0; place < columns(); ++place)
    if (const int column = horizontalHeader()->logicalIndex(place); !isColumnHidden(column) || spared_.contains(column))
      shown.push_back(column);
  return shown;
}

QString ResultTable::text(bool only_chosen) const {
  const auto shown = shown_columns();
  const auto line_of = [&](const std::function<QString(int)>& cell) {
    QStringList cells;
    for (const int column : shown) cells << cell(column).replace('\t', ' ').replace('\n', ' ').trimmed();
    return cells.join('\t') + '\n';
  };
  QString text = line_of([&](int column) { return title(column); });
  const bool some = only_chosen && selectionModel()->hasSelection();
  for (int place = 0; place < this->shown(); ++place)
    if (!some || selectionModel()->rowIntersectsSelection(place))
      text += line_of([&](int column) { return text_at(place, column); });
  return text;
}

void ResultTable::copy(bool only_chosen) const { QGuiApplication::clipboard()->setText(text(only_chosen)); }

void ResultTable::keyPressEvent(QKeyEvent* event) {
  if (event->matches(QKeySequence::Copy)) return copy(true);
  QTableView::keyPressEvent(event);
}

void ResultTable::contextMenuEvent(QContextMenuEvent* event) {
  QMenu menu(this);
  if (const int column = columnAt(event->pos().x()); column >= 0 && term(column)) {
    menu.addAction(tr("What is this: %1").arg(title(column)), this,
                   [this, column, at = event->globalPos()] { QWhatsThis::showText(at, model_->card(column), this); });
    menu.addSeparator();
  }
  menu.addAction(tr("Copy the chosen rows"), QKeySequence::Copy, this, [this] { copy(true); });
  menu.addAction(tr("Copy all rows"), this, [this] { copy(false); });
  menu.addSeparator();
  add_columns(menu.addMenu(tr("Columns")));
  menu.exec(event->globalPos());
}

void ResultTable::show_or_hide(int column) {
  setColumnHidden(column, hidden_by_hand_.contains(column) || folded_.contains(column) || spared_.contains(column));
}

void ResultTable::fold(int column, bool folded) {
  if (folded == folded_.contains(column)) return;
  folded ? void(folded_.insert(column)) : void(folded_.erase(column));
  show_or_hide(column);
  fit_columns();
}

void ResultTable::hide_by_hand(int column, bool hidden) {
  (hidden ? hidden_by_hand_ : shown_by_hand_).insert(column);
  (hidden ? shown_by_hand_ : hidden_by_hand_).erase(column);
  show_or_hide(column);
  fit_columns();
}

void ResultTable::fit_columns() {
  constexpr int least_stretched = 110, most_stretched = 260;  // pixels that a name wants
  const auto before = std::exchange(spared_, {});
  for (const int column : before) show_or_hide(column);
  const auto spare = [&](int n) { return shown_by_hand_.contains(n) ? 0 : model_->column(n).spare; };
  std::vector<int> by_worth = shown_columns();
  std::stable_sort(by_worth.begin(), by_worth.end(), [&](int a, int b) { return spare(a) > spare(b); });
  int needed = 0;
  const auto width_of = [&](int n) {
    const int width = model_->column(n).width;
    return width > 0                  ? columnWidth(n)
           : width == Column::stretch ? std::clamp(width_of_content(n), least_stretched, most_stretched)
                                      : width_of_content(n);
  };
  for (const int column : by_worth) needed += width_of(column);
  for (const int column : by_worth) {
    if (needed <= viewport()->width() || spare(column) == 0) break;
    needed -= width_of(column);
    spared_.insert(column);
    show_or_hide(column);
  }
}

void ResultTable::resizeEvent(QResizeEvent* event) {
  QTableView::resizeEvent(event);
  if (event->size().width() != event->oldSize().width()) fit_columns();
}

/// Columns by name; the last one that is shown stays, and what the page itself hides is not offered.
void ResultTable::add_columns(QMenu* menu) {
  const bool last = horizontalHeader()->count() - horizontalHeader()->hiddenSectionCount() == 1;
  for (int column = 0; column < columns(); ++column) {
    const bool hidden = isColumnHidden(column);
    if (title(column).isEmpty() || folded_.contains(column)) continue;
    auto* action = menu->addAction(title(column), this, [=, this] { hide_by_hand(column, !hidden); });
    action->setCheckable(true);
    action->setChecked(!hidden);
    action->setEnabled(hidden || !last);
  }
}

void ResultTable::paintEvent(QPaintEvent* event) {
  QTableView::paintEvent(event);
  if (shown() > 0 || empty_words_.isEmpty()) return;
  constexpr int margin = 16;
  QPainter painter(viewport());
  painter.setFont(face(Type::body));
  painter.setPen(colour(Role::soft));
  painter.drawText(viewport()->rect().adjusted(margin, margin, -margin, -margin), Qt::AlignCenter | Qt::TextWordWrap,
                   empty_words_);
}

}  // namespace heathmist::app
