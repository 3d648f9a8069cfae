#include "app/listen/listening_bar.hpp"

#include <QHBoxLayout>
#include <QMenu>
#include <QSettings>
#include <cmath>

#include "app/theme/position.hpp"
#include "app/theme/theme.hpp"
#include "app/widgets/terms.hpp"

namespace heathmist::app {

namespace {

constexpr int roomy_width = 1180, longest_in_button = 12;

QString label_of(MatchBy by) {
  return by == MatchBy::integrated   ? QObject::tr("by loudness")
         : by == MatchBy::short_term ? QObject::tr("by short-term")
                                     : QObject::tr("by peak");
}

/// A value over its caption.
std::pair<QWidget*, std::pair<QLabel*, QLabel*>> stacked(const QString& caption, QWidget* parent, int width) {
  auto* cell = new QWidget(parent);
  auto* rows = new QVBoxLayout(cell);
  rows->setContentsMargins(0, 0, 0, 0);
  rows->setSpacing(0);
  auto* value = new QLabel(cell);
  value->setFont(face(Type::body, true));
  value->setMinimumWidth(width);
  auto* under = new QLabel(caption, cell);
  under->setFont(face(Type::small));
  under->setProperty("soft", true);
  rows->addWidget(value);
  rows->addWidget(under);
  return {cell, {value, under}};
}

}  // namespace

ListeningBar::ListeningBar(Player& player, QWidget* parent) : QWidget(parent), player_(player) {
  setObjectName("bar");
  setFixedHeight(62);
  auto* row = new QHBoxLayout(this);
  row->setContentsMargins(16, 6, 16, 6);
  row->setSpacing(12);
  play_ = new QToolButton(this);
  play_->setIconSize({22, 22});
  play_->setFixedSize(36, 36);
  play_->setToolTip(tr("Play or pause (Space)"));
  play_->setAccessibleName(tr("Play or pause"));
  play_->setObjectName("play");
  connect(play_, &QToolButton::clicked, this, &ListeningBar::toggle_play);
  row->addWidget(play_);
  auto [place_cell, place_labels] = stacked("", this, 62);
  std::tie(place_, length_) = place_labels;
  row->addWidget(place_cell);

  auto* three = new QWidget(this);
  auto* three_row = new QHBoxLayout(three);
  three_row->setContentsMargins(0, 0, 0, 0);
  three_row->setSpacing(0);
  choice_ = new QButtonGroup(this);
  const QStringList object_names{"hearMaster", "hearReturn", "hearResidual"};
  for (int n = 0; n < 3; ++n) {
    auto* button = new QToolButton(three);
    button->setCheckable(true);
    button->setObjectName(object_names[n]);
    button->setFixedHeight(30);
    button->setMinimumWidth(74);
    choice_->addButton(button, n);
    three_row->addWidget(button);
  }
  connect(choice_, &QButtonGroup::idClicked, this, [this](int id) { hear(Heard(id)); });
  row->addWidget(three);
  name_cause({});

  auto* match = new QWidget(this);
  auto* match_rows = new QVBoxLayout(match);
  match_rows->setContentsMargins(0, 0, 0, 0);
  match_rows->setSpacing(0);
  matched_ = new QToolButton(match);
  matched_->setText(tr("matched"));
  matched_->setCheckable(true);
  matched_->setChecked(true);
  matched_->setFont(face(Type::body, true));
  matched_->setToolTip(tr("Play the return as loud as the master (M); the menu says by what"));
  matched_->setPopupMode(QToolButton::MenuButtonPopup);
  auto* by = new QMenu(matched_);
  for (const auto& [name, value] :
       {std::pair{tr("by integrated loudness, of the loop where there is one"), MatchBy::integrated},
        {tr("by the greatest short-term loudness"), MatchBy::short_term},
        {tr("by the greatest peak"), MatchBy::peak}})
    by->addAction(name, this, [this, value = value] { match_by(value); });
  matched_->setMenu(by);
  match_note_ = new QLabel(match);
  match_note_->setFont(face(Type::small));
  match_note_->setProperty("soft", true);
  match_note_->setContentsMargins(7, 0, 0, 0);
  match_note_->setMinimumWidth(104);
  set_term(match, "match");
  match_rows->addWidget(matched_);
  match_rows->addWidget(match_note_);
  connect(matched_, &QToolButton::toggled, this, [this] { push_mix(); });
  row->addWidget(match);

  auto* lift = new QWidget(this);
  auto* lift_rows = new QVBoxLayout(lift);
  lift_rows->setContentsMargins(0, 0, 0, 0);
  lift_rows->setSpacing(0);
  lift_value_ = new QLabel(lift);
  lift_value_->setFont(face(Type::body, true));
  lift_ = new QSlider(Qt::Horizontal, lift);
  lift_->setRange(0, 90);
  lift_->setMinimumWidth(70);
  lift_->setMaximumWidth(120);
  lift_->setPageStep(6);
  lift_->setToolTip(tr("Lift of the residual, 0 to 90 dB, behind a limiter (, and .)"));
  lift_->setAccessibleName(tr("Lift of the residual in dB"));
  set_term(lift, "lift");
  lift_rows->addWidget(lift_value_);
  lift_rows->addWidget(lift_);
  connect(lift_, &QSlider::valueChanged, this, [this] { push_mix(); });
  row->addWidget(lift);

  loop_ = new QToolButton(this);
  loop_->setIconSize({20, 20});
  loop_->setProperty("step", true);
  loop_->setFixedSize(28, 28);
  loop_->setToolTip(tr("Loop: select in the lanes with Shift and drag; here it is let go (Esc)"));
  loop_->setAccessibleName(tr("Let the loop go"));
  connect(loop_, &QToolButton::clicked, this, &ListeningBar::loop_cleared);
  loop_note_ = new QLabel(this);
  loop_note_->setFont(face(Type::small));
  row->addWidget(loop_);
  row->addWidget(loop_note_);
  row->addStretch();

  make_meters(row);

  connect(&player_, &Player::moved, this, [this](double at) { place_->setText(position(at)); });
  connect(&player_, &Player::playing_changed, this, &ListeningBar::refresh);
  connect(&Theme::instance(), &Theme::changed, this, &ListeningBar::dress);
  connect(&Positions::instance(), &Positions::changed, this, [this] {
    place_->setText(position(player_.place_s()));
    show_band(band_);
  });
  meters_.setInterval(100);
  connect(&meters_, &QTimer::timeout, this, [this] {
    const auto r = player_.meters();
    const std::optional<double> shown[] = {r.momentary_lufs, r.short_term_lufs, r.integrated_lufs, r.true_peak_dbtp,
                                           r.correlation};
    for (size_t n = 0; n < std::size(shown); ++n)
      values_[n]->setText(shown[n] ? number(*shown[n], n == 4 ? 2 : 1) : QString(QChar(0x2013)));
    for (size_t n = 0; n < bars_.size(); ++n) bars_[n]->show_value(shown[n]);
    values_[3]->setStyleSheet(r.true_peak_dbtp.value_or(-1) > 0 ? QString("color: %1").arg(colour(Role::rust).name())
                                                                : QString());
  });
  meters_.start();
  dress();
  set_pair(nullptr);
  set_loop({});
  hear(Heard::master);
}

/// Meters of what is heard; a click begins them anew.
void ListeningBar::make_meters(QHBoxLayout* row) {
  auto* meters = new QToolButton(this);
  meters->setText(QString(QChar(0x21ba)));
  meters->setProperty("step", true);
  meters->setFixedSize(28, 28);
  meters->setToolTip(tr("Begin the meters anew: integrated loudness and held true peak (R)"));
  meters->setAccessibleName(tr("Begin the meters anew"));
  connect(meters, &QToolButton::clicked, this, [this] { player_.reset_meters(); });
  row->addWidget(meters);
  const QString names[] = {tr("M"), tr("S"), tr("I"), tr("dBTP"), tr("corr.")};
  const QString hints[] = {tr("Momentary loudness of what is heard, LUFS"), tr("Short-term loudness, LUFS"),
                           tr("Integrated loudness since the meters began, LUFS"),
                           tr("Highest true peak since the meters began"),
                           tr("Correlation of left and right: 1 is mono, 0 unrelated, \u22121 opposed")};
  constexpr const char* terms_of_meters[] = {"momentary", "short_term", "integrated", "true_peak", "correlation"};
  constexpr double lowest_lufs = -48, lowest_dbtp = -36, highest_dbtp = 3;
  for (size_t n = 0; n < values_.size(); ++n) {
    auto [cell, labels] = stacked(names[n], this, 40);
    values_[n] = labels.first;
    bars_[n] = n == 4   ? new MeterBar(-1, 1, 0, cell)
               : n == 3 ? new MeterBar(lowest_dbtp, highest_dbtp, lowest_dbtp, cell)
                        : new MeterBar(lowest_lufs, 0, lowest_lufs, cell);
    static_cast<QVBoxLayout*>(cell->layout())->insertWidget(1, bars_[n]);
    cell->setToolTip(hints[n]);
    set_term(cell, terms_of_meters[n]);
    row->addWidget(cell);
  }
  bars_[3]->set_limit(0);
  make_output(row);
}

/// The device, and the rate that it is heard at; its menu has the others.
void ListeningBar::make_output(QHBoxLayout* row) {
  device_cell_ = new QWidget(this);
  auto* rows = new QVBoxLayout(device_cell_);
  rows->setContentsMargins(0, 0, 0, 0);
  rows->setSpacing(0);
  output_ = new QToolButton(device_cell_);
  output_->setFont(face(Type::body, true));
  output_->setPopupMode(QToolButton::InstantPopup);
  output_->setMenu(new QMenu(output_));
  output_->setAccessibleName(tr("The device that is heard"));
  rate_note_ = new QLabel(device_cell_);
  rate_note_->setFont(face(Type::small));
  rate_note_->setProperty("soft", true);
  rate_note_->setContentsMargins(7, 0, 0, 0);
  rows->addWidget(output_);
  rows->addWidget(rate_note_);
  row->addWidget(device_cell_);
  connect(output_->menu(), &QMenu::aboutToShow, this, &ListeningBar::offer_outputs);
  connect(&player_, &Player::device_changed, this, &ListeningBar::show_output);
  connect(&player_, &Player::source_changed, this, &ListeningBar::show_output);
}

void ListeningBar::offer_outputs() {
  QMenu& menu = *output_->menu();
  menu.clear();
  const auto now = player_.device().name();
  auto offer = [&](const QString& shown, const std::string& name, std::function<std::unique_ptr<OutputDevice>()> open) {
    auto* action = menu.addAction(shown, this, [this, name, open = std::move(open)] {
      player_.set_device(open());
      QSettings().setValue("listen/output", QString::fromStdString(name));
    });
    action->setCheckable(true);
    action->setChecked(name == now);
  };
  for (const std::string& name : output_names())
    offer(QString::fromStdString(name), name, [name] { return open_output(name); });
  offer(tr("Nothing is heard: a simulated one keeps time"), "simulated", simulated_output);
  const auto own = player_.device().own_rate_hz();
  if (!own) return;
  menu.addSeparator();
  auto* at_own = menu.addAction(
      tr("At its own rate, %1 kHz: what has another is converted here, not by its server").arg(khz(*own)), this,
      [this](bool on) { player_.set_at_own_rate(on); });
  at_own->setCheckable(true);
  at_own->setChecked(player_.is_at_own_rate());
}

/// "48 kHz", or from what to what it is converted on the way, and by whom.
void ListeningBar::show_output() {
  using Conversion = OutputDevice::Conversion;
  const OutputDevice& device = player_.device();
  const QString name = device.is_simulated() ? tr("simulated") : QString::fromStdString(device.name());
  output_->setText(name.size() > 14 ? name.left(13) + QChar(0x2026) : name);
  const int from = player_.rate_hz();
  const auto conversion = from > 0 ? device.conversion() : Conversion::none;
  const int to = conversion == Conversion::server ? *device.own_rate_hz() : device.device_rate_hz();
  rate_note_->setText(from == 0                        ? tr("output")
                      : conversion == Conversion::none ? tr("%1 kHz").arg(khz(from))
                                                       : tr("%1 \u2192 %2 kHz").arg(khz(from), khz(to)));
  const QString how = device.is_simulated() ? tr("no audio device: this one keeps time, and nothing is heard")
                      : conversion == Conversion::none ? tr("what is heard is not converted on the way")
                      : conversion == Conversion::here
                          ? tr("converted here (soxr): the device does not run at that rate")
                          : tr("converted by the sound server: its menu offers its own rate");
  for (QWidget* w : {static_cast<QWidget*>(output_), static_cast<QWidget*>(rate_note_)})
    w->setToolTip(tr("%1: %2").arg(name, how));
}

/// Where it gets narrow, what is heard and the meters stay.
void ListeningBar::resizeEvent(QResizeEvent* event) {
  QWidget::resizeEvent(event);
  device_cell_->setVisible(width() >= roomy_width);
  loop_note_->setVisible(width() >= roomy_width || loop_->isEnabled());
  if ((event->oldSize().width() >= roomy_width) == (width() >= roomy_width)) return;
  show_match();
  layout()->activate();  // at once: what was short is cut off until then
}

void ListeningBar::dress() {
  QString style =
      QString("#bar { border-top: 1px solid %1; } #play { background: %2; border-radius: 18px; padding: 0; }")
          .arg(colour(Role::rule).name(), colour(Role::ink).name());
  style += QString(
               "#hearMaster, #hearReturn, #hearResidual { border: 1px solid %1; border-radius: 0; padding: 4px 6px; "
               "min-height: 0; "
               "background: %2; }")
               .arg(colour(Role::rule).name(), colour(Role::sheet).name());
  const std::pair<const char*, Role> roles[] = {
      {"hearMaster", Role::master}, {"hearReturn", Role::ret}, {"hearResidual", Role::residual}};
  for (const auto& [name, role] : roles)
    style += QString("#%1:checked { background: %2; color: %3; font-weight: 600; border-color: %2; }")
                 .arg(name, colour(role).name(), colour(Role::sheet).name());
  style += "QToolButton::menu-button { border: none; width: 14px; }";
  style += "#hearReturn { padding-right: 20px; }";
  setStyleSheet(style);
  refresh();
}

void ListeningBar::refresh() {
  play_->setIcon(icon(player_.is_playing() ? "pause" : "play", Role::sheet));
  play_->setEnabled(player_.has_source());
  loop_->setIcon(
      icon("loop", loop_note_ && !loop_note_->text().isEmpty() && loop_->isEnabled() ? Role::ink : Role::soft));
  show_output();
}

void ListeningBar::set_pair(std::shared_ptr<const NullReport> report) {
  report_ = std::move(report);
  if (!player_.has_other()) other_.reset();
  name_cause({});
  length_->setText(report_ ? tr("of %1").arg(clock(report_->master.duration_s())) : tr("nothing to play"));
  place_->setText(position(player_.place_s()));
  find_match();
  refresh();
}

void ListeningBar::match_by(MatchBy by) {
  match_by_ = by;
  find_match();
}

void ListeningBar::find_match() {
  match_db_ = !report_ ? std::nullopt
              : other_ ? other_->match_db(match_by_, loop_range_)
                       : match_gain_db(*report_, match_by_, loop_range_);
  push_mix();
}

void ListeningBar::set_loop(std::optional<std::pair<double, double>> seconds) {
  player_.set_loop(seconds);
  loop_range_ = seconds;
  find_match();
  show_band(band_);
  emit loop_changed();
}

void ListeningBar::show_band(std::optional<std::pair<double, double>> hz) {
  band_ = hz;
  loop_->setEnabled(loop_range_ || band_);
  QStringList words;
  if (loop_range_) words << tr("%1 to %2").arg(position(loop_range_->first, 1), position(loop_range_->second, 1));
  if (band_) words << tr("%1 to %2 Hz").arg(number(band_->first, 0), number(band_->second, 0));
  loop_note_->setText(words.isEmpty() ? tr("no loop") : words.join("\n"));
  refresh();
}

void ListeningBar::hear(Heard heard) {
  mix_.heard = heard;
  choice_->button(int(heard))->setChecked(true);
  push_mix();
}

void ListeningBar::set_other(std::optional<Other> other) {
  other_ = std::move(other);
  name_cause({});
  find_match();
}

void ListeningBar::offer(QMenu* others) {
  auto* button = qobject_cast<QToolButton*>(choice_->button(int(Heard::ret)));
  button->setMenu(others);
  button->setPopupMode(QToolButton::MenuButtonPopup);
}

void ListeningBar::open_others() { qobject_cast<QToolButton*>(choice_->button(int(Heard::ret)))->showMenu(); }

void ListeningBar::name_cause(const QString& cause) {
  if (!cause.isEmpty() && other_) {  // it is of the return
    other_.reset();
    find_match();
  }
  const bool short_name = cause.size() <= longest_in_button;
  const QStringList names = cause.isEmpty() ? QStringList{tr("Master"), tr("Return"), tr("Residual")}
                            : short_name
                                ? QStringList{tr("Master"), tr("Without %1").arg(cause), tr("%1 alone").arg(cause)}
                                : QStringList{tr("Master"), tr("Without"), tr("Alone")};
  const QStringList hints =
      cause.isEmpty() ? QStringList{tr("Hear the master"), tr("Hear the return"), tr("Hear the residual")}
                      : QStringList{tr("Hear the master"), tr("Hear the return with this taken out: %1").arg(cause),
                                    tr("Hear this alone: %1").arg(cause)};
  for (int n = 0; n < 3; ++n) {
    const bool other = other_ && cause.isEmpty() && Heard(n) == Heard::ret;
    const QString name = !other ? names[n]
                         : other_->name.size() <= longest_in_button
                             ? other_->name
                             : other_->name.left(longest_in_button - 1) + QChar(0x2026);
    choice_->button(n)->setText(tr("%1 %2").arg(n + 1).arg(name));
    choice_->button(n)->setToolTip(
        tr("%1 (%2)").arg(other ? tr("Hear %1, in the return's place").arg(other_->name) : hints[n]).arg(n + 1));
  }
}

void ListeningBar::set_matched(bool on) { matched_->setChecked(on); }
void ListeningBar::set_lift(int db) { lift_->setValue(db); }

void ListeningBar::push_mix() {
  const double db = matched_->isChecked() ? match_db_.value_or(0) : 0;
  mix_.return_gain = std::pow(10.0, db / 20);
  mix_.lift_db = lift_->value();
  show_match();
  lift_value_->setText(tr("lift %1 dB").arg(lift_->value()));
  player_.set_mix(mix_);
  player_.reset_meters();
  emit heard_changed(mix_.heard, mix_.lift_db);
}

void ListeningBar::show_match() {
  const double db = matched_->isChecked() ? match_db_.value_or(0) : 0;
  const QString level = tr("%1 dB").arg((db >= 0 ? "+" : "") + number(db, 2));
  match_note_->setText(!match_db_                          ? tr("nothing to match")
                       : db == 0 && !matched_->isChecked() ? tr("return as it is")
                       : width() < roomy_width             ? level  // by what, says the menu, too
                                                           : level + ", " + label_of(match_by_));
}

void ListeningBar::toggle_play() { player_.is_playing() ? player_.pause() : player_.play(); }

}  // namespace heathmist::app
