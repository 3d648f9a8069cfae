#include "app/views/null/null_view.hpp"

#include <QActionGroup>
#include <QMenu>
#include <QPushButton>
#include <QSplitter>
#include <QVBoxLayout>
#include <cmath>

#include "app/theme/theme.hpp"

namespace heathmist::app {

namespace {

constexpr int settle_ms = 350;
constexpr double live_seconds = 4;  // how much programme a nudge is answered from

QLabel* soft_label(const QString& text, QWidget* parent) {
  auto* label = new QLabel(text, parent);
  label->setFont(face(Type::small));
  label->setProperty("soft", true);
  return label;
}

QToolButton* menu_button(const QString& hint, QMenu* menu, QWidget* parent) {
  auto* button = new QToolButton(parent);
  button->setFont(face(Type::small));
  button->setPopupMode(QToolButton::InstantPopup);
  button->setMenu(menu);
  button->setToolTip(hint);
  button->setAccessibleName(hint);
  return button;
}

}  // namespace

NullView::NullView(TrialRunner& runner, Errands& errands, QWidget* parent)
    : QWidget(parent), runner_(runner), feed_(errands) {
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(0, 0, 0, 0);
  rows->setSpacing(0);
  pages_ = new QStackedWidget(this);
  pages_->addWidget(make_empty());
  pages_->addWidget(make_evidence());
  rows->addWidget(make_progress());
  rows->addWidget(pages_, 1);

  settle_.setSingleShot(true);
  settle_.setInterval(settle_ms);
  connect(&settle_, &QTimer::timeout, this, [this] {
    if (!std::exchange(pending_, false)) return;
    emit hold_changed(hold_, pending_what_);
  });
  connect(strip_, &FitStrip::hold_changed, this, &NullView::take_hold);
  connect(&runner_, &TrialRunner::looked, this, &NullView::take_look);
  connect(lanes_, &LanesPlate::range_changed, this, [this](double from, double to) {
    refresh_lanes();
    depth_->set_range(from, to);
  });
  connect(&feed_, &LaneFeed::refined, this, &NullView::refresh_lanes);
  connect(lanes_, &LanesPlate::clicked, this, &NullView::seek);
  connect(depth_, &DepthPlate::clicked, this, &NullView::seek);
  connect(lanes_, &LanesPlate::selected, this, [this](double from, double to) { set_selection(std::pair{from, to}); });
}

QWidget* NullView::make_empty() {
  auto* page = new QWidget(this);
  auto* rows = new QVBoxLayout(page);
  rows->addStretch(2);
  empty_headline_ = new QLabel(page);
  empty_headline_->setFont(face(Type::headline, true));
  empty_headline_->setAlignment(Qt::AlignCenter);
  empty_headline_->setWordWrap(true);
  empty_advice_ = new QLabel(page);
  empty_advice_->setAlignment(Qt::AlignCenter);
  empty_advice_->setWordWrap(true);
  choose_ = new QPushButton(tr("Choose files…"), page);
  choose_->setProperty("plain", false);
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

QWidget* NullView::make_plates() {
  auto* page = new QWidget(this);
  auto* columns = new QHBoxLayout(page);
  columns->setContentsMargins(0, 0, 0, 0);
  columns->setSpacing(0);

  auto* left = new QWidget(page);
  auto* left_rows = new QVBoxLayout(left);
  left_rows->setContentsMargins(12, 8, 0, 6);
  left_rows->setSpacing(2);
  auto* head = new QHBoxLayout;
  auto* title = new QLabel(tr("Spectra"), left);
  title->setFont(face(Type::body, true));
  head->addWidget(title);
  spectra_note_ = soft_label("", left);
  head->addWidget(spectra_note_, 1);

  auto* smoothing = new QMenu(this);
  auto* smoothing_button = menu_button(tr("Smoothing of the spectra"), smoothing, left);
  auto* resolution = new QMenu(this);
  auto* resolution_button = menu_button(tr("Resolution of the spectra: points of the transform"), resolution, left);
  auto* scale = new QMenu(this);
  auto* scale_button = menu_button(tr("Scales of the spectra"), scale, left);
  auto choose = [this](QMenu* menu, QToolButton* button, const QString& name, const QString& setting, bool now,
                       const std::function<void()>& take) {
    auto* action = menu->addAction(name, this, [=] {
      button->setText(name);
      take();
    });
    action->setCheckable(true);
    if (!menu->findChild<QActionGroup*>()) new QActionGroup(menu);
    menu->findChild<QActionGroup*>()->addAction(action);
    action->setChecked(now);
    if (now) button->setText(name);
    action->setProperty("setting", setting);
    actions_.push_back(action);
  };
  for (const auto& [name, value] : {std::pair{tr("no smoothing"), 0},
                                    {tr("1/3 octave"), 3},
                                    {tr("1/6 octave"), 6},
                                    {tr("1/12 octave"), 12},
                                    {tr("1/24 octave"), 24},
                                    {tr("1/48 octave"), 48}})
    choose(smoothing, smoothing_button, name, QString("smoothing %1").arg(value), value == smoothing_,
           [this, v = value] { smoothing_ = v, refresh_spectra(); });
  for (const size_t size : {4096, 16384, 65536, 262144})
    choose(resolution, resolution_button, tr("%1 points").arg(size), QString("points %1").arg(size), size == fft_size_,
           [this, size] { fft_size_ = size, ask_for_look(); });
  auto name_scale = [this, scale_button] {
    scale_button->setText((logarithmic_ ? tr("log") : tr("linear")) + ", " +
                          (relative_ ? tr("relative") : tr("absolute")));
  };
  for (const auto& [name, setting, field, value] :
       {std::tuple{tr("logarithmic frequency"), "logarithmic 1", &NullView::logarithmic_, true},
        {tr("linear frequency"), "logarithmic 0", &NullView::logarithmic_, false},
        {tr("absolute level"), "relative 0", &NullView::relative_, false},
        {tr("relative to master"), "relative 1", &NullView::relative_, true}}) {
    actions_.push_back(scale->addAction(name, this, [this, name_scale, f = field, v = value] {
      this->*f = v;
      name_scale();
      refresh_spectra();
    }));
    actions_.back()->setProperty("setting", setting);
  }
  name_scale();
  for (auto* button : {smoothing_button, resolution_button, scale_button}) head->addWidget(button);
  left_rows->addLayout(head);
  spectra_ = new SpectrumPlate(left);
  left_rows->addWidget(spectra_, 1);

  auto* right = new QWidget(page);
  auto* right_rows = new QVBoxLayout(right);
  right_rows->setContentsMargins(12, 8, 6, 6);
  right_rows->setSpacing(2);
  auto* right_head = new QHBoxLayout;
  auto* right_title = new QLabel(tr("Depth map"), right);
  right_title->setFont(face(Type::body, true));
  right_head->addWidget(right_title);
  right_head->addStretch();
  right_head->addWidget(soft_label(tr("residual under master, dB"), right));
  right_rows->addLayout(right_head);
  depth_ = new DepthPlate(right);
  right_rows->addWidget(depth_, 1);

  columns->addWidget(left, 1);
  columns->addWidget(right, 1);
  return page;
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
  rows->addWidget(make_plates(), 1);
  page->addWidget(lanes_);
  page->addWidget(lower);
  page->setStretchFactor(0, 3);
  page->setStretchFactor(1, 4);
  lanes_->setMinimumHeight(180);
  lower->setMinimumHeight(260);
  return page;
}

nlohmann::ordered_json NullView::settings() const {
  return {{"points", fft_size_},
          {"smoothing", smoothing_},
          {"logarithmic", int(logarithmic_)},
          {"relative", int(relative_)}};
}

void NullView::restore(const nlohmann::ordered_json& settings) {
  for (const auto& [key, value] : settings.items())
    if (value.is_number_integer())
      for (QAction* action : actions_)
        if (action->property("setting") == QString("%1 %2").arg(QString::fromStdString(key)).arg(value.get<int>()))
          action->trigger();
}

void NullView::show_trial(std::shared_ptr<const TrialResult> trial, const FitHold& hold) {
  const bool same_length = trial_ && trial_->spec.master == trial->spec.master && pages_->currentIndex() == 1;
  const bool same_trial = trial_ && trial_->spec.id == trial->spec.id;
  trial_ = std::move(trial);
  if (pending_ && same_trial) return;  // the hand is on a nudge: its own result comes
  hold_ = hold;
  narrowed_.reset();
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
  depth_->show_cells(trial_->report->sums.depth);
  depth_->set_range(lanes_->from_s(), lanes_->to_s());
  if (lanes_->selection() || fft_size_ != 16384) ask_for_look();
  refresh_numbers();
}

void NullView::refresh_numbers() {
  if (!trial_) return;
  strip_->show_fit(trial_->report->fit, hold_);
  const auto selected = lanes_->selection();
  const QString note = !trial_->report->fit.trusted ? tr("not aligned")
                       : selected                   ? tr("in %1").arg(clock(selected->second - selected->first, 1))
                                                    : QString();
  strip_->show_residual(sums().residual_relative_db(), note, false);
  refresh_spectra();
}

void NullView::refresh_lanes() {
  for (const Lane lane : {Lane::master, Lane::ret, Lane::residual}) {
    LaneContent content = feed_.content(lane, lanes_->from_s(), lanes_->to_s(), lanes_->columns());
    if (lane == Lane::residual && residual_zoom_ > 1.5 && trial_)
      content.level += tr("\ndrawn +%1 dB").arg(number(20 * std::log10(std::min(residual_zoom_, 31622.0)), 0));
    lanes_->show_lane(lane, content);
  }
}

void NullView::refresh_spectra() {
  if (!trial_) return;
  const auto& s = sums();
  if (s.master_spectrum.power.empty()) return;
  const double top = s.master_spectrum.bin_hz * double(s.master_spectrum.power.size() - 1);
  const double bottom = logarithmic_ ? 20 : 0;
  auto line = [&](const Spectrum& spectrum) { return smoothed(spectrum, bottom, top, 900, logarithmic_, smoothing_); };
  SpectraShown shown{
      line(s.master_spectrum), line(s.return_spectrum), line(s.residual_spectrum), {}, {}, logarithmic_, relative_};
  shown.ret_relative = relative_to(shown.ret, shown.master);
  shown.residual_relative = relative_to(shown.residual, shown.master);
  spectra_->show_spectra(shown);
  spectra_note_->setText(lanes_->selection() ? tr("of the selection") : QString());
}

void NullView::set_selection(std::optional<std::pair<double, double>> seconds) {
  if (seconds && seconds->second - seconds->first < 1e-4) seconds.reset();
  lanes_->set_selection(seconds);
  emit loop_changed(seconds);
  if (!trial_) return;
  narrowed_.reset();
  if (seconds)
    ask_for_look();
  else if (fft_size_ != 16384)
    ask_for_look();
  refresh_numbers();
}

void NullView::ask_for_look() {
  if (!trial_) return;
  Look look{trial_, trial_->report->fit, {}, false};
  look.options.fft_size = fft_size_;
  look.options.master_peak = trial_->report->master_levels.sample_peak;
  const double rate = trial_->report->master.sample_rate_hz;
  if (const auto selected = lanes_->selection()) {
    look.options.first = std::llround(selected->first * rate);
    look.options.last = std::llround(selected->second * rate);
  }
  runner_.look(look);
}

void NullView::take_hold(const FitHold& hold, const QString& what) {
  if (!trial_) return;
  hold_ = hold;
  pending_ = true;
  pending_what_ = what;
  settle_.start();
  Look look{trial_, with_hold(trial_->measured, hold), {}, true};
  strip_->show_fit(look.fit, hold_);
  const double rate = trial_->report->master.sample_rate_hz;
  const auto selected = lanes_->selection();
  const double from = selected ? selected->first : lanes_->from_s(), to = selected ? selected->second : lanes_->to_s();
  const double middle =
      std::min(to - from, live_seconds) / 2 + std::max(from, std::min((from + to) / 2, to) - live_seconds / 2);
  look.options.first = std::max<int64_t>(0, std::llround((middle - live_seconds / 2) * rate));
  look.options.last = look.options.first + std::llround(std::min(live_seconds, std::max(to - from, 0.2)) * rate);
  look.options.fft_size = 1024;
  runner_.look(look);
}

void NullView::take_look(const Look& look, const std::shared_ptr<const ResidualSums>& sums) {
  if (look.of != trial_) return;
  if (look.nudge) {
    strip_->show_residual(sums->residual_relative_db(), tr("%1 s").arg(number(sums->seconds, 1)), true);
    return;
  }
  narrowed_ = sums;
  refresh_numbers();
}

void NullView::show_evidence(const Finding& finding) {
  if (!trial_) return;
  if (finding.at_s) {
    emit seek(*finding.at_s);
    const double span = std::min(lanes_->to_s() - lanes_->from_s(), 6.0);
    lanes_->set_range(*finding.at_s - span / 2, *finding.at_s + span / 2);
  }
  switch (finding.evidence) {
    case Evidence::lanes:
      lanes_->setFocus();
      break;
    case Evidence::fit:
      strip_->delay()->setFocus();
      break;
    case Evidence::spectra:
      spectra_->setFocus();
      break;
    case Evidence::depth:
      depth_->setFocus();
      break;
  }
}

void NullView::set_playhead(double at_s) {
  lanes_->set_playhead(at_s);
  depth_->set_playhead(at_s);
}

void NullView::set_heard(Heard heard, double) {
  lanes_->set_heard(heard == Heard::master ? Lane::master : heard == Heard::ret ? Lane::ret : Lane::residual);
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
