#include "app/pages/converters/converters_view.hpp"

#include <QFileDialog>
#include <QHeaderView>
#include <QInputDialog>
#include <QVBoxLayout>
#include <algorithm>

#include "app/theme/theme.hpp"
#include "app/widgets/labels.hpp"
#include "app/widgets/number_item.hpp"

namespace heathmist::app {

namespace {

constexpr int usual_rates[] = {32000, 44100, 48000, 88200, 96000, 176400, 192000, 352800, 384000};
constexpr double nothing = 1e9;

QString kilohertz(int hz) { return QObject::tr("%1 kHz").arg(hz / 1000.0); }

Role role_of(Grade grade) {
  constexpr Role roles[] = {Role::moss, Role::straw, Role::gorse, Role::rust};
  return roles[int(grade)];
}

QString milliseconds(double seconds) { return number(1000 * seconds, 2); }

QString short_name(const BoardRow& row) { return QString::fromStdString(row.name).section(" by ", -1); }

/// One that fails keeps none of the others back; what failed is told in the end.
void each(size_t count, const std::function<void(size_t)>& work) {
  std::string failures;
  for (size_t n = 0; n < count; ++n) {
    try {
      work(n);
    } catch (const Cancelled&) {
      throw;
    } catch (const std::exception& error) {
      failures += (failures.empty() ? "" : "\n") + std::string(error.what());
    }
  }
  if (!failures.empty()) throw std::runtime_error(failures);
}

/// What came out where, small.
QPixmap picture_of(const AliasMap& map, QSize size) {
  QImage image(map.columns, map.rows, QImage::Format_RGB32);
  for (int c = 0; c < map.columns; ++c)
    for (int r = 0; r < map.rows; ++r)
      image.setPixelColor(
          c, map.rows - 1 - r,
          Theme::instance().heat(std::clamp(1 + double(map.db[size_t(c * map.rows + r)]) / 150, 0.0, 1.0)));
  return QPixmap::fromImage(image.scaled(size, Qt::IgnoreAspectRatio, Qt::SmoothTransformation));
}

}  // namespace

ConvertersView::ConvertersView(QWidget* parent) : QWidget(parent) {
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(12, 4, 6, 6);
  rows->setSpacing(4);
  rows->addWidget(make_head());
  sentence_ = answer_label(this);
  rows->addWidget(sentence_);
  auto* split = new QSplitter(Qt::Vertical, this);
  split->setHandleWidth(1);
  make_table(split);
  large_ = new QSplitter(Qt::Horizontal, split);
  large_->setHandleWidth(1);
  for (int n = 0; n < most_large; ++n) {
    plates_.push_back(new FoldPlate(large_));
    plates_.back()->setMinimumSize(160, 150);
  }
  split->setSizes({340, 280});
  rows->addWidget(split, 1);
  connect(&task_, &Task::progressed, this, [this](double fraction) {
    const auto left = task_.left_s(fraction);
    note_->setText(left ? tr("%1 read, about %2 left").arg(rows_.size()).arg(clock(*left, 0)) : tr("sweeping…"));
  });
  connect(&task_, &Task::ended, this, [this](bool whole, const QString& failure) {
    run_->setText(tr("Run"));
    note_->setText(!failure.isEmpty() ? failure : whole ? QString() : tr("stopped"));
    draw();
    if (!failure.isEmpty()) sentence_->setText(failure);
    emit rested();
  });
  connect(&writing_, &Task::ended, this,
          [this](bool whole, const QString& failure) { emit probe_written(whole, whole ? written_words_ : failure); });
  connect(&Theme::instance(), &Theme::changed, this, &ConvertersView::fill);
  draw();
}

QWidget* ConvertersView::make_head() {
  auto* head = new QWidget(this);
  auto* row = new QHBoxLayout(head);
  row->setContentsMargins(0, 0, 0, 0);
  row->setSpacing(6);
  auto rates = [&](int initial, const QString& hint) {
    auto* box = new QComboBox(head);
    for (const int hz : usual_rates) box->addItem(kilohertz(hz), hz);
    box->setCurrentIndex(box->findData(initial));
    box->setToolTip(hint);
    box->setAccessibleName(hint);
    connect(box, &QComboBox::currentIndexChanged, this, [this] {
      task_.drop();
      ++run_number_;
      run_->setText(tr("Run"));
      note_->clear();
      std::erase_if(rows_, [](const BoardRow& r) { return r.chain.has_value(); });
      fill();
    });
    row->addWidget(box);
    return box;
  };
  from_ = rates(96000, tr("The rate that goes in"));
  row->addWidget(new QLabel(tr("to"), head));
  to_ = rates(44100, tr("The rate that comes out"));
  note_ = note_label(head);
  row->addWidget(note_, 1);
  for (const auto& [text, hint, work] :
       {std::tuple{tr("Write a probe…"), tr("A sweep to send through some other program"),
                   &ConvertersView::write_probe_file},
        {tr("Bring in a return…"), tr("Sweep probes that came back from some other program"),
         &ConvertersView::choose_returns}}) {
    auto* button = new QPushButton(text, head);
    button->setToolTip(hint);
    connect(button, &QPushButton::clicked, this, work);
    row->addWidget(button);
  }
  auto* save = new QPushButton(tr("Save as CSV…"), head);
  connect(save, &QPushButton::clicked, this, [this] { save_table(this, "converters.csv", csv()); });
  row->addWidget(save);
  run_ = new QPushButton(tr("Run"), head);
  run_->setProperty("main", true);
  run_->setToolTip(tr("Send a sweep through every converter and read what comes out"));
  connect(run_, &QPushButton::clicked, this, [this] { task_.is_running() ? task_.cancel() : start(); });
  row->addWidget(run_);
  return head;
}

void ConvertersView::make_table(QWidget* parent) {
  table_ = new QTableWidget(0, columns, parent);
  dress_table(table_, tr("Converters for this pair of rates"));
  table_->setHorizontalHeaderLabels({tr("Converter"), tr("In by out"), tr("Grade"), tr("Folds, dB"), tr("From, to"),
                                     tr("Ripple, dB"), tr("\u22120.1, \u22123 dB"), tr("Rings, ms"), tr("Delay, ms"),
                                     tr("THD+N, dB"), tr("Speed")});
  for (const auto& [column, hint] :
       {std::pair{int(picture_column),
                  tr("Input frequency across, output frequency upwards: anything off the line is an alias")},
        {int(folds_column), tr("The strongest alias or image under 20 kHz, against the tone that went in")},
        {int(where_column), tr("Which tone that was, and where it lands")},
        {int(ripple_column), tr("Greatest less least level from 20 Hz to 0.9 of half the lower rate")},
        {int(edge_column), tr("Where the pass band has fallen by 0.1 and by 3 dB")},
        {int(rings_column), tr("How long an impulse rings before its peak, above \u221260 dB")},
        {int(delay_column), tr("Group delay in the pass band")},
        {int(thd_column), tr("Of 997 Hz at \u22121 dBFS, 20 Hz to 20 kHz")},
        {int(speed_column), tr("Seconds of one channel converted in a second, on this machine as it was")}})
    table_->horizontalHeaderItem(column)->setToolTip(hint);
  table_->verticalHeader()->setDefaultSectionSize(28);
  table_->setIconSize({64, 24});
  table_->horizontalHeader()->setSectionResizeMode(QHeaderView::Interactive);
  table_->horizontalHeader()->setSectionResizeMode(name_column, QHeaderView::Stretch);
  for (const auto& [column, width] : {std::pair{int(picture_column), 76},
                                      {int(grade_column), 70},
                                      {int(folds_column), 88},
                                      {int(where_column), 116},
                                      {int(ripple_column), 74},
                                      {int(edge_column), 102},
                                      {int(rings_column), 72},
                                      {int(delay_column), 74},
                                      {int(thd_column), 82},
                                      {int(speed_column), 62}})
    table_->setColumnWidth(column, width);
  right_heads(table_, folds_column);
  table_->setMinimumHeight(110);
  table_->setSortingEnabled(true);
  table_->horizontalHeader()->setSortIndicator(folds_column, Qt::AscendingOrder);
  connect(table_, &QTableWidget::itemSelectionChanged, this, &ConvertersView::draw);
}

void ConvertersView::set_rates(int from_hz, int to_hz) {
  from_->setCurrentIndex(std::max(0, from_->findData(from_hz)));
  to_->setCurrentIndex(std::max(0, to_->findData(to_hz)));
}

void ConvertersView::run(std::function<void(const Job&, const std::function<void(BoardRow)>&)> work) {
  run_->setText(tr("Cancel"));
  task_.start([this, run = ++run_number_, work = std::move(work)](const Job& job) {
    work(job, [this, run](BoardRow row) {
      QMetaObject::invokeMethod(
          this,
          [this, run, row = std::move(row)] {
            if (run == run_number_) take(row);
          },
          Qt::QueuedConnection);
    });
  });
}

void ConvertersView::start() {
  if (from_hz() == to_hz()) return note_->setText(tr("two rates that differ, please"));
  std::erase_if(rows_, [](const BoardRow& r) { return r.chain.has_value(); });
  fill();
  std::vector<Chain> chains = board_converters(to_hz());
  std::erase_if(chains, [&](const Chain& c) { return !QString::fromStdString(title_of(c)).contains(only_); });
  run([chains, from = from_hz()](const Job& job, const auto& give) {
    const auto all = double(chains.size());
    each(chains.size(),
         [&](size_t n) { give(read_converter(chains[n], from, job.part(double(n) / all, double(n + 1) / all))); });
  });
}

void ConvertersView::bring(const QStringList& files) {
  if (task_.is_running() || files.isEmpty()) return;
  run([files](const Job& job, const auto& give) {
    each(size_t(files.size()), [&](size_t n) { give(read_returned_sweep(files[qsizetype(n)].toStdString(), job)); });
  });
}

void ConvertersView::choose_returns() {
  bring(QFileDialog::getOpenFileNames(
      this, tr("Sweep probes that came back"), {},
      tr("Audio (*.wav *.aif *.aiff *.flac *.w64 *.caf *.mp3 *.m4a *.ogg *.opus);;All files (*)")));
}

void ConvertersView::write_probe_file() {
  QStringList titles;
  for (const auto& kind : probe_kinds()) titles << QString::fromStdString(kind.title);
  bool chosen = false;
  const QString title = QInputDialog::getItem(
      this, tr("Write a probe"), tr("Which one, at %1:").arg(kilohertz(from_hz())), titles, 0, false, &chosen);
  if (!chosen) return;
  const auto& kind = probe_kinds()[size_t(titles.indexOf(title))];
  const QString name = QString("%1-%2.wav").arg(QString::fromStdString(kind.key)).arg(from_hz());
  if (const auto to = ask_where(this, {tr("Write a probe"), name, tr("WAV (*.wav)"), "wav"}))
    write_probe_to(kind.key, *to);
}

void ConvertersView::write_probe_to(const std::string& kind, const Destination& to) {
  const auto score = probe_score(kind, from_hz());
  writing_.start([score, to](const Job&) { write_probe(score, to, ProbeWord::pcm24); });
  QStringList lines;
  for (const auto& line : instructions(score)) lines << QString::fromStdString(line);
  lines.back() = tr("Then bring in what came back, with the button beside this one.");
  written_words_ = lines.join("\n\n");
}

void ConvertersView::take(BoardRow row) {
  const bool first = rows_.empty();
  rows_.push_back(std::move(row));
  table_->setSortingEnabled(false);
  table_->setRowCount(int(rows_.size()));
  put(int(rows_.size()) - 1, rows_.size() - 1);
  table_->setSortingEnabled(true);
  if (first) table_->selectRow(0);
  draw();
}

void ConvertersView::fill() {
  const QSignalBlocker quiet(table_);
  table_->setSortingEnabled(false);
  table_->setRowCount(int(rows_.size()));
  for (size_t n = 0; n < rows_.size(); ++n) put(int(n), n);
  table_->setSortingEnabled(true);
  if (!rows_.empty() && table_->selectionModel()->selectedRows().isEmpty()) table_->selectRow(0);
  draw();
}

void ConvertersView::put(int at, size_t place) {
  const BoardRow& row = rows_[place];
  const SweepReading& r = row.sweep;
  const Grade grade = grade_of(r);
  auto* name = new QTableWidgetItem(short_name(row));
  name->setData(Qt::UserRole, qulonglong(place));
  name->setToolTip(QString::fromStdString(row.name) + "\n" + QString::fromStdString(label_of(r)));
  table_->setItem(at, name_column, name);
  auto* picture = new QTableWidgetItem;
  picture->setIcon(QIcon(picture_of(row.map, {64, 24})));
  table_->setItem(at, picture_column, picture);
  auto* word = new NumberItem(tr(name_of(grade)), int(grade));
  word->setTextAlignment(Qt::AlignLeft | Qt::AlignVCenter);
  word->setForeground(colour(role_of(grade)));
  word->setToolTip(QString::fromStdString(label_of(r)));
  table_->setItem(at, grade_column, word);
  const bool folds = r.audible.db > -250;
  table_->setItem(at, folds_column, new NumberItem(folds ? number(r.audible.db, 0) : tr("none"), r.audible.db));
  auto brief = [](double hz) { return number(hz / 1000, 1); };
  table_->setItem(
      at, where_column,
      new NumberItem(folds ? tr("%1 to %2 kHz").arg(brief(r.audible.in_hz), brief(r.audible.out_hz)) : QString(),
                     r.audible.in_hz));
  auto optional = [](std::optional<double> value, const QString& text) {
    return new NumberItem(value ? text : QString::fromUtf8("\u2013"), value.value_or(nothing));
  };
  table_->setItem(at, ripple_column, new NumberItem(number(r.ripple_db, r.ripple_db < 0.1 ? 3 : 2), r.ripple_db));
  const auto &flat = r.edges.minus_0_1_db, &edge = r.edges.minus_3_db;
  auto edge_words = [&](const std::optional<double>& hz) { return hz ? brief(*hz) : QString::fromUtf8("\u2013"); };
  table_->setItem(at, edge_column,
                  new NumberItem(tr("%1, %2 kHz").arg(edge_words(flat), edge_words(edge)), edge.value_or(nothing)));
  table_->setItem(at, rings_column,
                  optional(row.impulse ? std::optional(row.impulse->pre_ringing_s) : std::nullopt,
                           row.impulse ? milliseconds(row.impulse->pre_ringing_s) : QString()));
  table_->setItem(at, delay_column, new NumberItem(milliseconds(r.delay_s), r.delay_s));
  table_->setItem(at, thd_column, optional(row.thd_n_db, number(row.thd_n_db.value_or(0), 1)));
  table_->setItem(at, speed_column,
                  optional(row.speed, QString::fromUtf8("%1\u00d7").arg(number(row.speed.value_or(0), 0))));
}

void ConvertersView::draw() {
  std::vector<const BoardRow*> large;
  for (const QModelIndex& index : table_->selectionModel()->selectedRows(name_column))
    if (const auto place = index.data(Qt::UserRole).toULongLong(); large.size() < most_large && place < rows_.size())
      large.push_back(&rows_[place]);
  large_->setSizes({100, 100, 100});
  for (int n = 0; n < most_large; ++n) {
    FoldPlate* plate = plates_[size_t(n)];
    plate->setVisible(n < std::max(1, int(large.size())));
    if (size_t(n) < large.size()) {
      const auto& r = large[size_t(n)]->sweep;
      plate->show_fold({QString::fromStdString(large[size_t(n)]->name), double(r.from_hz), double(r.to_hz),
                        fold_lines(r.from_hz, r.to_hz), large[size_t(n)]->map});
    } else if (n == 0) {
      plate->show_fold({tr("Where tones land: solid as they are, dotted their images"),
                        double(from_hz()),
                        double(to_hz()),
                        fold_lines(from_hz(), to_hz()),
                        {}});
    }
  }
  sentence_->setText(
      !large.empty()
          ? tr("%1: %2").arg(short_name(*large.front()), QString::fromStdString(label_of(large.front()->sweep)))
      : task_.is_running() ? tr("Sweeping…")
                           : tr("What folds back when %1 become %2? Run sends a sweep through every converter.")
                                 .arg(kilohertz(from_hz()), kilohertz(to_hz())));
}

std::vector<FoldPlate*> ConvertersView::shown_plates() const {
  std::vector<FoldPlate*> all;
  for (FoldPlate* plate : plates_)
    if (!plate->isHidden()) all.push_back(plate);
  return all;
}

QString ConvertersView::csv() const {
  std::vector<Json> table;
  for (const BoardRow& row : rows_) table.push_back(board_line(row));
  return QString::fromStdString(csv_of(table));
}

}  // namespace heathmist::app
