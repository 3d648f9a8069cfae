#include "app/pages/matrix/matrix_view.hpp"

#include <QFileDialog>
#include <QHeaderView>
#include <QMessageBox>
#include <QPainter>
#include <QSplitter>
#include <QStyledItemDelegate>
#include <QToolButton>
#include <QVBoxLayout>

#include "app/theme/theme.hpp"
#include "app/widgets/labels.hpp"
#include "app/widgets/number_item.hpp"
#include "core/bench/armed.hpp"

namespace heathmist::app {

namespace {

constexpr int most_drawn = 8;  // rows, where none is chosen

constexpr int share_role = Qt::UserRole + 1, residual_role = Qt::UserRole + 2;
constexpr double nothing_left = -400, not_there = 1e12;

/// The number, and under it a thin bar: how far down it lies among all cells.
class CellPainter : public QStyledItemDelegate {
 public:
  using QStyledItemDelegate::QStyledItemDelegate;
  void paint(QPainter* painter, const QStyleOptionViewItem& option, const QModelIndex& index) const override {
    QStyledItemDelegate::paint(painter, option, index);
    const QVariant share = index.data(share_role);
    if (!share.isValid()) return;
    const QRectF groove(option.rect.left() + 6, option.rect.bottom() - 3, option.rect.width() - 12, 2);
    painter->fillRect(groove, colour(Role::faint));
    painter->fillRect(QRectF(groove.left(), groove.top(), groove.width() * share.toDouble(), groove.height()),
                      colour(index.data(residual_role).toBool() ? Role::residual : Role::soft));
  }
};

QString text_of(const MatrixCell& cell, MatrixValue value) {
  if (!cell.done) return {};
  if (!cell.failure.empty()) return QObject::tr("failed");
  const auto v = value_of(cell, value);
  if (!v)
    return value == MatrixValue::depth || value == MatrixValue::remainder ? QObject::tr("nothing left")
                                                                          : QString(QChar(0x2013));
  switch (value) {
    case MatrixValue::bandwidth:
      return hertz(*v, false);
    case MatrixValue::size:
      return QObject::tr("%1 kB").arg(number(*v / 1000, *v < 100000 ? 1 : 0));
    default:
      return number(*v, value == MatrixValue::true_peak ? 2 : 1);
  }
}

double sorted_by(const MatrixCell& cell, MatrixValue value) {
  if (!cell.done || !cell.failure.empty()) return not_there;
  const auto v = value_of(cell, value);
  return v ? *v : value == MatrixValue::depth || value == MatrixValue::remainder ? nothing_left : not_there;
}

QString hint_of(const MatrixCell& cell) {
  if (!cell.failure.empty()) return QString::fromStdString(cell.failure);
  if (!cell.done) return {};
  QStringList words;
  if (cell.tones)  // of a tone its own reading says more than any null
    words << QObject::tr("THD+N %1 dB").arg(number(cell.tones->thd_n_db, 1))
          << QObject::tr("strongest spurious line %1 dBr at %2")
                 .arg(number(cell.tones->spurious_dbr, 1), hertz(cell.tones->spurious_hz, false));
  words << QString::fromStdString(cell.kind).replace('_', ' ');
  for (const auto& [value, name] : {std::pair{MatrixValue::depth, QObject::tr("residual %1 dBr")},
                                    {MatrixValue::remainder, QObject::tr("remainder %1 dBr")},
                                    {MatrixValue::bandwidth, QObject::tr("reaches %1")},
                                    {MatrixValue::true_peak, QObject::tr("true peak %1 dBTP")},
                                    {MatrixValue::size, QObject::tr("encoded %1")}})
    if (value_of(cell, value)) words << name.arg(text_of(cell, value));
  return words.join('\n');
}

QToolButton* menu_button(const QString& text, const QString& hint, QMenu* menu, QWidget* parent) {
  auto* button = new QToolButton(parent);
  button->setText(text);
  button->setToolTip(hint);
  button->setPopupMode(QToolButton::InstantPopup);
  button->setMenu(menu);
  return button;
}

}  // namespace

MatrixView::MatrixView(QWidget* parent) : QWidget(parent) {
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(12, 8, 6, 6);
  rows->setSpacing(4);
  auto* head = new QHBoxLayout;
  auto* title = title_label(tr("Setting matrix"), this);
  head->addWidget(title);
  head->addSpacing(10);
  value_ = new QComboBox(this);
  value_->addItems({tr("Residual, dBr"), tr("Remainder, dBr"), tr("Reaches"), tr("True peak, dBTP"), tr("THD+N, dB"),
                    tr("Strongest spurious line, dBr"), tr("Encoded size")});
  value_->setAccessibleName(tr("What the cells show"));
  head->addWidget(value_);
  rows_menu_ = new QMenu(this);
  columns_menu_ = new QMenu(this);
  head->addWidget(menu_button(tr("Rows"), tr("Which masters and probe signals are run"), rows_menu_, this));
  head->addWidget(menu_button(tr("Settings"), tr("Which chains are run; keep more of them from a trial's chain"),
                              columns_menu_, this));
  note_ = note_label(this);
  head->addWidget(note_, 1);
  auto* save = new QPushButton(tr("Save as CSV…"), this);
  head->addWidget(save);
  run_ = new QPushButton(tr("Run"), this);
  run_->setProperty("main", true);
  head->addWidget(run_);
  rows->addLayout(head);
  auto* split = new QSplitter(Qt::Vertical, this);
  split->setHandleWidth(1);
  table_ = new QTableWidget(split);
  dress_table(table_, tr("Masters and probes by settings"));
  table_->setSelectionBehavior(QAbstractItemView::SelectItems);
  table_->setItemDelegate(new CellPainter(table_));
  table_->verticalHeader()->setDefaultSectionSize(27);
  table_->setSortingEnabled(true);
  plate_ = new GraphPlate("size-against-depth", tr("Residual against encoded size"), split);
  plate_->set_axes(tr("encoded size, kB"), tr("residual, dBr"));
  table_->setMinimumHeight(90);
  plate_->setMinimumHeight(180);
  split->setSizes({400, 300});
  rows->addWidget(split, 1);

  connect(run_, &QPushButton::clicked, this, [this] { task_.is_running() ? task_.cancel() : start(); });
  connect(save, &QPushButton::clicked, this, &MatrixView::save_csv);
  connect(value_, &QComboBox::currentIndexChanged, this, &MatrixView::fill);
  connect(rows_menu_, &QMenu::aboutToShow, this, &MatrixView::fill_rows_menu);
  connect(columns_menu_, &QMenu::aboutToShow, this, &MatrixView::fill_columns_menu);
  connect(table_, &QTableWidget::itemSelectionChanged, this, &MatrixView::draw);
  connect(table_, &QTableWidget::itemActivated, this, [this](QTableWidgetItem* item) {
    if (item->column() < 1) return;
    const auto row = size_t(table_->item(item->row(), 0)->data(Qt::UserRole).toInt());
    emit opened(matrix_.rows[row], matrix_.columns[size_t(item->column() - 1)]);
  });
  connect(&task_, &Task::progressed, this, [this](double fraction) {
    const auto left = task_.left_s(fraction);
    if (task_.is_running())
      note_->setText(tr("%1 of %2 cells%3")
                         .arg(done_)
                         .arg(matrix_.cells.size())
                         .arg(left ? tr(", about %1 left").arg(clock(*left, 0)) : QString()));
  });
  connect(&task_, &Task::ended, this, [this](bool whole, const QString& failure) {
    note_->setText(!failure.isEmpty() ? failure
                   : whole            ? tr("Enter opens a cell's trial")
                                      : tr("stopped; %1 of %2 cells are done").arg(done_).arg(matrix_.cells.size()));
    refresh_state();
    emit rested();
  });
  refresh_state();
}

void MatrixView::show_bench(const Bench& bench) {
  std::vector<MatrixRow> rows;
  for (const Master& m : bench.masters) rows.push_back({m.name, m.audio.file, ""});
  if (known_rows_.empty())
    for (const auto& s : probe_signals())
      rows_out_.insert(QString::fromStdString(s.title));  // probes come in when they are asked for
  for (const auto& s : probe_signals()) rows.push_back({s.title, {}, s.key});
  const auto& columns = bench.chains.empty() ? common_settings() : bench.chains;
  if (rows == known_rows_ && columns == known_columns_) return;
  known_rows_ = rows;
  known_columns_ = columns;
  set_up();
}

void MatrixView::forget(const std::filesystem::path& file) {
  bool any = false;
  for (size_t r = 0; r < matrix_.rows.size(); ++r)
    for (size_t c = 0; matrix_.rows[r].file == file && c < matrix_.columns.size(); ++c) {
      auto& cell = matrix_.cells[r * matrix_.columns.size() + c];
      any |= cell.done || task_.is_running();
      cell = {};
    }
  if (!any) return;
  task_.drop(), ++run_number_;
  done_ = size_t(std::count_if(matrix_.cells.begin(), matrix_.cells.end(), [](const MatrixCell& c) { return c.done; }));
  note_->setText(tr("%1 changed: run it again").arg(QString::fromStdString(file.filename().string())));
  fill();
  refresh_state();
}

void MatrixView::set_row(const QString& name, bool in) {
  if (in)
    rows_out_.erase(name);
  else
    rows_out_.insert(name);
  set_up();
}

/// An empty matrix of what is in; cells that were done before and are still in stay.
void MatrixView::set_up() {
  task_.drop();
  ++run_number_;
  const Matrix before = std::move(matrix_);
  matrix_ = {};
  for (const auto& r : known_rows_)
    if (!rows_out_.count(QString::fromStdString(r.name))) matrix_.rows.push_back(r);
  for (const auto& c : known_columns_)
    if (!columns_out_.count(QString::fromStdString(title_of(c)))) matrix_.columns.push_back(c);
  matrix_.cells.resize(matrix_.rows.size() * matrix_.columns.size());
  done_ = 0;
  for (size_t r = 0; r < matrix_.rows.size(); ++r)
    for (size_t c = 0; c < matrix_.columns.size(); ++c)
      for (size_t i = 0; i < before.rows.size(); ++i)
        for (size_t k = 0; k < before.columns.size(); ++k)
          if (before.rows[i] == matrix_.rows[r] && before.columns[k] == matrix_.columns[c] && before.at(i, k).done)
            matrix_.cells[r * matrix_.columns.size() + c] = before.at(i, k), ++done_;
  note_->setText(matrix_.cells.empty()
                     ? tr("drop a master, or choose probes under Rows")
                     : tr("%1 masters and probes by %2 settings").arg(matrix_.rows.size()).arg(matrix_.columns.size()));
  fill();
  auto* split = static_cast<QSplitter*>(table_->parentWidget());
  const int wanted = 40 + 27 * table_->rowCount(), all = std::max(400, split->height());
  split->setSizes({std::min(wanted, all - 260), all - std::min(wanted, all - 260)});
  refresh_state();
}

void MatrixView::refresh_state() {
  run_->setText(task_.is_running() ? tr("Cancel") : tr("Run"));
  run_->setEnabled(!matrix_.cells.empty());
}

void MatrixView::start() {
  if (matrix_.cells.empty()) return;
  for (auto& cell : matrix_.cells) cell = {};
  done_ = 0;
  fill();
  task_.start([this, run = ++run_number_, rows = matrix_.rows, columns = matrix_.columns](const Job& job) {
    run_matrix(
        rows, columns, job,
        [this, run](size_t row, size_t column, const MatrixCell& cell) {
          QMetaObject::invokeMethod(
              this,
              [this, run, row, column, cell] {
                if (run == run_number_) take(row, column, cell);
              },
              Qt::QueuedConnection);
        },
        grant_here());
  });
  refresh_state();
}

void MatrixView::take(size_t row, size_t column, const MatrixCell& cell) {
  if (row >= matrix_.rows.size() || column >= matrix_.columns.size()) return;
  matrix_.cells[row * matrix_.columns.size() + column] = cell;
  ++done_;
  fill();
}

void MatrixView::fill() {
  const QSignalBlocker quiet(table_);
  const auto value = MatrixValue(value_->currentIndex());
  table_->setSortingEnabled(false);
  table_->setColumnCount(int(matrix_.columns.size()) + 1);
  table_->setRowCount(int(matrix_.rows.size()));
  QStringList heads{tr("Master or probe")};
  for (const auto& c : matrix_.columns) heads << QString::fromStdString(title_of(c));
  table_->setHorizontalHeaderLabels(heads);
  right_heads(table_, 1);
  for (int c = 1; c < table_->columnCount(); ++c)
    table_->horizontalHeader()->setSectionResizeMode(
        c, table_->columnCount() < 10 ? QHeaderView::Stretch : QHeaderView::ResizeToContents);
  double low = 1e300, high = -1e300;
  for (const auto& cell : matrix_.cells)
    if (const auto v = value_of(cell, value)) low = std::min(low, *v), high = std::max(high, *v);
  for (int r = 0; r < int(matrix_.rows.size()); ++r) {
    auto* name = new QTableWidgetItem(QString::fromStdString(matrix_.rows[size_t(r)].name));
    name->setData(Qt::UserRole, r);
    table_->setItem(r, 0, name);
    for (int c = 0; c < int(matrix_.columns.size()); ++c) {
      const MatrixCell& cell = matrix_.at(size_t(r), size_t(c));
      auto* item = new NumberItem(text_of(cell, value), sorted_by(cell, value));
      item->setToolTip(hint_of(cell));
      if (const auto v = value_of(cell, value); v && high > low)
        item->setData(share_role, 0.05 + 0.95 * (high - *v) / (high - low));
      item->setData(residual_role, value == MatrixValue::depth || value == MatrixValue::remainder);
      table_->setItem(r, c + 1, item);
    }
  }
  table_->setSortingEnabled(true);
  draw();
}

void MatrixView::draw() {
  std::set<int> rows;
  for (const auto* item : table_->selectedItems())
    rows.insert(table_->item(item->row(), 0)->data(Qt::UserRole).toInt());
  if (rows.empty())
    for (int r = 0; r < int(matrix_.rows.size()) && r < most_drawn; ++r) rows.insert(r);
  plate_->show_series([this, rows] {
    static constexpr Role inks[] = {Role::ink, Role::soft};
    std::vector<Series> all;
    for (const int r : rows) {
      if (size_t(r) >= matrix_.rows.size()) continue;
      Series s{QString::fromStdString(matrix_.rows[size_t(r)].name),
               {},
               {},
               {},
               colour(inks[all.size() % 2]),
               Qt::SolidLine,
               false};
      for (size_t c = 0; c < matrix_.columns.size(); ++c) {
        const MatrixCell& cell = matrix_.at(size_t(r), c);
        if (!cell.encoded_bytes || !cell.depth_db) continue;
        s.xs.push_back(double(*cell.encoded_bytes) / 1000);
        s.ys.push_back(*cell.depth_db);
        if (rows.size() == 1) s.labels.push_back(QString::fromStdString(title_of(matrix_.columns[c])));
      }
      if (!s.xs.empty()) all.push_back(std::move(s));
    }
    return all;
  });
}

void MatrixView::fill_rows_menu() {
  rows_menu_->clear();
  for (const auto& r : known_rows_) {
    const QString name = QString::fromStdString(r.name);
    auto* action = rows_menu_->addAction(name, this, [this, name](bool in) { set_row(name, in); });
    action->setCheckable(true);
    action->setChecked(!rows_out_.count(name));
  }
}

void MatrixView::fill_columns_menu() {
  columns_menu_->clear();
  for (const auto& c : known_columns_) {
    const QString name = QString::fromStdString(title_of(c));
    auto* action = columns_menu_->addAction(name, this, [this, name](bool in) {
      if (in)
        columns_out_.erase(name);
      else
        columns_out_.insert(name);
      set_up();
    });
    action->setCheckable(true);
    action->setChecked(!columns_out_.count(name));
  }
}

void MatrixView::save_csv() { save_table(this, "matrix.csv", QString::fromStdString(matrix_csv(matrix_))); }

}  // namespace heathmist::app
