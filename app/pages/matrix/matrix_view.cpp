#include "app/pages/matrix/matrix_view.hpp"

#include <QHeaderView>
#include <QPainter>
#include <QSplitter>
#include <QStyledItemDelegate>
#include <QToolButton>
#include <QVBoxLayout>

#include "app/theme/theme.hpp"
#include "app/widgets/labels.hpp"
#include "app/widgets/saving.hpp"
#include "app/widgets/terms.hpp"
#include "core/bench/armed.hpp"

namespace heathmist::app {

/// How far down a cell lies among all, 0 to 1, and whether it is of the residual.
struct Share {
  double share = 0;
  bool of_residual = false;
};

namespace {

constexpr size_t most_drawn = 8;  // rows, where none is chosen

constexpr double nothing_left = -400;

/// The number, and under it a thin bar: how far down it lies among all cells.
class CellPainter : public QStyledItemDelegate {
 public:
  using QStyledItemDelegate::QStyledItemDelegate;
  void paint(QPainter* painter, const QStyleOptionViewItem& option, const QModelIndex& index) const override {
    QStyledItemDelegate::paint(painter, option, index);
    const QVariant picture = index.data(ResultTable::picture_role);
    if (!picture.canConvert<Share>()) return;
    const auto share = picture.value<Share>();
    const QRectF groove(option.rect.left() + 6, option.rect.bottom() - 3, option.rect.width() - 12, 2);
    painter->fillRect(groove, colour(Role::faint));
    painter->fillRect(QRectF(groove.left(), groove.top(), groove.width() * share.share, groove.height()),
                      colour(share.of_residual ? Role::residual : Role::soft));
  }
};

QString shown_in(const MatrixCell& cell, MatrixValue value) {
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

std::optional<double> sorted_by(const MatrixCell& cell, MatrixValue value) {
  if (!cell.done || !cell.failure.empty()) return {};
  const auto v = value_of(cell, value);
  return v || (value != MatrixValue::depth && value != MatrixValue::remainder) ? v : nothing_left;
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
    if (value_of(cell, value)) words << name.arg(shown_in(cell, value));
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
}  // namespace heathmist::app

Q_DECLARE_METATYPE(heathmist::app::Share)

namespace heathmist::app {

MatrixView::MatrixView(Queue& queue, QWidget* parent) : QWidget(parent), work_(queue), recalling_(queue) {
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
  table_ = new ResultTable(tr("Masters and probes by settings"), split);
  table_->setSelectionBehavior(QAbstractItemView::SelectItems);
  table_->setItemDelegate(new CellPainter(table_));
  table_->verticalHeader()->setDefaultSectionSize(27);
  plate_ = new GraphPlate("size-against-depth", tr("Residual against encoded size"), split);
  plate_->set_empty(
      tr("A point for each encode: how large it is, and how much it changes. Run fills the table above."));
  set_term(plate_, "encoded_size");
  plate_->set_axes(tr("encoded size, kB"), tr("residual, dBr"));
  table_->setMinimumHeight(90);
  plate_->setMinimumHeight(180);
  split->setSizes({400, 300});
  rows->addWidget(split, 1);

  connect(run_, &QPushButton::clicked, this, [this] { work_.is_running() ? work_.cancel() : start(); });
  connect(save, &QPushButton::clicked, this, &MatrixView::save_csv);
  connect(value_, &QComboBox::currentIndexChanged, this, &MatrixView::fill);
  connect(rows_menu_, &QMenu::aboutToShow, this, &MatrixView::fill_rows_menu);
  connect(columns_menu_, &QMenu::aboutToShow, this, &MatrixView::fill_columns_menu);
  connect(table_, &ResultTable::chosen_changed, this, &MatrixView::draw);
  connect(table_, &ResultTable::opened, this, [this](size_t row, int column) {
    if (column > 0) emit opened(matrix_.rows[row], matrix_.columns[size_t(column - 1)]);
  });
  connect(&work_, &LongWork::progressed, this, [this](double fraction) {
    const auto left = work_.left_s(fraction);
    if (work_.is_running())
      note_->setText(tr("%1 of %2 cells%3")
                         .arg(done_)
                         .arg(matrix_.cells.size())
                         .arg(left ? tr(", about %1 left").arg(clock(*left, 0)) : QString()));
  });
  connect(&work_, &LongWork::ended, this, [this](Outcome outcome, const QString& failure) {
    note_->setText(!failure.isEmpty() ? failure
                   : outcome == Outcome::done
                       ? tr("Enter opens a cell's trial")
                       : tr("stopped; %1 of %2 cells are done").arg(done_).arg(matrix_.cells.size()));
    refresh_state();
    emit rested();
  });
  connect(&recalling_, &LongWork::ended, this, [this] {
    if (done_ > 0 && !work_.is_running())
      note_->setText(
          tr("%1 of %2 cells from before: nothing they hang on has changed").arg(done_).arg(matrix_.cells.size()));
    emit recalled();
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
  recalling_.drop();  // it may have looked before the file changed
  bool any = false;
  for (size_t r = 0; r < matrix_.rows.size(); ++r)
    for (size_t c = 0; matrix_.rows[r].file == file && c < matrix_.columns.size(); ++c) {
      auto& cell = matrix_.cells[r * matrix_.columns.size() + c];
      any |= cell.done || work_.is_running();
      cell = {};
    }
  if (!any) return;
  work_.drop(),
      done_ =
          size_t(std::count_if(matrix_.cells.begin(), matrix_.cells.end(), [](const MatrixCell& c) { return c.done; }));
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
  work_.drop();
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
  show_columns();
  fill();
  auto* split = static_cast<QSplitter*>(table_->parentWidget());
  const int wanted = 40 + 27 * int(table_->rows()), all = std::max(400, split->height());
  split->setSizes({std::min(wanted, all - 260), all - std::min(wanted, all - 260)});
  refresh_state();
  recall();
}

/// What cells came to before, on any bench, where nothing they hang on has changed.
void MatrixView::recall() {
  if (done_ == matrix_.cells.size()) return recalling_.drop();
  recalling_.start([this, rows = matrix_.rows, columns = matrix_.columns](const Job& job, const Tell& tell) {
    for (size_t r = 0; r < rows.size(); ++r)
      for (size_t c = 0; c < columns.size(); ++c) {
        job.check();
        if (const auto cell = kept_cell(rows[r], columns[c]))
          tell([this, r, c, cell = *cell] {
            if (!matrix_.at(r, c).done) take(r, c, cell);
          });
      }
  });
}

void MatrixView::refresh_state() {
  run_->setText(work_.is_running() ? tr("Cancel") : tr("Run"));
  run_->setEnabled(!matrix_.cells.empty());
}

void MatrixView::start() {
  if (matrix_.cells.empty()) return;
  recalling_.drop();
  for (auto& cell : matrix_.cells) cell = {};
  done_ = 0;
  fill();
  work_.start([this, rows = matrix_.rows, columns = matrix_.columns](const Job& job, const Tell& tell) {
    run_matrix(
        rows, columns, job,
        [this, &tell](size_t row, size_t column, const MatrixCell& cell) {
          tell([this, row, column, cell] { take(row, column, cell); });
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

/// What the cells are told in.
static const char* term_of_value(MatrixValue value) {
  constexpr const char* keys[] = {"residual", "remainder", "band_limit", "true_peak", "thd_n", "dbr", "encoded_size"};
  static_assert(std::size(keys) == matrix_values);
  return keys[size_t(value)];
}

void MatrixView::show_columns() {
  std::vector<Column> columns{
      {tr("Master or probe"), {}, [this](size_t row) { return Cell{QString::fromStdString(matrix_.rows[row].name)}; }}};
  const int width = matrix_.columns.size() < 9 ? Column::stretch : Column::as_content;
  for (size_t c = 0; c < matrix_.columns.size(); ++c)
    columns.push_back({QString::fromStdString(title_of(matrix_.columns[c])),
                       {},
                       [this, c](size_t row) { return cell_of(row, c); },
                       true,
                       width});
  table_->set_columns(std::move(columns));
}

Cell MatrixView::cell_of(size_t row, size_t column) const {
  const auto value = MatrixValue(value_->currentIndex());
  const MatrixCell& cell = matrix_.at(row, column);
  Cell shown{shown_in(cell, value), sorted_by(cell, value), hint_of(cell)};
  if (const auto v = value_of(cell, value); v && most_ > least_)
    shown.picture = QVariant::fromValue(Share{0.05 + 0.95 * (most_ - *v) / (most_ - least_),
                                              value == MatrixValue::depth || value == MatrixValue::remainder});
  return shown;
}

void MatrixView::fill() {
  least_ = 1e300, most_ = -1e300;
  for (const auto& cell : matrix_.cells)
    if (const auto v = value_of(cell, MatrixValue(value_->currentIndex())))
      least_ = std::min(least_, *v), most_ = std::max(most_, *v);
  const char* term = term_of_value(MatrixValue(value_->currentIndex()));
  for (size_t c = 0; c < matrix_.columns.size(); ++c) table_->set_term(int(c) + 1, term);
  table_->set_rows(matrix_.rows.size(), [this](size_t row) { return QString::fromStdString(matrix_.rows[row].name); });
  draw();
}

void MatrixView::draw() {
  auto rows = table_->chosen();
  for (size_t r = 0; rows.size() < std::min(most_drawn, matrix_.rows.size()) && table_->chosen().empty(); ++r)
    rows.push_back(r);
  plate_->show_series([this, rows] {
    static constexpr Role inks[] = {Role::ink, Role::soft};
    std::vector<Series> all;
    for (const size_t r : rows) {
      if (r >= matrix_.rows.size()) continue;
      Series s{
          QString::fromStdString(matrix_.rows[r].name), {}, {}, {}, colour(inks[all.size() % 2]), Qt::SolidLine, false};
      for (size_t c = 0; c < matrix_.columns.size(); ++c) {
        const MatrixCell& cell = matrix_.at(r, c);
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
