#include "app/pages/loudness/loudness_view.hpp"

#include <QHeaderView>
#include <QSettings>
#include <QSplitter>
#include <QVBoxLayout>

#include "app/theme/theme.hpp"
#include "app/widgets/labels.hpp"
#include "app/widgets/number_item.hpp"
#include "core/bench/armed.hpp"
#include "core/stages/chain.hpp"

namespace heathmist::app {

namespace {

constexpr double nothing = -1000;  // sorts before every number
constexpr int dual_mono = -1;      // in the place of a channel: one channel counts as from two loudspeakers
constexpr int usual_window = 1;    // of the RMS, in the list of them: what the table was measured with

NumberItem* item_of(std::optional<double> value, int decimals) {
  return new NumberItem(value ? number(*value, decimals) : QString::fromUtf8("\u2013"), value.value_or(nothing));
}

std::optional<double> range_of(const Loudness& l) { return l.range ? std::optional(l.range->lu()) : std::nullopt; }

}  // namespace

LoudnessView::LoudnessView(LoudnessBoard& board, QWidget* parent) : QWidget(parent), board_(board) {
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(12, 8, 6, 6);
  rows->setSpacing(4);
  rows->addWidget(make_head());
  auto* split = new QSplitter(Qt::Vertical, this);
  split->setHandleWidth(1);
  make_table(split);
  plate_ = new LoudnessPlate(split);
  plate_->setMinimumHeight(170);
  split->setSizes({360, 300});
  rows->addWidget(split, 1);
  rows->addWidget(make_foot());
  connect(&board_, &LoudnessBoard::rows_changed, this, &LoudnessView::refill);
  connect(&board_, &LoudnessBoard::measured, this, &LoudnessView::refresh);
  connect(&board_, &LoudnessBoard::rested, this, [this](const QString& sentence) {
    refresh();
    if (!sentence.isEmpty()) note_->setText(sentence);
  });
  connect(plate_, &LoudnessPlate::selected, this, [this](auto seconds) {
    selection_ = seconds;
    measure_selection();
  });
  connect(&Theme::instance(), &Theme::changed, this, &LoudnessView::refresh);
  refill();
}

QWidget* LoudnessView::make_head() {
  auto* head = new QWidget(this);
  auto* row = new QHBoxLayout(head);
  row->setContentsMargins(0, 0, 0, 0);
  row->setSpacing(6);
  auto* title = title_label(tr("Loudness"), head);
  row->addWidget(title);
  filter_ = new QLineEdit(head);
  filter_->setPlaceholderText(tr("filter names"));
  filter_->setClearButtonEnabled(true);
  filter_->setMaximumWidth(150);
  filter_->setAccessibleName(tr("Only rows whose name holds this"));
  connect(filter_, &QLineEdit::textChanged, this, &LoudnessView::apply_filter);
  row->addWidget(filter_);
  QSettings settings;
  auto field = [&](const char* key, const QString& before, double low, double high, double usual, const QString& hint) {
    row->addWidget(soft_label(before, head));
    auto* box = new NumberField(head);
    box->setRange(low, high);
    box->setDecimals(1);
    box->setSingleStep(0.5);
    box->setValue(settings.value(key, usual).toDouble());
    box->setMaximumWidth(64);
    box->setToolTip(hint);
    box->setAccessibleName(hint);
    connect(box, &NumberField::valueChanged, this, [this, key](double value) {
      QSettings().setValue(key, value);
      refresh();
      draw();
    });
    row->addWidget(box);
    return box;
  };
  target_ = field("loudness/target", tr("  target"), -60, 0, -16, tr("Target: rows that miss it are marked"));
  tolerance_ =
      field("loudness/tolerance", QString::fromUtf8("\u00b1"), 0, 20, 3, tr("How far from the target is well, LU"));
  peak_limit_ = field("loudness/peak", tr("peaks to"), -20, 6, -1, tr("True peaks above this are marked, dBTP"));
  note_ = note_label(head);
  row->addWidget(note_, 1);
  unit_ = new QComboBox(head);
  unit_->addItems({"LUFS", "LKFS"});
  unit_->setCurrentText(settings.value("loudness/unit", "LUFS").toString());
  unit_->setToolTip(tr("The unit's name; both are the same thing"));
  unit_->setAccessibleName(tr("The unit's name"));
  connect(unit_, &QComboBox::currentTextChanged, this, [this](const QString& name) {
    QSettings().setValue("loudness/unit", name);
    plate_->set_unit(name);
    refill();
  });
  row->addWidget(unit_);
  auto* copies = new QPushButton(tr("Levelled copies…"), head);
  copies->setProperty("main", true);
  copies->setToolTip(tr("Write copies of the chosen masters at a target, tagged, read back and checked"));
  connect(copies, &QPushButton::clicked, this, &LoudnessView::copies_wanted);
  row->addWidget(copies);
  auto* save = new QPushButton(tr("Save as CSV…"), head);
  connect(save, &QPushButton::clicked, this, &LoudnessView::save_csv);
  row->addWidget(save);
  run_ = new QPushButton(tr("Cancel"), head);
  connect(run_, &QPushButton::clicked, this, [this] {
    board_.is_running() ? board_.cancel() : board_.run();
    refresh();
  });
  row->addWidget(run_);
  return head;
}

void LoudnessView::make_table(QWidget* parent) {
  table_ = new QTableWidget(0, columns, parent);
  dress_table(table_, tr("Loudness of all masters and returns"));
  table_->setMinimumHeight(90);
  table_->verticalHeader()->setDefaultSectionSize(27);
  table_->setItemDelegateForColumn(ribbon_column, new RibbonPainter(table_));
  table_->horizontalHeader()->setSectionResizeMode(QHeaderView::Interactive);
  table_->horizontalHeader()->setSectionResizeMode(ribbon_column, QHeaderView::Stretch);
  table_->horizontalHeader()->setMinimumSectionSize(56);
  table_->setColumnWidth(name_column, 158);
  constexpr int widths[] = {72, 50, 54, 54, 70, 48, 60, 68};
  for (int column = integrated_column; column < columns; ++column)
    table_->setColumnWidth(column, widths[column - integrated_column]);
  table_->setSortingEnabled(true);
  table_->horizontalHeader()->setSortIndicator(-1, Qt::AscendingOrder);
  connect(table_, &QTableWidget::itemSelectionChanged, this, [this] {
    draw();
    measure_selection();
  });
  connect(table_, &QTableWidget::itemActivated, this, [this](QTableWidgetItem* item) {
    emit opened(table_->item(item->row(), name_column)->data(Qt::UserRole).toString());
  });
}

void LoudnessView::refill() {
  const QString unit = unit_->currentText();
  table_->setHorizontalHeaderLabels({tr("Clip"), tr("Short-term, \u221250 to 0 %1").arg(unit), tr("Integrated"),
                                     tr("Range"), tr("S max"), tr("M max"), tr("True peak"), tr("PLR"), tr("Clipped"),
                                     tr("To target")});
  right_heads(table_, integrated_column);
  for (const auto& [column, hint] :
       {std::pair{int(ribbon_column), tr("How short-term loudness spreads; the stroke is the integrated loudness")},
        {int(integrated_column), tr("Gated loudness of the whole, %1").arg(unit)},
        {int(range_column), tr("Loudness range, LU")},
        {int(short_column), tr("Greatest 3 s, %1").arg(unit)},
        {int(momentary_column), tr("Greatest 400 ms, %1").arg(unit)},
        {int(peak_column), tr("dBTP")},
        {int(plr_column), tr("True peak less integrated loudness, dB")},
        {int(clipped_column), tr("Runs of three or more equal full-scale samples")},
        {int(match_column), tr("The gain that brings it to the target: with it, all of these are equally loud")}})
    table_->horizontalHeaderItem(column)->setToolTip(hint);
  const QSignalBlocker quiet(table_);
  table_->setSortingEnabled(false);
  table_->setRowCount(int(board_.rows().size()));
  for (size_t n = 0; n < board_.rows().size(); ++n) {
    const LoudnessRow& entry = board_.rows()[n];
    auto* name = new QTableWidgetItem(entry.is_master ? entry.name : "    " + entry.name);
    name->setData(Qt::UserRole, QString::fromStdString(entry.id));
    name->setToolTip(entry.is_master ? entry.name : tr("%1, of %2").arg(entry.name, entry.master));
    name->setFont(face(Type::small, entry.is_master));
    table_->setItem(int(n), name_column, name);
    table_->setItem(int(n), ribbon_column, new QTableWidgetItem);
    for (int column = integrated_column; column < columns; ++column)
      table_->setItem(int(n), column, new NumberItem("", nothing));
  }
  table_->setSortingEnabled(true);
  refresh();
  apply_filter();
  draw();
}

void LoudnessView::refresh() {
  const QSignalBlocker quiet(table_);
  table_->setSortingEnabled(false);
  for (int row = 0; row < table_->rowCount(); ++row)
    if (const auto* entry = board_.row(table_->item(row, name_column)->data(Qt::UserRole).toString().toStdString()))
      put_row(row, *entry);
  table_->setSortingEnabled(true);
  const size_t waiting = board_.waiting(), all = board_.rows().size();
  const auto left = board_.left_s();
  note_->setText(all == 0              ? tr("drop masters and what came back of them")
                 : waiting == 0        ? QString()
                 : board_.is_running() ? tr("%1 of %2 measured%3")
                                             .arg(all - waiting)
                                             .arg(all)
                                             .arg(left ? tr(", about %1 left").arg(clock(*left, 0)) : QString())
                                       : tr("%1 not measured").arg(waiting));
  run_->setText(board_.is_running() ? tr("Cancel") : tr("Measure"));
  run_->setVisible(waiting > 0);
  plate_->set_target(target_->value(), tolerance_->value());
}

void LoudnessView::put_row(int row, const LoudnessRow& entry) {
  if (!entry.measured) {
    table_->item(row, ribbon_column)->setText(entry.failure);
    table_->item(row, ribbon_column)->setToolTip(entry.failure);
    return;
  }
  const Loudness& l = entry.measured->loudness;
  auto* cell = table_->item(row, ribbon_column);
  const void* shown = cell->data(Qt::UserRole).value<void*>();
  if (shown != entry.measured.get()) {  // numbers that are shown already stay
    const auto ribbon = std::make_shared<const Ribbon>(ribbon_of(l, entry.is_master));
    cell->setData(Qt::UserRole, QVariant::fromValue(const_cast<void*>(static_cast<const void*>(entry.measured.get()))));
    cell->setText(QString());
    cell->setData(RibbonPainter::data_role, QVariant::fromValue(ribbon));
    table_->setItem(row, integrated_column, item_of(l.integrated_lufs, 1));
    table_->setItem(row, range_column, item_of(range_of(l), 1));
    table_->setItem(row, short_column, item_of(l.short_term_max_lufs, 1));
    table_->setItem(row, momentary_column, item_of(l.momentary_max_lufs, 1));
    table_->setItem(row, peak_column, item_of(l.true_peak_dbtp, 2));
    table_->setItem(row, plr_column, item_of(l.plr_db, 1));
    table_->setItem(row, clipped_column,
                    new NumberItem(QString::number(entry.measured->levels.clipped_runs),
                                   double(entry.measured->levels.clipped_runs)));
  }
  colour_row(row, l);
}

void LoudnessView::colour_row(int row, const Loudness& l) {
  const auto gain = l.integrated_lufs ? std::optional(target_->value() - *l.integrated_lufs) : std::nullopt;
  table_->setItem(row, match_column, item_of(gain, 1));
  if (gain && *gain > 0) table_->item(row, match_column)->setText("+" + number(*gain, 1));
  const double off = l.integrated_lufs ? std::abs(*l.integrated_lufs - target_->value()) : 0;
  auto ink = [&](int column, bool bad) {
    table_->item(row, column)->setForeground(colour(bad ? Role::rust : Role::ink));
  };
  ink(integrated_column, off > tolerance_->value() + 0.005);
  ink(peak_column, l.true_peak_dbtp && *l.true_peak_dbtp > peak_limit_->value() + 0.005);
  ink(clipped_column, table_->item(row, clipped_column)->text() != "0");
  for (int column : {name_column, range_column, short_column, momentary_column, plr_column, match_column})
    ink(column, false);
}

void LoudnessView::apply_filter() {
  const QString part = filter_->text().trimmed();
  for (int row = 0; row < table_->rowCount(); ++row)
    table_->setRowHidden(
        row, !part.isEmpty() && !table_->item(row, name_column)->toolTip().contains(part, Qt::CaseInsensitive));
}

std::vector<std::string> LoudnessView::chosen() const {
  std::vector<std::string> ids;
  for (const QModelIndex& index : table_->selectionModel()->selectedRows(name_column))
    ids.push_back(index.data(Qt::UserRole).toString().toStdString());
  return ids;
}

void LoudnessView::follow(const std::string& master_id, const std::string& trial_id) {
  if (followed_ == std::pair{master_id, trial_id} || table_->rowCount() == 0) return;
  followed_ = {master_id, trial_id};
  table_->clearSelection();
  for (int row = 0; row < table_->rowCount(); ++row) {
    const auto id = table_->item(row, name_column)->data(Qt::UserRole).toString().toStdString();
    if (id != master_id && id != trial_id) continue;
    table_->selectionModel()->select(table_->model()->index(row, name_column),
                                     QItemSelectionModel::Select | QItemSelectionModel::Rows);
    if (id == trial_id) table_->scrollToItem(table_->item(row, name_column));
  }
}

void LoudnessView::draw() {
  std::vector<LoudnessLine> lines;
  for (const std::string& id : chosen())
    if (const LoudnessRow* row = board_.row(id); row && row->measured)
      lines.push_back({row->is_master ? row->name : row->master + ", " + row->name,
                       {row->measured, &row->measured->loudness},
                       sliding_lufs(row->measured->loudness.pieces, 4),
                       sliding_lufs(row->measured->loudness.pieces, 30),
                       row->is_master});
  plate_->show_lines(std::move(lines));
}

QWidget* LoudnessView::make_foot() {
  auto* foot = new QWidget(this);
  auto* row = new QHBoxLayout(foot);
  row->setContentsMargins(0, 0, 0, 0);
  within_ = soft_label("", foot);
  within_->setWordWrap(true);
  row->addWidget(within_, 1);
  dialogue_ = new QPushButton(tr("Use as dialogue"), foot);
  dialogue_->setToolTip(tr("Outlets that measure long programmes by their dialogue take this stretch of the master"));
  connect(dialogue_, &QPushButton::clicked, this, &LoudnessView::name_dialogue);
  dialogue_->hide();
  row->addWidget(dialogue_);
  auto choice = [&](const QString& hint, const std::vector<std::pair<QString, QVariant>>& items) {
    auto* box = new QComboBox(foot);
    for (const auto& [text, value] : items) box->addItem(text, value);
    box->setToolTip(hint);
    box->setAccessibleName(hint);
    connect(box, &QComboBox::currentIndexChanged, this, &LoudnessView::measure_selection);
    row->addWidget(box);
    return box;
  };
  listen_ = choice(tr("What of the chosen rows is measured here"),
                   {{tr("all channels"), QPoint(int(Listen::all), 0)},
                    {tr("mono as from two"), QPoint(int(Listen::all), dual_mono)},
                    {tr("mid"), QPoint(int(Listen::mid), 0)},
                    {tr("side"), QPoint(int(Listen::side), 0)},
                    {tr("left"), QPoint(int(Listen::one), 0)},
                    {tr("right"), QPoint(int(Listen::one), 1)}});
  for (int c = 2; c < 8; ++c) listen_->addItem(tr("channel %1").arg(c + 1), QPoint(int(Listen::one), c));
  rms_window_ = choice(
      tr("Window of the greatest RMS"),
      {{tr("RMS in 50 ms"), 0.05}, {tr("RMS in 300 ms"), 0.3}, {tr("RMS in 1 s"), 1.0}, {tr("RMS in 10 s"), 10.0}});
  rms_window_->setCurrentIndex(usual_window);
  return foot;
}

MeterOptions LoudnessView::asked() const {
  MeterOptions options;
  const QPoint listen = listen_->currentData().toPoint();
  options.listen = Listen(listen.x());
  options.dual_mono = listen.y() == dual_mono;
  options.channel = options.dual_mono ? 0 : listen.y();
  options.rms_window_s = rms_window_->currentData().toDouble();
  return options;
}

namespace {

QString numbers_of(const LoudnessRow& row, const Loudness& l, const QString& unit) {
  auto shown = [](std::optional<double> v, int decimals) {
    return v ? number(*v, decimals) : QString::fromUtf8("\u2013");
  };
  return LoudnessView::tr("%1: %2 %3, range %4 LU, %5 dBTP, PLR %6, RMS %7, at most %8 dBFS")
      .arg(row.name, shown(l.integrated_lufs, 2), unit, shown(range_of(l), 1), shown(l.true_peak_dbtp, 2),
           shown(l.plr_db, 1), shown(l.rms_dbfs, 1), shown(l.rms_max_dbfs, 1));
}

}  // namespace

/// The chosen rows within what is selected in the plate and in the channels asked for, off the interface thread.
void LoudnessView::measure_selection() {
  narrow_.drop();
  show_within(within_->text(), {});
  std::vector<LoudnessRow> wanted;
  for (const std::string& id : chosen())
    if (const LoudnessRow* row = board_.row(id)) wanted.push_back(*row);
  if (wanted.empty())
    return within_->setText(selection_ ? tr("Choose rows to measure the selection in them.") : QString());
  const bool plain = !selection_ && listen_->currentIndex() == 0 && rms_window_->currentIndex() == usual_window;
  const QString dot = QString::fromUtf8("   \u00b7   ");
  if (plain) {  // as the table has it
    QStringList words;
    for (const LoudnessRow& row : wanted)
      if (row.measured) words << numbers_of(row, row.measured->loudness, unit_->currentText());
    return show_within(words.join(dot), {});
  }
  within_->setText(tr("measuring…"));
  const QString from =
      selection_ ? tr("%1 to %2   ").arg(clock(selection_->first, 1), clock(selection_->second, 1)) : QString();
  narrow_.start([this, wanted, from, dot, run = ++narrow_number_, unit = unit_->currentText(), ask = asked(),
                 range = selection_](const Job& job) {
    QStringList words;
    std::optional<std::pair<std::string, Dialogue>> stretch;
    for (const LoudnessRow& row : wanted) {
      try {
        auto clip = Clip::open(row.file, job);
        if (row.chain) clip = pass(clip, *row.chain, job, {grant_here()}).ret;
        MeterOptions own = ask;
        const double rate = clip->format().sample_rate_hz;
        if (range) own.first = int64_t(range->first * rate), own.last = int64_t(range->second * rate);
        const Loudness heard = measure_loudness(*clip, own, job);
        words << numbers_of(row, heard, unit);
        if (range && row.is_master && wanted.size() == 1 && ask.listen == Listen::all && heard.integrated_lufs)
          stretch = {row.id, {range->first, range->second, *heard.integrated_lufs}};
      } catch (const Cancelled&) {
        throw;
      } catch (const std::exception& error) {  // the others are measured all the same
        words << tr("%1: %2").arg(row.name, QString::fromUtf8(error.what()));
      }
    }
    const QString text = from + words.join(dot);
    QMetaObject::invokeMethod(
        this,
        [this, run, text, stretch] {
          if (run == narrow_number_) show_within(text, stretch);
        },
        Qt::QueuedConnection);
  });
}

void LoudnessView::show_within(const QString& text, const std::optional<std::pair<std::string, Dialogue>>& stretch) {
  within_->setText(text);
  stretch_ = stretch;
  const LoudnessRow* one = chosen().size() == 1 && !selection_ ? board_.row(chosen().front()) : nullptr;
  const bool forget = !stretch_ && one && one->dialogue;
  dialogue_->setText(forget ? tr("Forget dialogue") : tr("Use as dialogue"));
  dialogue_->setVisible(stretch_ || forget);
}

void LoudnessView::name_dialogue() {
  if (!stretch_) {
    board_.set_dialogue(chosen().front(), {});
    return show_within(within_->text(), {});
  }
  board_.set_dialogue(stretch_->first, stretch_->second);
  within_->setText(
      tr("%1 LUFS from %2 to %3 is the dialogue now: outlets that ask for it go by that.")
          .arg(number(stretch_->second.lufs, 1), clock(stretch_->second.from_s, 1), clock(stretch_->second.to_s, 1)));
  dialogue_->hide();
}

QString LoudnessView::csv() const {
  std::vector<Json> rows;
  for (int row = 0; row < table_->rowCount(); ++row) {
    const auto* entry = board_.row(table_->item(row, name_column)->data(Qt::UserRole).toString().toStdString());
    if (!entry || !entry->measured || table_->isRowHidden(row)) continue;
    const QString name = entry->is_master ? entry->name : entry->master + ", " + entry->name;
    rows.push_back(measured_json(name.toStdString(), *entry->measured));
  }
  return QString::fromStdString(measured_csv(rows));
}

void LoudnessView::save_csv() { save_table(this, "loudness.csv", csv()); }

}  // namespace heathmist::app
