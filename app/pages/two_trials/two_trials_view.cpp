#include "app/pages/two_trials/two_trials_view.hpp"

#include <QSplitter>
#include <QVBoxLayout>
#include <algorithm>
#include <cmath>

#include "app/theme/theme.hpp"
#include "app/widgets/labels.hpp"
#include "app/widgets/terms.hpp"
#include "core/compare/depth.hpp"
#include "core/compare/json.hpp"

namespace heathmist::app {

namespace {

Cell left_cell(std::optional<double> db, bool trusted) {
  if (!trusted) return {QString(QChar(0x2013))};
  return db && *db > -200 ? number_cell(db, 1) : Cell{QObject::tr("nothing")};
}

Cell apart_cell(const std::optional<double>& a, const std::optional<double>& b, int decimals) {
  if (!a || !b) return {};
  Cell cell = number_cell(*a - *b, decimals);
  if (*a > *b && cell.text != number(0, decimals)) cell.text.prepend('+');
  return cell;
}

NamedLine depth_line(const ResidualSums& sums, const QString& name, bool second) {
  NamedLine line{name, {}, {}, colour(Role::residual), second ? Qt::DashLine : Qt::SolidLine, false, 1.8};
  for (const DepthBand& band : third_octave_depth(sums))
    line.hz.push_back(band.centre_hz), line.db.push_back(band.depth_db.value_or(-200));
  return line;
}

/// Both on the bands of the one that has more of them: they differ with the rate.
void on_the_same_bands(NamedLine& a, NamedLine& b) {
  NamedLine &more = a.hz.size() >= b.hz.size() ? a : b, &fewer = a.hz.size() >= b.hz.size() ? b : a;
  fewer.db = on_third_octaves(more.hz, fewer.hz, fewer.db);
  fewer.hz = more.hz;
}

Json json_of(const Cell& cell) {
  if (cell.value) return *cell.value;
  return cell.text.isEmpty() ? Json(nullptr) : Json(cell.text.toStdString());
}

}  // namespace

TwoTrialsView::TwoTrialsView(QWidget* parent) : QWidget(parent) {
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(12, 4, 12, 6);
  rows->setSpacing(4);
  rows->addWidget(make_head());
  rows->addWidget(answer_ = answer_label(this, "residual"));
  rows->addWidget(detail_ = soft_label({}, this));
  detail_->setWordWrap(true);
  auto* split = new QSplitter(Qt::Vertical, this);
  evidence_ = split;
  split->setHandleWidth(1);
  split->setChildrenCollapsible(false);
  auto* upper = new QSplitter(Qt::Horizontal, split);
  upper->setHandleWidth(1);
  upper->setChildrenCollapsible(false);
  table_ = new ResultTable(tr("What two trials are, number by number"), upper);
  table_->set_columns(columns_shown());
  lines_ = new LinesPlate("depth-of-two", tr("Depth of two trials by third octave"), upper);
  lines_->set_unit(tr("residual against the master, dB"));
  set_term(lines_, "depth");
  lines_->setMinimumSize(240, 150);
  upper->setSizes({480, 540});
  split->addWidget(make_maps(split));
  split->setSizes({260, 300});
  rows->addWidget(split, 1);
  rows->addStretch(0);
  show_nothing(tr("Two trials are set side by side here."),
               tr("Drop what came back of a master onto the ledger, twice, or make returns of it with two chains."));
}

QWidget* TwoTrialsView::make_head() {
  auto* head = new QWidget(this);
  auto* row = new QHBoxLayout(head);
  row->setContentsMargins(0, 0, 0, 0);
  row->setSpacing(6);
  exchange_ = new QPushButton(tr("Exchange"), head);
  exchange_->setToolTip(tr("The first becomes the second"));
  connect(exchange_, &QPushButton::clicked, this, &TwoTrialsView::exchange);
  for (size_t side = 0; side < 2; ++side) {
    auto* box = choosers_[side] = new QComboBox(head);
    const QString name = side ? tr("Second") : tr("First");
    row->addWidget(soft_label(name, head));
    box->setAccessibleName(tr("%1 trial").arg(name));
    box->setToolTip(tr("%1 of the two trials").arg(name));
    box->setSizeAdjustPolicy(QComboBox::AdjustToMinimumContentsLengthWithIcon);
    box->setMinimumContentsLength(12);
    row->addWidget(box, 1);
    connect(box, &QComboBox::activated, this, [this] { by_hand_ = true; });
    connect(box, &QComboBox::currentIndexChanged, this, &TwoTrialsView::pair_changed);
    if (side == 0) row->addWidget(exchange_);
  }
  return head;
}

QWidget* TwoTrialsView::make_maps(QWidget* parent) {
  auto* page = new QWidget(parent);
  auto* columns = new QHBoxLayout(page);
  columns->setContentsMargins(0, 6, 0, 0);
  columns->setSpacing(8);
  for (size_t n = 0; n < 3; ++n) {
    auto* rows = new QVBoxLayout;
    rows->setSpacing(2);
    map_names_[n] = title_label({}, page);
    map_names_[n]->setTextFormat(Qt::PlainText);
    map_names_[n]->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
    rows->addWidget(map_names_[n]);
    auto* map = maps_[n] = new DepthPlate(page);
    map->setMinimumSize(160, 150);
    rows->addWidget(map, 1);
    columns->addLayout(rows, 1);
    connect(map, &DepthPlate::selected, this, &TwoTrialsView::area_selected);
    connect(map, &DepthPlate::cleared, this, &TwoTrialsView::area_cleared);
    connect(map, &DepthPlate::clicked, this, [this](double at_s) { emit went_to(at_s); });
    connect(map, &DepthPlate::range_wanted, this, [this](double from, double to) {
      for (DepthPlate* each : maps_) each->set_range(from, to);
    });
    connect(map, &DepthPlate::bands_changed, this, [this](const QCPRange& rows_seen) {
      for (DepthPlate* each : maps_) each->set_bands(rows_seen);
    });
  }
  return page;
}

std::vector<Column> TwoTrialsView::columns_shown() {
  const auto of = [this](Cell Fact::*which) { return [this, which](size_t row) { return facts_[row].*which; }; };
  return {{tr("What"), {}, [this](size_t row) { return Cell{facts_[row].what}; }, false, Column::stretch},
          {tr("First"), {}, of(&Fact::first), true, Column::as_content, "two_trials"},
          {tr("Second"), {}, of(&Fact::second), true, Column::as_content, "two_trials"},
          {tr("Apart"), tr("The first less the second"), of(&Fact::apart), true, Column::as_content, "two_trials"}};
}

void TwoTrialsView::show_bench(const Bench& bench, const std::string& looked_at) {
  const auto before = chosen();
  std::vector<std::string> ids;
  QStringList names;
  size_t at = 0, beside = 0;  // what is looked at, and the next one of its master, or else the one before
  for (const Master& m : bench.masters)
    for (size_t n = 0; n < m.trials.size(); ++n) {
      if (m.trials[n].id == looked_at) {
        at = ids.size();
        beside = n + 1 < m.trials.size() ? at + 1 : n > 0 ? at - 1 : at;
      }
      ids.push_back(m.trials[n].id);
      names << QString::fromStdString(m.name + " \u00b7 " + title_of(m.trials[n]));
    }
  if (at == beside && ids.size() > 1) beside = at == 0 ? 1 : 0;
  ids_ = ids;
  for (size_t side = 0; side < 2; ++side) {
    const QSignalBlocker quiet(choosers_[side]);
    choosers_[side]->clear();
    choosers_[side]->addItems(names);
    const auto still = by_hand_ ? std::find(ids.begin(), ids.end(), before[side]) : ids.end();
    choosers_[side]->setCurrentIndex(still != ids.end() ? int(still - ids.begin())
                                     : ids.empty()      ? -1
                                     : side == 0        ? int(at)
                                                        : int(beside));
  }
  for (QWidget* part :
       {static_cast<QWidget*>(choosers_[0]), static_cast<QWidget*>(choosers_[1]), static_cast<QWidget*>(exchange_)})
    part->setEnabled(ids.size() > 1);
  if (chosen() != before) emit pair_changed();
}

std::array<std::string, 2> TwoTrialsView::chosen() const {
  std::array<std::string, 2> both;
  for (size_t side = 0; side < 2; ++side)
    if (const int n = choosers_[side]->currentIndex(); n >= 0 && size_t(n) < ids_.size()) both[side] = ids_[size_t(n)];
  return both;
}

void TwoTrialsView::choose(int side, const std::string& trial_id) {
  const auto at = std::find(ids_.begin(), ids_.end(), trial_id);
  if (at == ids_.end()) return;
  by_hand_ = true;
  choosers_[size_t(side)]->setCurrentIndex(int(at - ids_.begin()));
}

void TwoTrialsView::exchange() {
  const auto [first, second] = chosen();
  {
    const QSignalBlocker quiet(choosers_[0]);
    choose(0, second);
  }
  const QSignalBlocker quiet(choosers_[1]);
  choose(1, first);
  emit pair_changed();
}

void TwoTrialsView::show_results(const std::array<std::shared_ptr<const TrialResult>, 2>& results) {
  std::array<QString, 2> names;
  for (size_t side = 0; side < 2; ++side)
    names[side] = choosers_[side]->currentText().section(QString(" %1 ").arg(QChar(0xb7)), 1);
  if (results == results_ && names == names_ && results[0] && evidence_->isVisibleTo(this)) return;
  const auto id_of = [](const std::shared_ptr<const TrialResult>& r) { return r ? r->spec.id : std::string(); };
  const bool another = id_of(results_[0]) != id_of(results[0]) || id_of(results_[1]) != id_of(results[1]);
  results_ = results, names_ = names;
  if (ids_.size() < 2)
    return show_nothing(
        ids_.empty() ? tr("Two trials are set side by side here.") : tr("One trial is on the bench: two are wanted."),
        tr("Drop what came back of a master onto the ledger, or make a return of it with a chain (Ctrl R)."));
  if (!results[0] || !results[1])
    return show_nothing(tr("Measuring %1\u2026").arg(names_[results[0] ? 1 : 0]),
                        tr("Both are laid on their masters first."));
  fill();
  if (!another) return;
  double end_s = 0;
  for (const auto& result : results) {
    const DepthCells& cells = result->report->sums.depth;
    end_s = std::max(end_s, cells.first_s + cells.column_s * cells.columns());
  }
  for (DepthPlate* map : maps_) map->set_range(0, end_s);
}

void TwoTrialsView::show_failure(const QString& sentence) {
  show_nothing(tr("One of the two cannot be measured."), sentence);
}

void TwoTrialsView::show_nothing(const QString& answer, const QString& detail) {
  evidence_->hide();
  answer_->setText(answer);
  detail_->setText(detail);
}

void TwoTrialsView::fill() {
  const NullReport &a = *results_[0]->report, &b = *results_[1]->report;
  const auto verdict = verdict_of_two(a, b, names_[0].toStdString(), names_[1].toStdString());
  answer_->setText(QString::fromStdString(verdict.text));
  detail_->setText(QString::fromStdString(verdict.detail) +
                   (results_[0]->spec.master == results_[1]->spec.master ? QString() : tr(" Their masters differ.")));
  evidence_->show();
  fill_table(a, b);
  draw();
}

void TwoTrialsView::fill_table(const NullReport& a, const NullReport& b) {
  facts_.clear();
  const auto words = [&](const QString& what, auto text) { facts_.push_back({what, {text(a)}, {text(b)}}); };
  const auto left = [&](const QString& what, auto db) {
    facts_.push_back({what, left_cell(db(a), a.fit.trusted), left_cell(db(b), b.fit.trusted),
                      a.fit.trusted && b.fit.trusted ? apart_cell(db(a), db(b), 1) : Cell{}});
  };
  const auto value = [&](const QString& what, auto of, int decimals) {
    const std::optional<double> first = of(a), second = of(b);
    if (!first && !second) return;
    if (first == 0.0 && second == 0.0) return;  // nothing to tell
    facts_.push_back(
        {what, number_cell(first, decimals), number_cell(second, decimals), apart_cell(first, second, decimals)});
  };
  words(tr("Kind"), [](const NullReport& r) { return QString(name_of(r.kind)).replace('_', ' '); });
  left(tr("Residual, dBr"), [](const NullReport& r) { return r.residual_relative_db(); });
  left(tr("Remainder, dBr"), [](const NullReport& r) { return r.sums.remainder_relative_db(); });
  value(
      tr("Delay, samples"), [](const NullReport& r) { return std::optional(r.fit.delay_samples); }, 2);
  value(
      tr("Drift, ppm"), [](const NullReport& r) { return std::optional(r.fit.drift_ppm); }, 2);
  value(
      tr("Gain, dB"), [](const NullReport& r) { return std::optional(r.fit.gain_db); }, 2);
  value(
      tr("Reaches, kHz"),
      [](const NullReport& r) {
        return r.return_bandwidth_hz ? std::optional(*r.return_bandwidth_hz / 1000) : std::nullopt;
      },
      2);
  for (const CauseOfTwo& cause : causes_of_two(a, b))
    facts_.push_back({tr("%1 takes out, dB").arg(QString::fromStdString(cause.label)), number_cell(cause.first_db, 1),
                      number_cell(cause.second_db, 1), apart_cell(cause.first_db, cause.second_db, 1)});
  table_->set_rows(facts_.size(), [this](size_t row) { return facts_[row].what; });
}

void TwoTrialsView::draw() {
  const auto first = results_[0], second = results_[1];
  lines_->show_lines([first, second, names = names_] {
    std::vector<NamedLine> both{depth_line(first->report->sums, names[0], false),
                                depth_line(second->report->sums, names[1], true)};
    on_the_same_bands(both[0], both[1]);
    return both;
  });
  maps_[0]->show_cells(first->report->sums.depth);
  maps_[1]->show_cells(second->report->sums.depth);
  maps_[2]->show_difference(depth_difference(first->report->sums.depth, second->report->sums.depth));
  for (size_t side = 0; side < 2; ++side) {
    map_names_[side]->setText(names_[side]);
    map_names_[side]->setToolTip(names_[side]);
    maps_[side]->setAccessibleName(tr("Depth map of %1").arg(names_[side]));
  }
  maps_[2]->setAccessibleName(tr("Difference of the depth maps of %1 and %2").arg(names_[0], names_[1]));
  map_names_[2]->setText(tr("First less second"));
}

QString TwoTrialsView::csv() const {
  std::vector<Json> rows;
  for (const Fact& f : facts_)
    rows.push_back({{"what", f.what.toStdString()},
                    {"first", json_of(f.first)},
                    {"second", json_of(f.second)},
                    {"first_less_second", json_of(f.apart)}});
  return QString::fromStdString(csv_of(rows));
}

void TwoTrialsView::set_playhead(double at_s) {
  for (DepthPlate* map : maps_) map->set_playhead(at_s);
}

void TwoTrialsView::set_selection(const std::optional<std::pair<double, double>>& seconds,
                                  const std::optional<std::pair<double, double>>& hz) {
  for (DepthPlate* map : maps_) map->set_frame(seconds, hz);
  lines_->set_band(hz);
}

}  // namespace heathmist::app
