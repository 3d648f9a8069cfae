#include "app/pages/null/null_view.hpp"

#include <QPushButton>
#include <QSplitter>
#include <QVBoxLayout>
#include <cmath>

#include "app/theme/theme.hpp"
#include "app/widgets/labels.hpp"
#include "core/compare/audition.hpp"

namespace heathmist::app {

namespace {

constexpr int settle_ms = 350;
constexpr double cell_seconds = 0.6;  // of a cell that is heard
constexpr double live_seconds = 4;    // how much programme a nudge is answered from

}  // namespace

NullView::NullView(TrialResults& results, Queue& queue, QWidget* parent)
    : QWidget(parent), results_(results), queue_(queue), feed_(queue) {
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(0, 0, 0, 0);
  rows->setSpacing(0);
  pages_ = new QStackedWidget(this);
  pages_->addWidget(make_empty());
  pages_->addWidget(make_evidence());
  chain_strip_ = new ChainStrip(this);
  chain_strip_->hide();
  rows->addWidget(chain_strip_);
  rows->addWidget(make_progress());
  rows->addWidget(pages_, 1);

  settle_.setSingleShot(true);
  settle_.setInterval(settle_ms);
  connect(&settle_, &QTimer::timeout, this, [this] {
    if (!std::exchange(pending_, false)) return;
    emit hold_changed(hold_, pending_what_);
  });
  connect(strip_, &FitStrip::hold_changed, this, &NullView::take_hold);
  connect(&results_, &TrialResults::looked, this, &NullView::take_look);
  connect(lanes_, &LanesPlate::range_changed, this, [this](double from, double to) {
    refresh_lanes();
    plates_->set_range(from, to);
  });
  connect(&feed_, &LaneFeed::refined, this, &NullView::refresh_lanes);
  connect(lanes_, &LanesPlate::clicked, this, &NullView::seek);
  connect(lanes_, &LanesPlate::return_dragged, this, [this](double samples) {
    if (!trial_) return;
    FitHold hold = hold_;
    hold.delay_samples = std::round(with_hold(trial_->measured, hold_).delay_samples + samples);
    take_hold(hold, tr("Align by hand"));
  });
  connect(plates_, &PlatePanel::resolution_changed, this, &NullView::ask_for_look);
  connect(plates_, &PlatePanel::jump, this, [this](double at) { show_spot(at); });
  connect(plates_, &PlatePanel::part_chosen, this, [this](const BudgetStep* step, bool without) {
    if (!step || !trial_->why) return emit cause_heard(nullptr, {}, Heard::residual);
    const std::shared_ptr<const Layers> layers(trial_->why, &trial_->why->layers);
    emit cause_heard(cause_clip(trial_->pair, trial_->report->fit, layers, step->part),
                     QString::fromStdString(step->label), without ? Heard::ret : Heard::residual);
  });
  connect(plates_, &PlatePanel::cell_chosen, this, [this](double at, double low, double high) {
    const double half = cell_seconds / 2;
    set_band(std::pair{low, high});
    set_selection(std::pair{std::max(0.0, at - half), std::min(feed_.length_s(), at + half)});
    emit cell_heard();
  });
  connect(plates_, &PlatePanel::area_selected, this, [this](double from, double to, double low, double high) {
    set_band(std::pair{low, high});
    set_selection(std::pair{from, to});
  });
  connect(plates_, &PlatePanel::area_cleared, this, [this] {
    set_band({});
    set_selection({});
  });
  connect(plates_, &PlatePanel::range_wanted, lanes_, &LanesPlate::set_range);
  connect(plates_, &PlatePanel::band_selected, this, [this](double low, double high) {
    set_band(std::pair{low, high});
  });
  connect(plates_, &PlatePanel::band_cleared, this, [this] { set_band({}); });
  connect(strip_, &FitStrip::snap_wanted, this, &NullView::snap);
  connect(lanes_, &LanesPlate::selected, this, [this](double from, double to) { set_selection(std::pair{from, to}); });
}

QWidget* NullView::make_empty() {
  auto* page = new QWidget(this);
  auto* rows = new QVBoxLayout(page);
  rows->addStretch(2);
  empty_headline_ = new QLabel(page);
  empty_headline_->setFont(face(Type::headline, true));
  empty_headline_->setAlignment(Qt::AlignCenter);
  for (QLabel* label : {empty_headline_, empty_advice_ = new QLabel(page)}) label->setTextFormat(Qt::PlainText);
  empty_headline_->setWordWrap(true);
  empty_advice_->setAlignment(Qt::AlignCenter);
  empty_advice_->setWordWrap(true);
  choose_ = new QPushButton(tr("Choose files…"), page);
  choose_->setProperty("main", true);
  choose_->setToolTip(tr("Choose a master and what came back (Ctrl+I)"));
  connect(choose_, &QPushButton::clicked, this, &NullView::choose_files);
  rows->addWidget(empty_headline_);
  rows->addSpacing(8);
  rows->addWidget(empty_advice_);
  rows->addSpacing(16);
  rows->addWidget(choose_, 0, Qt::AlignCenter);
  rows->addStretch(3);
  return page;
}

QWidget* NullView::make_progress() {
  progress_ = new QWidget(this);
  auto* rows = new QVBoxLayout(progress_);
  rows->setContentsMargins(0, 0, 0, 0);
  rows->setSpacing(0);
  progress_bar_ = new QProgressBar(progress_);
  progress_bar_->setRange(0, 1000);
  progress_bar_->setTextVisible(false);
  progress_bar_->setFixedHeight(4);
  rows->addWidget(progress_bar_);
  auto* row = new QHBoxLayout;
  row->setContentsMargins(12, 3, 8, 3);
  progress_what_ = soft_label("", progress_);
  row->addWidget(progress_what_, 1);
  auto* stop = new QPushButton(tr("Cancel"), progress_);
  stop->setToolTip(tr("Stop (Esc)"));
  connect(stop, &QPushButton::clicked, this, &NullView::cancel);
  row->addWidget(stop);
  rows->addLayout(row);
  progress_->hide();
  return progress_;
}

QWidget* NullView::make_evidence() {
  auto* page = new QSplitter(Qt::Vertical, this);
  page->setHandleWidth(1);
  page->setChildrenCollapsible(false);
  lanes_ = new LanesPlate(page);
  auto* lower = new QWidget(page);
  auto* rows = new QVBoxLayout(lower);
  rows->setContentsMargins(0, 0, 0, 0);
  rows->setSpacing(0);
  strip_ = new FitStrip(lower);
  rows->addWidget(strip_);
  plates_ = new PlatePanel(lower);
  rows->addWidget(plates_, 1);
  page->addWidget(lanes_);
  page->addWidget(lower);
  page->setStretchFactor(0, 3);
  page->setStretchFactor(1, 4);
  lanes_->setMinimumHeight(180);
  lower->setMinimumHeight(260);
  return page;
}

void NullView::show_chain(const std::optional<Chain>& chain) {
  chain_strip_->setVisible(chain.has_value());
  if (chain) chain_strip_->show_chain(*chain);
}

void NullView::show_trial(std::shared_ptr<const TrialResult> trial, const FitHold& hold) {
  const bool same_length = trial_ && trial_->spec.master == trial->spec.master && pages_->currentIndex() == 1;
  const bool same_trial = trial_ && trial_->spec.id == trial->spec.id;
  trial_ = std::move(trial);
  if (pending_ && same_trial) return;  // the hand is on a nudge: its own result comes
  hold_ = hold;
  narrowed_.reset();
  chain_strip_->show_reports(trial_->stages);
  feed_.set_trial(trial_);
  const double peak = trial_->report->master_levels.sample_peak;
  for (const Lane lane : {Lane::master, Lane::ret}) lanes_->set_gain_of(lane, peak > 0 ? 0.92 / peak : 1);
  const double left = trial_->report->sums.residual_peak;
  residual_zoom_ = left > 0 && peak > 0 ? std::max(1.0, peak / left) : 1;
  lanes_->set_gain_of(Lane::residual, peak > 0 ? 0.92 / peak * std::min(residual_zoom_, std::pow(10.0, 90 / 20.0)) : 1);
  pages_->setCurrentIndex(1);
  if (!same_length)
    lanes_->set_length(feed_.length_s());
  else
    refresh_lanes();
  lanes_->set_sample_rate(trial_->report->master.sample_rate_hz);
  plates_->show_trial(*trial_);
  plates_->set_range(lanes_->from_s(), lanes_->to_s(), !same_length);
  if (lanes_->selection() || plates_->fft_size() != 16384) ask_for_look();
  refresh_numbers();
}

void NullView::refresh_numbers() {
  if (!trial_) return;
  strip_->show_fit(trial_->report->fit, hold_);
  const auto selected = lanes_->selection();
  const QString note = !trial_->report->fit.trusted ? tr("not aligned")
                       : selected                   ? tr("in %1").arg(clock(selected->second - selected->first, 1))
                                                    : QString();
  if (band_)
    strip_->show_residual(power_db(power_between(sums().residual_spectrum, band_->first, band_->second),
                                   power_between(sums().master_spectrum, band_->first, band_->second)),
                          band_text(band_->first, band_->second), false);
  else
    strip_->show_residual(sums().residual_relative_db(), note, false);
  const std::shared_ptr<const ResidualSums> whole(trial_->report, &trial_->report->sums);  // lives with the report
  plates_->show_sums(*trial_, narrowed_ ? narrowed_ : whole, selected.has_value());
}

void NullView::set_band(std::optional<std::pair<double, double>> hz) {
  band_ = hz;
  strip_->set_band(hz);
  plates_->set_selection(lanes_->selection(), band_);
  emit band_changed(band_);
  refresh_numbers();
}

void NullView::snap() {
  if (!trial_) return;
  const double rate = trial_->report->master.sample_rate_hz;
  const auto selected = lanes_->selection();
  const double from = selected ? selected->first : lanes_->from_s(), to = selected ? selected->second : lanes_->to_s();
  Fit fit = with_hold(trial_->measured, hold_);
  Request request{Priority::live, [this, trial = trial_, fit, rate, from, to](const Job& job, const Tell& tell) {
                    const double delay =
                        nearest_null(*trial->pair.master, *trial->pair.ret, fit, std::llround(from * rate),
                                     std::llround((to - from) * rate), std::llround(rate * 0.05));
                    job.check();
                    tell([this, trial, delay] {
                      if (trial == trial_) hold_delay(delay);
                    });
                  }};
  request.key = request.group = "snap";
  queue_.post(std::move(request));
}

void NullView::hold_delay(double delay_samples) {
  FitHold hold = hold_;
  hold.delay_samples = delay_samples;
  take_hold(hold, tr("Snap to the nearest null"));
}

void NullView::refresh_lanes() {
  for (const Lane lane : {Lane::master, Lane::ret, Lane::residual}) {
    LaneContent content = feed_.content(lane, lanes_->from_s(), lanes_->to_s(), lanes_->columns());
    if (lane == Lane::residual && residual_zoom_ > 1.5 && trial_)
      content.level += tr("\ndrawn +%1 dB").arg(number(20 * std::log10(std::min(residual_zoom_, 31622.0)), 0));
    lanes_->show_lane(lane, content);
  }
}

void NullView::set_selection(std::optional<std::pair<double, double>> seconds) {
  if (seconds && seconds->second - seconds->first < 1e-4) seconds.reset();
  lanes_->set_selection(seconds);
  plates_->set_selection(seconds, band_);
  emit loop_changed(seconds);
  if (!trial_) return;
  narrowed_.reset();
  if (seconds)
    ask_for_look();
  else if (plates_->fft_size() != 16384)
    ask_for_look();
  refresh_numbers();
}

void NullView::ask_for_look() {
  if (!trial_) return;
  RegionRequest look{trial_, trial_->report->fit, {}, false};
  look.options.fft_size = plates_->fft_size();
  look.options.master_peak = trial_->report->master_levels.sample_peak;
  const double rate = trial_->report->master.sample_rate_hz;
  if (const auto selected = lanes_->selection()) {
    look.options.first = std::llround(selected->first * rate);
    look.options.last = std::llround(selected->second * rate);
  }
  results_.look(look);
}

void NullView::take_hold(const FitHold& hold, const QString& what) {
  if (!trial_) return;
  hold_ = hold;
  pending_ = true;
  pending_what_ = what;
  settle_.start();
  RegionRequest look{trial_, with_hold(trial_->measured, hold), {}, true};
  strip_->show_fit(look.fit, hold_);
  const double rate = trial_->report->master.sample_rate_hz;
  const auto selected = lanes_->selection();
  const double from = selected ? selected->first : lanes_->from_s(), to = selected ? selected->second : lanes_->to_s();
  const double middle =
      std::min(to - from, live_seconds) / 2 + std::max(from, std::min((from + to) / 2, to) - live_seconds / 2);
  look.options.first = std::max<int64_t>(0, std::llround((middle - live_seconds / 2) * rate));
  look.options.last = look.options.first + std::llround(std::min(live_seconds, std::max(to - from, 0.2)) * rate);
  look.options.fft_size = 1024;
  results_.look(look);
}

void NullView::take_look(const RegionRequest& look, const std::shared_ptr<const ResidualSums>& sums) {
  if (look.of != trial_) return;
  if (look.nudge) {
    strip_->show_residual(sums->residual_relative_db(), tr("%1 s").arg(number(sums->seconds, 1)), true);
    return;
  }
  narrowed_ = sums;
  refresh_numbers();
}

void NullView::show_spot(double at_s) {
  emit seek(at_s);
  const double span = std::min(lanes_->to_s() - lanes_->from_s(), 6.0);
  lanes_->set_range(at_s - span / 2, at_s + span / 2);
}

void NullView::show_evidence(const Finding& finding) {
  if (!trial_) return;
  if (finding.at_s) show_spot(*finding.at_s);
  if (finding.evidence == Evidence::lanes)
    lanes_->setFocus();
  else if (finding.evidence == Evidence::fit)
    strip_->delay()->setFocus();
  else
    plates_->reveal(finding.evidence);
}

void NullView::set_playhead(double at_s) {
  lanes_->set_playhead(at_s);
  plates_->set_playhead(at_s);
}

void NullView::set_heard(std::optional<Heard> heard) {
  if (!heard) return lanes_->set_heard({});
  lanes_->set_heard(*heard == Heard::master ? Lane::master : *heard == Heard::ret ? Lane::ret : Lane::residual);
}

void NullView::show_empty(const QString& headline, const QString& advice, bool offer_files) {
  choose_->setVisible(offer_files);
  trial_.reset();
  narrowed_.reset();
  pending_ = false;
  feed_.set_trial(nullptr);
  strip_->show_nothing();
  empty_headline_->setText(headline);
  empty_advice_->setText(advice);
  pages_->setCurrentIndex(0);
}

void NullView::show_failure(const QString& sentence) {
  show_empty(tr("This trial cannot be shown"),
             sentence + tr("\n\nCtrl+L points to the file anew; Ctrl+Z takes back what was added."));
}

void NullView::show_progress(const QString& what, double fraction) {
  progress_what_->setText(what);
  progress_bar_->setValue(int(fraction * 1000));
  progress_->show();
}

void NullView::hide_progress() { progress_->hide(); }

}  // namespace heathmist::app
