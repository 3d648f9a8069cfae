#include "app/pages/trials/trials_view.hpp"

#include <QHeaderView>
#include <QPushButton>
#include <QSplitter>
#include <QVBoxLayout>
#include <cmath>

#include "app/theme/theme.hpp"
#include "app/widgets/labels.hpp"
#include "app/widgets/saving.hpp"
#include "app/widgets/terms.hpp"
#include "core/compare/json.hpp"

namespace heathmist::app {

namespace {

constexpr double silence_db = -400, unrelated_db = 1000;  // sort before and behind every number

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
  table_ = new ResultTable(tr("All trials of the bench"), split);
  table_->set_columns(columns_shown());
  table_->sort_by(depth_column, Qt::DescendingOrder);
  plate_ = new LinesPlate("depth-of-trials", tr("Depth by third octave of the chosen trials"), split);
  plate_->set_unit(tr("residual against the master, dB"));
  set_term(plate_, "depth");
  split->addWidget(table_);
  split->addWidget(plate_);
  split->setSizes({380, 280});
  plate_->setMinimumHeight(160);
  rows->addWidget(split, 1);
  connect(band_, &QComboBox::currentIndexChanged, this, &TrialsView::fill);
  connect(table_, &ResultTable::chosen_changed, this, &TrialsView::draw);
  connect(table_, &ResultTable::opened, this,
          [this](size_t row) { emit opened(QString::fromStdString(lines_[row].id)); });
}

/// Trials that cannot be laid on their masters have no levels; they stand with the worst.
std::vector<app::Column> TrialsView::columns_shown() {
  const auto of = [this](auto what) { return [this, what](size_t row) -> Cell { return what(lines_[row]); }; };
  const auto words = [of](auto what) { return of([what](const Line& l) { return Cell{what(l)}; }); };
  const auto value = [of](std::optional<double> (*what)(const TrialSummary&), int decimals) {
    return of([what, decimals](const Line& l) {
      return l.summary.trusted ? number_cell(what(l.summary), decimals) : Cell{QString(QChar(0x2013))};
    });
  };
  const auto level = [of](std::function<std::optional<double>(const TrialSummary&)> what) {
    return of([what](const Line& l) {
      if (!l.summary.trusted) return Cell{QString(QChar(0x2013)), unrelated_db};
      const auto db = what(l.summary);
      return !db || *db <= -200 ? Cell{tr("nothing"), silence_db} : number_cell(db, 1);
    });
  };
  using S = TrialSummary;
  return {
      {tr("Master"), {}, words([](const Line& l) { return l.master; })},
      {tr("Trial"), {}, words([](const Line& l) { return l.trial; }), false, app::Column::stretch},
      {tr("Kind"), {}, words([](const Line& l) { return QString::fromStdString(l.summary.kind).replace('_', ' '); })},
      {tr("Causes"), tr("What takes most of the residual out, greatest first; known of trials that were looked at"),
       words([](const Line& l) {
         return l.summary.causes.empty() ? QString(QChar(0x2013)) : QString::fromStdString(l.summary.causes);
       }),
       false, app::Column::as_content, "cause"},
      {tr("Residual"), tr("Residual against the master's RMS, dB"),
       level([](const S& s) { return s.residual_relative_db; }), true, app::Column::as_content, "residual"},
      {tr("In band"), tr("The same in the band chosen above, mean of its third octaves, dB"), of([this](const Line& l) {
         const auto db = in_band(l.summary);
         if (!l.summary.trusted || !db) return Cell{QString(QChar(0x2013)), unrelated_db};
         return *db <= -200 ? Cell{tr("nothing"), silence_db} : number_cell(db, 1);
       }),
       true, app::Column::as_content, "depth", 3},
      {tr("Remainder"), tr("What no filter explains, against the master's RMS, dB"),
       level([](const S& s) { return s.remainder_relative_db; }), true, app::Column::as_content, "remainder", 4},
      {tr("Delay"), tr("Samples; positive: the return is late"), of([](const Line& l) {
         const double delay = l.summary.delay_samples;
         return l.summary.trusted ? number_cell(delay, delay == std::round(delay) ? 0 : 2)
                                  : Cell{QString(QChar(0x2013))};
       }),
       true, app::Column::as_content, "delay"},
      {tr("Gain"), tr("dB"), value([](const S& s) { return std::optional(s.gain_db); }, 2), true,
       app::Column::as_content, "gain"},
      {tr("Drift"), tr("ppm; positive: the return is longer"),
       value([](const S& s) { return std::optional(s.drift_ppm); }, 2), true, app::Column::as_content, "drift", 5},
      {tr("Reaches"), tr("Where the return's spectrum ends"), of([](const Line& l) {
         const auto hz = l.summary.bandwidth_hz;
         return Cell{hz ? hertz(*hz, false) : QString(QChar(0x2013)), hz};
       }),
       true, app::Column::as_content, "band_limit", 2},
      {tr("Word"), tr("Bits really used, or the codec"), of([](const Line& l) {
         const S& s = l.summary;
         const QString codec = QString::fromStdString(s.codec);
         return Cell{s.bits_used > 0  ? tr("%1 bit").arg(s.bits_used)
                     : s.bit_rate_bps ? tr("%1 %2 kbit/s").arg(codec, number(double(*s.bit_rate_bps) / 1000, 0))
                                      : codec,
                     double(s.bits_used)};
       }),
       true, app::Column::as_content, "word_length", 1},
  };
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
  table_->set_rows(lines_.size(), [this](size_t row) { return QString::fromStdString(lines_[row].id); });
  table_->fold(drift_column, std::all_of(lines_.begin(), lines_.end(), [](const Line& line) {
                 return !line.summary.trusted || line.summary.drift_ppm == 0;
               }));
  draw();
}

void TrialsView::draw() {
  const auto chosen = table_->chosen();
  std::vector<Line> lines;
  for (size_t n = 0; n < lines_.size(); ++n)
    if (const Line& line = lines_[n];
        (chosen.empty() ? line.summary.trusted : std::count(chosen.begin(), chosen.end(), n) > 0) &&
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
      const auto& hz = longest->summary.band_hz;  // bands differ with the rate
      NamedLine line{lines[n].trial,
                     hz,
                     on_third_octaves(hz, s.band_hz, s.band_db),
                     colour(Role::residual),
                     line_style(size_t(result.size())),
                     false,
                     result.size() < 4 ? 1.6 : 0.9};
      result.push_back(std::move(line));
    }
    return result;
  });
}

QString TrialsView::csv() const {
  std::vector<Json> rows;
  for (const Line& line : lines_) {
    const TrialSummary& s = line.summary;
    const auto or_null = [](const std::optional<double>& v) { return v ? Json(*v) : Json(nullptr); };
    rows.push_back({{"master", line.master.toStdString()},
                    {"trial", line.trial.toStdString()},
                    {"kind", s.kind},
                    {"causes", s.causes},
                    {"residual_dbr", or_null(s.residual_relative_db)},
                    {"in_band_dbr", or_null(in_band(s))},
                    {"remainder_dbr", or_null(s.remainder_relative_db)},
                    {"delay_samples", s.delay_samples},
                    {"gain_db", s.gain_db},
                    {"drift_ppm", s.drift_ppm},
                    {"bandwidth_hz", or_null(s.bandwidth_hz)},
                    {"bits_used", s.bits_used ? Json(s.bits_used) : Json(nullptr)},
                    {"codec", s.codec}});
  }
  return QString::fromStdString(csv_of(rows));
}

void TrialsView::save_csv() { save_table(this, "trials.csv", csv()); }

}  // namespace heathmist::app
