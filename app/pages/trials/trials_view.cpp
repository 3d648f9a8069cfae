#include "app/pages/trials/trials_view.hpp"

#include <QFileDialog>
#include <QHeaderView>
#include <QMessageBox>
#include <QPushButton>
#include <QSplitter>
#include <QVBoxLayout>
#include <cmath>

#include "app/theme/theme.hpp"
#include "app/widgets/labels.hpp"
#include "app/widgets/number_item.hpp"

namespace heathmist::app {

namespace {

constexpr double silence_db = -400;  // sorts before every number

constexpr Qt::PenStyle styles[] = {Qt::SolidLine, Qt::DashLine, Qt::DotLine, Qt::DashDotLine};

}  // namespace

TrialsView::TrialsView(QWidget* parent) : QWidget(parent) {
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(12, 8, 6, 6);
  rows->setSpacing(4);
  auto* head = new QHBoxLayout;
  auto* title = title_label(tr("Trials side by side"), this);
  head->addWidget(title);
  note_ = note_label(this);
  head->addWidget(note_, 1);
  head->addWidget(soft_label(tr("in band:"), this));
  band_ = new QComboBox(this);
  band_->setAccessibleName(tr("The band in which trials are compared"));
  for (const auto& [name, low, high] : {std::tuple{tr("20 to 120 Hz"), 20.0, 120.0},
                                        {tr("120 to 1000 Hz"), 120.0, 1000.0},
                                        {tr("1 to 5 kHz"), 1000.0, 5000.0},
                                        {tr("5 to 12 kHz"), 5000.0, 12000.0},
                                        {tr("12 to 24 kHz"), 12000.0, 24000.0},
                                        {tr("above 24 kHz"), 24000.0, 1e6}})
    band_->addItem(name, QPointF(low, high));
  band_->setCurrentIndex(2);
  head->addWidget(band_);
  auto* save = new QPushButton(tr("Save as CSV…"), this);
  connect(save, &QPushButton::clicked, this, &TrialsView::save_csv);
  head->addWidget(save);
  rows->addLayout(head);

  auto* split = new QSplitter(Qt::Vertical, this);
  split->setHandleWidth(1);
  table_ = new QTableWidget(0, columns, split);
  table_->setHorizontalHeaderLabels({tr("Master"), tr("Trial"), tr("Kind"), tr("Causes"), tr("Residual"), tr("In band"),
                                     tr("Remainder"), tr("Delay"), tr("Gain"), tr("Drift"), tr("Reaches"), tr("Word")});
  right_heads(table_, depth_column);
  dress_table(table_, tr("All trials of the bench"));
  table_->setSortingEnabled(true);
  for (const auto& [column, unit] :
       {std::pair{causes_column,
                  tr("What takes most of the residual out, greatest first; known of trials that were looked at")},
        {depth_column, tr("Residual against the master's RMS, dB")},
        {band_column, tr("The same in the band chosen above, mean of its third octaves, dB")},
        {remainder_column, tr("What no filter explains, against the master's RMS, dB")},
        {delay_column, tr("Samples; positive: the return is late")},
        {gain_column, tr("dB")},
        {drift_column, tr("ppm; positive: the return is longer")},
        {reach_column, tr("Where the return's spectrum ends")},
        {word_column, tr("Bits really used, or the codec")}})
    table_->horizontalHeaderItem(column)->setToolTip(unit);
  table_->setSortingEnabled(true);
  table_->horizontalHeader()->setSectionResizeMode(trial_column, QHeaderView::Interactive);
  table_->sortByColumn(depth_column, Qt::DescendingOrder);
  plate_ = new LinesPlate("depth-of-trials", tr("Depth by third octave of the chosen trials"), true, split);
  split->addWidget(table_);
  split->addWidget(plate_);
  split->setSizes({380, 280});
  plate_->setMinimumHeight(160);
  rows->addWidget(split, 1);
  connect(band_, &QComboBox::currentIndexChanged, this, &TrialsView::fill);
  connect(table_, &QTableWidget::itemSelectionChanged, this, &TrialsView::draw);
  connect(table_, &QTableWidget::itemActivated, this, [this](QTableWidgetItem* item) {
    emit opened(table_->item(item->row(), master_column)->data(Qt::UserRole).toString());
  });
}

/// The trial's name takes what the numbers leave, but never less than its words need.
void TrialsView::resizeEvent(QResizeEvent* event) {
  QWidget::resizeEvent(event);
  int others = 0;
  for (int column = 0; column < columns; ++column)
    if (column != trial_column && !table_->isColumnHidden(column)) others += table_->columnWidth(column);
  table_->setColumnWidth(trial_column, std::clamp(table_->viewport()->width() - others, 110, 260));
}

void TrialsView::show_bench(const Bench& bench, const std::map<std::string, RowState>& states) {
  std::vector<Line> lines;
  size_t waiting = 0;
  for (const Master& m : bench.masters)
    for (const Trial& t : m.trials) {
      const auto state = states.find(t.id);
      if (state == states.end() || !state->second.summary) {
        ++waiting;
        continue;
      }
      lines.push_back(
          {t.id, QString::fromStdString(m.name), QString::fromStdString(title_of(t)), *state->second.summary});
    }
  note_->setText(waiting         ? tr("   %1 not measured yet").arg(waiting)
                 : lines.empty() ? tr("   no trials on this bench yet")
                                 : QString());
  const bool same = lines.size() == lines_.size() &&
                    std::equal(lines.begin(), lines.end(), lines_.begin(), [](const Line& a, const Line& b) {
                      return a.id == b.id && a.master == b.master && a.trial == b.trial &&
                             a.summary.kind == b.summary.kind && a.summary.causes == b.summary.causes &&
                             a.summary.residual_relative_db == b.summary.residual_relative_db;
                    });
  lines_ = std::move(lines);
  if (!same) fill();
}

std::optional<double> TrialsView::in_band(const TrialSummary& s) const {
  const QPointF band = band_->currentData().toPointF();
  return depth_between(s, band.x(), band.y());
}

void TrialsView::fill() {
  const QSignalBlocker quiet(table_);
  table_->setSortingEnabled(false);
  table_->setRowCount(int(lines_.size()));
  auto level = [](std::optional<double> db) { return !db || *db <= -200 ? tr("nothing") : number(*db, 1); };
  for (int row = 0; row < int(lines_.size()); ++row) {
    const Line& line = lines_[size_t(row)];
    const TrialSummary& s = line.summary;
    const auto band = in_band(s);
    table_->setItem(row, master_column, new QTableWidgetItem(line.master));
    table_->item(row, master_column)->setData(Qt::UserRole, QString::fromStdString(line.id));
    table_->setItem(row, trial_column, new QTableWidgetItem(line.trial));
    table_->setItem(row, kind_column, new QTableWidgetItem(QString::fromStdString(s.kind).replace('_', ' ')));
    table_->setItem(row, causes_column,
                    new QTableWidgetItem(s.causes.empty() ? QString(QChar(0x2013)) : QString::fromStdString(s.causes)));
    const auto put = [&](Column column, const QString& text, double value) {
      table_->setItem(row, column, new NumberItem(text, value));
    };
    const QString none = QString(QChar(0x2013));
    put(depth_column, s.trusted ? level(s.residual_relative_db) : none,
        s.trusted ? s.residual_relative_db.value_or(silence_db) : 1000);
    put(band_column, !s.trusted || !band ? none : level(band), s.trusted ? band.value_or(silence_db) : 1000);
    put(remainder_column, s.trusted ? level(s.remainder_relative_db) : none,
        s.trusted ? s.remainder_relative_db.value_or(silence_db) : 1000);
    put(delay_column,
        s.trusted ? number(s.delay_samples, s.delay_samples == std::round(s.delay_samples) ? 0 : 2) : none,
        s.delay_samples);
    put(gain_column, s.trusted ? number(s.gain_db, 2) : none, s.gain_db);
    put(drift_column, s.trusted ? number(s.drift_ppm, 2) : none, s.drift_ppm);
    put(reach_column, s.bandwidth_hz ? hertz(*s.bandwidth_hz, false) : none, s.bandwidth_hz.value_or(0));
    put(word_column,
        s.bits_used > 0 ? tr("%1 bit").arg(s.bits_used)
        : s.bit_rate_bps
            ? tr("%1 %2 kbit/s").arg(QString::fromStdString(s.codec)).arg(number(double(*s.bit_rate_bps) / 1000, 0))
            : QString::fromStdString(s.codec),
        s.bits_used);
  }
  table_->setColumnHidden(drift_column, std::all_of(lines_.begin(), lines_.end(), [](const Line& line) {
                            return !line.summary.trusted || line.summary.drift_ppm == 0;
                          }));
  table_->setSortingEnabled(true);
  QResizeEvent settle(size(), size());
  resizeEvent(&settle);
  draw();
}

void TrialsView::draw() {
  QStringList chosen;
  for (const auto& index : table_->selectionModel()->selectedRows(master_column))
    chosen << index.data(Qt::UserRole).toString();
  std::vector<Line> lines;
  for (const Line& line : lines_)
    if ((chosen.isEmpty() ? line.summary.trusted : chosen.contains(QString::fromStdString(line.id))) &&
        std::any_of(line.summary.band_db.begin(), line.summary.band_db.end(), [](double db) { return db > -199; }))
      lines.push_back(line);
  if (lines.size() > 8) lines.resize(8);
  plate_->show_lines([lines] {
    std::vector<NamedLine> result;
    const auto longest = std::max_element(lines.begin(), lines.end(), [](const Line& a, const Line& b) {
      return a.summary.band_hz.size() < b.summary.band_hz.size();
    });
    for (size_t n = 0; n < lines.size(); ++n) {
      const TrialSummary& s = lines[n].summary;
      NamedLine line{lines[n].trial,
                     longest->summary.band_hz,
                     std::vector<double>(longest->summary.band_hz.size(), -200.0),
                     colour(Role::residual),
                     styles[result.size() % 4],
                     false,
                     result.size() < 4 ? 1.6 : 0.9};
      for (size_t k = 0; k < line.hz.size(); ++k)  // bands differ with the rate
        for (size_t j = 0; j < s.band_hz.size(); ++j)
          if (std::abs(s.band_hz[j] / line.hz[k] - 1) < 0.01) line.db[k] = s.band_db[j];
      result.push_back(std::move(line));
    }
    return result;
  });
}

QString TrialsView::csv() const {
  QString text =
      "master,trial,kind,causes,residual_dbr,in_band_dbr,remainder_dbr,delay_samples,gain_db,drift_ppm,bandwidth_hz,"
      "bits_used,"
      "codec\n";
  auto quoted = [](QString words) { return "\"" + words.replace("\"", "\"\"") + "\""; };
  auto value = [](std::optional<double> v, int decimals) { return v ? QString::number(*v, 'f', decimals) : QString(); };
  for (const Line& line : lines_) {
    const auto& s = line.summary;
    text += QStringList{quoted(line.master),
                        quoted(line.trial),
                        QString::fromStdString(s.kind),
                        quoted(QString::fromStdString(s.causes)),
                        value(s.residual_relative_db, 2),
                        value(in_band(s), 2),
                        value(s.remainder_relative_db, 2),
                        value(s.delay_samples, 4),
                        value(s.gain_db, 4),
                        value(s.drift_ppm, 3),
                        value(s.bandwidth_hz, 0),
                        s.bits_used ? QString::number(s.bits_used) : QString(),
                        QString::fromStdString(s.codec)}
                .join(',') +
            "\n";
  }
  return text;
}

void TrialsView::save_csv() { save_table(this, "trials.csv", csv()); }

}  // namespace heathmist::app
