#include "app/pages/null/fit_strip.hpp"

#include <QHBoxLayout>
#include <QKeyEvent>
#include <QWheelEvent>
#include <cmath>

#include "app/theme/theme.hpp"
#include "app/widgets/terms.hpp"

namespace heathmist::app {

namespace {

QLabel* caption(const QString& text, QWidget* parent) {
  auto* label = new QLabel(text, parent);
  label->setFont(face(Type::small));
  label->setProperty("soft", true);
  return label;
}

QToolButton* small_button(const QString& text, const QString& hint, QWidget* parent) {
  auto* button = new QToolButton(parent);
  button->setText(text);
  button->setToolTip(hint);
  button->setAccessibleName(hint);
  button->setFocusPolicy(Qt::TabFocus);
  return button;
}

}  // namespace

FitCell::FitCell(const QString& name, const QString& unit, double step, int decimals, QWidget* parent)
    : QFrame(parent), step_(step), decimals_(decimals) {
  setObjectName("cell");
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(10, 5, 4, 5);
  rows->setSpacing(0);
  auto* head = new QHBoxLayout;
  head->addWidget(caption(name + ", " + unit, this));
  head->addStretch();
  reset_ = small_button(tr("measured"), tr("%1: back to what was measured").arg(name), this);
  reset_->setFont(face(Type::small));
  head->addWidget(reset_);
  rows->addLayout(head);
  auto* line = new QHBoxLayout;
  line->setSpacing(2);
  edit_ = new QLineEdit(this);
  edit_->setProperty("flat", true);
  edit_->setFont(face(Type::value, true));
  edit_->setAccessibleName(name);
  edit_->setToolTip(tr("%1 in %2. Type a value to hold it; Up and Down nudge it (Shift: ten times, Ctrl: a hundredth)")
                        .arg(name, unit));
  edit_->setTextMargins(-3, 0, 0, 0);
  edit_->installEventFilter(this);
  edit_->setMinimumWidth(38);
  line->addWidget(edit_, 1);
  less_ = small_button(QString(QChar(0x2212)), tr("%1: less").arg(name), this);
  more_ = small_button("+", tr("%1: more").arg(name), this);
  for (QToolButton* button : {less_, more_}) {
    button->setFixedSize(22, 28);
    button->setProperty("step", true);
  }
  line->addWidget(less_);
  line->addWidget(more_);
  rows->addLayout(line);
  connect(less_, &QToolButton::clicked, this, [this] { nudge(-1, QGuiApplication::keyboardModifiers()); });
  connect(more_, &QToolButton::clicked, this, [this] { nudge(1, QGuiApplication::keyboardModifiers()); });
  connect(reset_, &QToolButton::clicked, this, &FitCell::released);
  connect(edit_, &QLineEdit::editingFinished, this, [this] {
    bool good = false;
    const double typed = edit_->text().replace(QChar(0x2212), '-').replace(',', '.').toDouble(&good);
    if (good && std::isfinite(typed) && number(typed, decimals_) != number(value_, decimals_)) emit held(typed);
    edit_->setText(number(good ? typed : value_, decimals_));
  });
  show_value(0, false);
}

void FitCell::show_value(double value, bool is_held) {
  value_ = value;
  edit_->setText(number(value, decimals_));
  edit_->setCursorPosition(0);
  reset_->setVisible(is_held);
  fit_value();
}

/// In a narrow window the value is smaller, and whole.
void FitCell::fit_value() {
  constexpr int around = 8;  // what the field keeps free
  const QFont large = face(Type::value, true);
  const bool fits = QFontMetrics(large).horizontalAdvance(number(value_, decimals_)) + around <= edit_->width();
  edit_->setFont(fits ? large : face(Type::small, true));
}

void FitCell::resizeEvent(QResizeEvent* event) {
  QFrame::resizeEvent(event);
  layout()->activate();
  fit_value();
}

void FitCell::nudge(double direction, Qt::KeyboardModifiers modifiers) {
  const double factor = modifiers & Qt::ShiftModifier ? 10 : modifiers & Qt::ControlModifier ? 0.01 : 1;
  const double grid = std::pow(10.0, -decimals_ - 2);
  emit held(std::round((value_ + direction * factor * step_) / grid) * grid);
}

void FitCell::wheelEvent(QWheelEvent* event) {
  if (edit_->hasFocus()) nudge(event->angleDelta().y() > 0 ? 1 : -1, event->modifiers());
  event->accept();
}

bool FitCell::eventFilter(QObject* watched, QEvent* event) {
  if (watched == edit_ && event->type() == QEvent::KeyPress) {
    const auto* key = static_cast<QKeyEvent*>(event);
    if (key->key() == Qt::Key_Up || key->key() == Qt::Key_Down) {
      nudge(key->key() == Qt::Key_Up ? 1 : -1, key->modifiers());
      return true;
    }
    if (key->key() == Qt::Key_Escape) {
      edit_->setText(number(value_, decimals_));
      edit_->clearFocus();
      return true;
    }
  }
  return QFrame::eventFilter(watched, event);
}

FitStrip::FitStrip(QWidget* parent) : QFrame(parent) {
  setObjectName("strip");
  auto* row = new QHBoxLayout(this);
  row->setContentsMargins(0, 1, 0, 1);
  row->setSpacing(1);
  delay_ = new FitCell(tr("Delay"), tr("samples"), 1, 2, this);
  drift_ = new FitCell(tr("Drift"), tr("ppm"), 0.1, 2, this);
  gain_ = new FitCell(tr("Gain"), tr("dB"), 0.01, 3, this);
  set_term(delay_, "delay"), set_term(drift_, "drift"), set_term(gain_, "gain");
  row->addWidget(delay_, 5);
  row->addWidget(drift_, 4);
  row->addWidget(gain_, 4);
  row->addWidget(choice_cell(tr("Polarity"), polarity_, polarity_reset_), 3);
  row->addWidget(choice_cell(tr("Channels"), map_, map_reset_), 3);

  result_ = new QFrame(this);
  result_->setObjectName("result");
  set_term(result_, "residual");
  auto* rows = new QVBoxLayout(result_);
  rows->setContentsMargins(12, 6, 8, 6);
  rows->setSpacing(0);
  residual_name_ = caption(tr("Residual"), result_);
  residual_ = new QLabel(result_);
  residual_->setFont(face(Type::headline, true));
  residual_->setObjectName("level");
  residual_note_ = caption("", result_);
  auto* head = new QHBoxLayout;
  head->setSpacing(2);
  head->addWidget(residual_name_);
  head->addStretch();
  head->addWidget(residual_note_);
  by_ = small_button(tr("all"),
                     tr("What the delay, drift and gain are measured by: all of it, a channel, mid, side, the selected "
                        "band. Ctrl and drag moves the return's lane by hand, Ctrl+G snaps."),
                     result_);
  by_menu_ = new QMenu(by_);
  by_->setMenu(by_menu_);
  by_->setPopupMode(QToolButton::InstantPopup);
  connect(by_menu_, &QMenu::aboutToShow, this, &FitStrip::fill_by_menu);
  by_->setFont(face(Type::small));
  rows->addLayout(head);
  auto* line = new QHBoxLayout;
  line->addWidget(residual_);
  line->addStretch();
  line->addWidget(by_);
  rows->addLayout(line);
  result_->setMinimumWidth(126);
  row->addWidget(result_, 5);

  auto hold = [this](auto FitHold::*field, auto value, const QString& what) {
    FitHold next = hold_;
    next.*field = value;
    emit hold_changed(next, what);
  };
  connect(delay_, &FitCell::held, this, [=, this](double v) { hold(&FitHold::delay_samples, v, tr("Hold delay")); });
  connect(drift_, &FitCell::held, this, [=, this](double v) { hold(&FitHold::drift_ppm, v, tr("Hold drift")); });
  connect(gain_, &FitCell::held, this, [=, this](double v) { hold(&FitHold::gain_db, v, tr("Hold gain")); });
  connect(delay_, &FitCell::released, this,
          [=, this] { hold(&FitHold::delay_samples, std::nullopt, tr("Measure delay")); });
  connect(drift_, &FitCell::released, this,
          [=, this] { hold(&FitHold::drift_ppm, std::nullopt, tr("Measure drift")); });
  connect(gain_, &FitCell::released, this, [=, this] { hold(&FitHold::gain_db, std::nullopt, tr("Measure gain")); });
  connect(polarity_, &QToolButton::clicked, this,
          [=, this] { hold(&FitHold::inverted, std::string(fit_.polarity()) != "inverted", tr("Turn polarity")); });
  connect(map_, &QToolButton::clicked, this,
          [=, this] { hold(&FitHold::swapped, !fit_.swapped(), tr("Exchange channels")); });
  connect(polarity_reset_, &QToolButton::clicked, this,
          [=, this] { hold(&FitHold::inverted, std::nullopt, tr("Measure polarity")); });
  connect(map_reset_, &QToolButton::clicked, this,
          [=, this] { hold(&FitHold::swapped, std::nullopt, tr("Measure channels")); });
  connect(&Theme::instance(), &Theme::changed, this, &FitStrip::dress);
  dress();
  show_nothing();
}

QFrame* FitStrip::choice_cell(const QString& name, QToolButton*& button, QToolButton*& reset) {
  auto* cell = new QFrame(this);
  cell->setObjectName("cell");
  auto* rows = new QVBoxLayout(cell);
  rows->setContentsMargins(12, 6, 4, 6);
  rows->setSpacing(0);
  auto* head = new QHBoxLayout;
  head->addWidget(caption(name, cell));
  head->addStretch();
  reset = small_button(tr("measured"), tr("%1: back to what was measured").arg(name), cell);
  reset->setFont(face(Type::small));
  head->addWidget(reset);
  rows->addLayout(head);
  button = small_button("", tr("%1: turn it over").arg(name), cell);
  button->setFont(face(Type::value, true));
  button->setStyleSheet("padding-left: 0px; margin-left: -3px;");
  rows->addWidget(button, 0, Qt::AlignLeft);
  return cell;
}

void FitStrip::dress() {
  setStyleSheet(
      QString(
          "#strip { background: %1; border-top: 1px solid %1; border-bottom: 1px solid %1; } #cell { background: %2; }"
          " #result { background: %3; } #level { color: %4; }"
          " #cell QToolButton { padding: 0px 4px; min-height: 26px; }")
          .arg(colour(Role::rule).name(), colour(Role::ground).name(), colour(Role::sheet).name(),
               colour(Role::residual).name()));
}

void FitStrip::show_fit(const Fit& fit, const FitHold& hold) {
  fit_ = fit;
  hold_ = hold;
  setEnabled(true);
  delay_->show_value(fit.delay_samples, hold.delay_samples.has_value());
  drift_->show_value(fit.drift_ppm, hold.drift_ppm.has_value());
  gain_->show_value(fit.gain_db, hold.gain_db.has_value());
  const QString polarity = fit.polarity();
  polarity_->setText(polarity == "normal" ? tr("normal") : polarity == "inverted" ? tr("inverted") : tr("mixed"));
  QString map;
  for (const auto& p : fit.pairs) map += QString(map.isEmpty() ? "%1" : " %1").arg(p.ret + 1);
  map_->setText(fit.pairs.size() == 2 && fit.pairs[0].ret != fit.pairs[1].ret
                    ? (fit.swapped() ? tr("swapped") : tr("in place"))
                    : map);
  map_->setEnabled(fit.pairs.size() >= 2);
  const FitBy by = hold.by.value_or(FitBy{});
  by_->setText(by.high_hz > 0                    ? tr("by band")
               : by.part == FitBy::Part::channel ? tr("channel %1").arg(by.channel + 1)
               : by.part == FitBy::Part::mid     ? tr("mid")
               : by.part == FitBy::Part::side    ? tr("side")
                                                 : tr("all"));
  polarity_reset_->setVisible(hold.inverted.has_value());
  map_reset_->setVisible(hold.swapped.has_value());
}

void FitStrip::fill_by_menu() {
  by_menu_->clear();
  auto add = [this](const QString& name, std::optional<FitBy> by, bool possible = true) {
    auto* action = by_menu_->addAction(name, this, [this, by, name] {
      FitHold next = hold_;
      next.by = by;
      emit hold_changed(next, tr("Fit by: %1").arg(name));
    });
    action->setCheckable(true);
    action->setChecked(hold_.by == by);
    action->setEnabled(possible);
  };
  add(tr("All of it"), {});
  for (int c = 0; c < int(fit_.pairs.size()) && c < 8; ++c)
    add(tr("Channel %1").arg(c + 1), FitBy{FitBy::Part::channel, c, 0, 0}, fit_.pairs.size() > 1);
  add(tr("Mid"), FitBy{FitBy::Part::mid, 0, 0, 0}, fit_.pairs.size() == 2);
  add(tr("Side"), FitBy{FitBy::Part::side, 0, 0, 0}, fit_.pairs.size() == 2);
  if (band_)
    add(tr("The band from %1 to %2 Hz").arg(band_->first, 0, 'f', 0).arg(band_->second, 0, 'f', 0),
        FitBy{FitBy::Part::all, 0, band_->first, band_->second});
  else
    add(tr("A band: Shift and drag in the spectra first"), FitBy{FitBy::Part::all, 0, 1, 2}, false);
  by_menu_->addSeparator();
  by_menu_->addAction(tr("Snap to the best null near it (Ctrl+G)"), this, &FitStrip::snap_wanted);
}

void FitStrip::show_residual(std::optional<double> relative_db, const QString& note, bool live) {
  residual_->setText(relative_db ? number(*relative_db, 1) : tr("silence"));
  residual_->setToolTip(relative_db ? in_other_units(*relative_db) : tr("Nothing is left: every sample cancels"));
  residual_note_->setText(live ? tr("live, %1").arg(note) : note.isEmpty() && relative_db ? tr("dBr") : note);
  fit_note();
}

/// In a narrow window what the level is of is said instead of its name.
void FitStrip::fit_note() {
  const QMargins around = result_->layout()->contentsMargins();
  const int room = result_->width() - around.left() - around.right(),
            both = residual_name_->sizeHint().width() + residual_note_->sizeHint().width();
  residual_name_->setVisible(both <= room);
}

void FitStrip::resizeEvent(QResizeEvent* event) {
  QFrame::resizeEvent(event);
  layout()->activate();
  fit_note();
}

void FitStrip::show_nothing() {
  setEnabled(false);
  for (FitCell* cell : {delay_, drift_, gain_}) cell->show_value(0, false);
  for (QToolButton* button : {polarity_reset_, map_reset_}) button->hide();
  polarity_->setText(QString(QChar(0x2013)));
  map_->setText(QString(QChar(0x2013)));
  residual_->setText(QString(QChar(0x2013)));
  residual_note_->clear();
  fit_note();
}

}  // namespace heathmist::app
