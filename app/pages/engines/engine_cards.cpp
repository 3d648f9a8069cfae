#include "app/pages/engines/engine_cards.hpp"

#include <QContextMenuEvent>
#include <QKeyEvent>
#include <QPainter>
#include <QRegularExpression>
#include <QScrollArea>
#include <algorithm>

#include "app/theme/theme.hpp"
#include "app/widgets/panel_head.hpp"
#include "core/probes/engine_answers.hpp"

namespace heathmist::app {

namespace {
constexpr int head_px = 34, line_px = 21, foot_px = 10, left_px = 16, words_px = 84;
}

const std::vector<std::string>& engine_kinds() {
  static const std::vector<std::string> kinds{"transit", "gain", "pan", "crossfade", "trim"};
  return kinds;
}

QString with_minus(const std::string& text) {
  static const QRegularExpression before_a_number("(^|[ (])-(?=[0-9])");
  return QString::fromStdString(text).replace(before_a_number, QString::fromUtf8("\\1\u2212"));
}

QString title_of_kind(const std::string& kind) { return QString::fromStdString(probe_kind(kind)->title); }

Severity severity_of(const ProbeReading& reading) {
  Severity worst = Severity::clean;
  for (const Finding& f : engine_findings(reading)) worst = std::max(worst, f.severity);
  return worst == Severity::note ? Severity::clean : worst;
}

EngineCard::EngineCard(const TestedEngine& engine, const EngineReadings& readings, QWidget* parent)
    : QFrame(parent), id_(engine.id), name_(QString::fromStdString(engine.name)) {
  setFocusPolicy(Qt::StrongFocus);
  setCursor(Qt::PointingHandCursor);
  setSizePolicy(QSizePolicy::Preferred, QSizePolicy::Fixed);
  origin_ = engine.stand_in.empty() ? tr("brought in") : tr("stand-in");
  QStringList spoken{name_};
  for (const std::string& kind : engine_kinds()) {
    Line line{kind, title_of_kind(kind), tr("not asked yet"), {}, {}};
    if (const RenderState* state = readings.of(engine, kind)) {
      line.words = tr("reading\u2026");
      if (!state->failure.isEmpty()) line.words = tr("cannot be read"), line.hint = state->failure;
      if (state->reading) {
        line.words = with_minus(engine_label(*state->reading));
        line.severity = severity_of(*state->reading);
      }
    }
    spoken << line.name + " " + line.words;
    lines_.push_back(std::move(line));
  }
  setAccessibleName(spoken.join(", "));
}

QString EngineCard::text_of(size_t line) const { return lines_[line].words; }

void EngineCard::set_chosen(bool chosen, const std::string& kind) {
  chosen_ = chosen, kind_ = kind;
  update();
}

QSize EngineCard::sizeHint() const { return {220, head_px + line_px * int(lines_.size()) + foot_px}; }

QRect EngineCard::rect_of(size_t line) const { return {0, head_px + line_px * int(line), width(), line_px}; }

void EngineCard::paintEvent(QPaintEvent*) {
  QPainter painter(this);
  painter.setRenderHint(QPainter::Antialiasing);
  if (chosen_) {
    painter.fillRect(rect(), colour(Role::sheet));
    painter.fillRect(QRect(0, 0, 3, height()), colour(Role::ret));
  }
  painter.setPen(colour(Role::ink));
  painter.setFont(face(Type::body, true));
  const int right = width() - 12;
  painter.drawText(QRect(left_px, 8, right - left_px - 70, 22), Qt::AlignVCenter,
                   painter.fontMetrics().elidedText(name_, Qt::ElideRight, right - left_px - 70));
  painter.setFont(face(Type::small));
  painter.setPen(colour(Role::soft));
  painter.drawText(QRect(right - 70, 8, 70, 22), Qt::AlignVCenter | Qt::AlignRight, origin_);
  for (size_t n = 0; n < lines_.size(); ++n) {
    const Line& line = lines_[n];
    const QRect row = rect_of(n);
    if (chosen_ && line.kind == kind_) painter.fillRect(row.adjusted(3, 0, 0, 0), colour(Role::selection));
    const QPointF dot(left_px + 4, row.center().y() + 0.5);
    painter.setPen(QPen(line.severity ? Theme::instance().severity(*line.severity) : colour(Role::soft), 1.2));
    painter.setBrush(line.severity ? QBrush(Theme::instance().severity(*line.severity)) : Qt::NoBrush);
    painter.drawEllipse(dot, 3.5, 3.5);
    painter.setPen(colour(line.severity ? Role::ink : Role::soft));
    painter.drawText(row.adjusted(left_px + 16, 0, 0, 0), Qt::AlignVCenter, line.name);
    const int from = left_px + words_px - 8;
    painter.drawText(QRect(from, row.top(), right - from, line_px), Qt::AlignVCenter | Qt::AlignRight,
                     painter.fontMetrics().elidedText(line.words, Qt::ElideRight, right - from));
  }
  painter.setPen(hasFocus() ? QPen(colour(Role::master)) : QPen(colour(Role::rule)));
  painter.setBrush(Qt::NoBrush);
  if (hasFocus())
    painter.drawRect(QRectF(rect()).adjusted(0.5, 0.5, -0.5, -0.5));
  else
    painter.drawLine(left_px, height() - 1, right, height() - 1);
}

void EngineCard::mousePressEvent(QMouseEvent* event) {
  for (size_t n = 0; n < lines_.size(); ++n)
    if (rect_of(n).contains(event->pos())) return emit pressed(lines_[n].kind);
  emit pressed({});
}

void EngineCard::focusInEvent(QFocusEvent* event) {
  QFrame::focusInEvent(event);
  if (event->reason() == Qt::TabFocusReason || event->reason() == Qt::BacktabFocusReason) emit pressed({});
}

void EngineCard::keyPressEvent(QKeyEvent* event) {
  const auto at = std::find_if(lines_.begin(), lines_.end(), [&](const Line& l) { return l.kind == kind_; });
  const auto place = at - lines_.begin();
  switch (event->key()) {
    case Qt::Key_Return:
    case Qt::Key_Enter:
    case Qt::Key_Space:
      return emit pressed({});
    case Qt::Key_Down:
      if (place + 1 < long(lines_.size())) return emit pressed(lines_[size_t(place + 1)].kind);
      focusNextChild();
      return;
    case Qt::Key_Up:
      if (place > 0) return emit pressed(lines_[size_t(place - 1)].kind);
      focusPreviousChild();
      return;
    default:
      QFrame::keyPressEvent(event);
  }
}

void EngineCard::contextMenuEvent(QContextMenuEvent* event) { emit menu_wanted(event->globalPos()); }

EngineCards::EngineCards(QWidget* parent) : QWidget(parent) {
  const auto [all, count] = put_head(this, tr("Engines"));
  count_ = count;
  auto* scroll = new QScrollArea(this);
  scroll->setWidgetResizable(true);
  scroll->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
  scroll->setFocusPolicy(Qt::NoFocus);
  inside_ = new QWidget(scroll);
  rows_ = new QVBoxLayout(inside_);
  rows_->setContentsMargins(0, 0, 0, 0);
  rows_->setSpacing(2);
  rows_->addStretch();
  scroll->setWidget(inside_);
  all->addWidget(scroll, 1);
}

void EngineCards::show_engines(const std::vector<TestedEngine>& engines, const EngineReadings& readings) {
  std::string focused;
  for (EngineCard* card : cards_)
    if (card->hasFocus()) focused = card->id();
  for (EngineCard* card : cards_) card->hide(), card->deleteLater();
  cards_.clear();
  for (const TestedEngine& e : engines) {
    auto* card = new EngineCard(e, readings, inside_);
    connect(card, &EngineCard::pressed, this, [this, id = e.id](const std::string& kind) { emit chosen(id, kind); });
    connect(card, &EngineCard::menu_wanted, this, [this, id = e.id](const QPoint& at) { emit menu_wanted(id, at); });
    rows_->insertWidget(rows_->count() - 1, card);
    cards_.push_back(card);
    if (e.id == focused) card->setFocus(Qt::OtherFocusReason);
  }
  count_->setText(engines.empty() ? QString() : QString::number(engines.size()));
}

void EngineCards::choose(const std::string& engine_id, const std::string& kind) {
  for (EngineCard* card : cards_) card->set_chosen(card->id() == engine_id, kind);
}

}  // namespace heathmist::app
