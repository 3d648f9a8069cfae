#include "app/plots/lanes_plate.hpp"

#include <algorithm>
#include <cmath>

#include "app/theme/position.hpp"
#include "app/theme/theme.hpp"
#include "app/widgets/terms.hpp"

namespace heathmist::app {

namespace {

constexpr std::array<Role, 3> lane_roles{Role::master, Role::ret, Role::residual};
constexpr double loudness_top = 0, loudness_bottom = -60;
constexpr double least_span_s = 0.0005;

QColor faded(QColor colour, double alpha) {
  colour.setAlphaF(float(alpha));
  return colour;
}

}  // namespace

LanesPlate::LanesPlate(QWidget* parent) : Plate(parent) {
  title_ = "lanes";
  set_term(this, "wave");
  plotLayout()->clear();
  plotLayout()->setRowSpacing(0);
  plotLayout()->setMargins(QMargins(0, 0, 0, 0));
  for (int row = 0; row < 3; ++row) lanes_[size_t(row)] = make_lane(row);
  setAccessibleName(tr("Lanes: master, return, residual over time"));
  setMouseTracking(true);
  recolour();
  set_range(0, 1);
}

LanesPlate::LaneParts LanesPlate::make_lane(int row) {
  LaneParts lane{};
  lane.rect = new QCPAxisRect(this, true);
  lane.rect->setLayer("background");
  plotLayout()->addElement(row, 0, lane.rect);
  static const QStringList names{tr("Master"), tr("Return"), tr("Residual")};
  lane.rect->setAutoMargins(QCP::msNone);
  lane.rect->setMargins(QMargins(84, row == 0 ? 20 : 0, 0, 0));
  QCPAxis *time = lane.rect->axis(QCPAxis::atBottom), *level = lane.rect->axis(QCPAxis::atLeft),
          *loudness = lane.rect->axis(QCPAxis::atRight), *top = lane.rect->axis(QCPAxis::atTop);
  time->setTicker(QSharedPointer<QCPAxisTicker>(new ClockTicker));
  time->setTickLabels(false);
  level->setRange(-1.05, 1.05);
  level->setTicks(false);
  level->grid()->setVisible(false);
  loudness->setRange(loudness_bottom, loudness_top);
  loudness->setVisible(false);
  top->setVisible(row == 0);
  top->setTicker(QSharedPointer<QCPAxisTicker>(new ClockTicker));
  lane.low = addGraph(time, level);
  lane.high = addGraph(time, level);
  lane.high->setChannelFillGraph(lane.low);
  lane.line = addGraph(time, loudness);
  lane.low->setAdaptiveSampling(false);
  lane.high->setAdaptiveSampling(false);
  for (QCPGraph* graph : {lane.low, lane.high}) graph->setAntialiased(false), graph->setAntialiasedFill(false);

  lane.selection = new QCPItemRect(this);
  for (auto* position : {lane.selection->topLeft, lane.selection->bottomRight}) {
    position->setAxes(time, level);
    position->setAxisRect(lane.rect);
    position->setTypeY(QCPItemPosition::ptAxisRectRatio);
  }
  lane.selection->setClipAxisRect(lane.rect);
  lane.selection->setVisible(false);
  for (auto line : {&LaneParts::playhead, &LaneParts::cursor}) lane.*line = make_line(lane);
  lane.cursor->setVisible(false);
  for (auto [text, y] : {std::pair{&LaneParts::name, 8}, {&LaneParts::level, 25}}) {
    lane.*text = new QCPItemText(this);
    (lane.*text)->position->setType(QCPItemPosition::ptAbsolute);
    (lane.*text)->position->setParentAnchorY(nullptr);
    (lane.*text)->setPositionAlignment(Qt::AlignLeft | Qt::AlignTop);
    (lane.*text)->setTextAlignment(Qt::AlignLeft);
    (lane.*text)->setClipToAxisRect(false);
    (lane.*text)->setProperty("below", y);
  }
  lane.name->setText(names[row]);
  return lane;
}

/// Through a lane, at a time.
QCPItemLine* LanesPlate::make_line(const LaneParts& lane) {
  auto* line = new QCPItemLine(this);
  for (auto* position : {line->start, line->end}) {
    position->setAxes(lane.rect->axis(QCPAxis::atBottom), lane.rect->axis(QCPAxis::atLeft));
    position->setAxisRect(lane.rect);
    position->setTypeY(QCPItemPosition::ptAxisRectRatio);
  }
  line->setClipAxisRect(lane.rect);
  return line;
}

LanesPlate::MarkParts LanesPlate::make_mark(int number) {
  MarkParts mark{};
  for (size_t n = 0; n < lanes_.size(); ++n) mark.lines[n] = make_line(lanes_[n]);
  mark.reach = make_line(lanes_[0]);
  mark.number = new QCPItemText(this);
  mark.number->position->setAxes(lanes_[0].rect->axis(QCPAxis::atBottom), lanes_[0].rect->axis(QCPAxis::atLeft));
  mark.number->position->setAxisRect(lanes_[0].rect);
  mark.number->position->setTypeY(QCPItemPosition::ptAxisRectRatio);
  mark.number->setPositionAlignment(Qt::AlignLeft | Qt::AlignTop);
  mark.number->setPadding({3, 2, 3, 0});
  mark.number->setClipAxisRect(lanes_[0].rect);
  mark.number->setText(QString::number(number));
  return mark;
}

void LanesPlate::place_mark(const MarkParts& mark, double from_s, double to_s) {
  const QPen pen(faded(colour(Role::ink), 0.55), 1, Qt::DashLine);
  for (QCPItemLine* line : mark.lines) {
    line->setPen(pen);
    line->start->setCoords(from_s, 0);
    line->end->setCoords(from_s, 1);
  }
  mark.reach->setPen(QPen(faded(colour(Role::ink), 0.55), 3));
  mark.reach->start->setCoords(from_s, 0.01);
  mark.reach->end->setCoords(to_s, 0.01);
  mark.reach->setVisible(to_s > from_s);
  mark.number->position->setCoords(from_s, 0.01);
  mark.number->setFont(face(Type::small, true));
  mark.number->setColor(colour(Role::ink));
}

void LanesPlate::set_marks(const std::vector<std::pair<double, double>>& seconds) {
  while (marks_.size() > seconds.size()) {
    for (QCPItemLine* line : marks_.back().lines) removeItem(line);
    removeItem(marks_.back().reach);
    removeItem(marks_.back().number);
    marks_.pop_back();
  }
  while (marks_.size() < seconds.size()) marks_.push_back(make_mark(int(marks_.size()) + 1));
  for (size_t n = 0; n < marks_.size(); ++n) place_mark(marks_[n], seconds[n].first, seconds[n].second);
  replot(rpQueuedReplot);
}

void LanesPlate::recolour() {
  for (const MarkParts& m : marks_) place_mark(m, m.reach->start->key(), m.reach->end->key());
  for (size_t n = 0; n < lanes_.size(); ++n) {
    LaneParts& lane = lanes_[n];
    dress(lane.rect);
    const QColor own = colour(lane_roles[n]);
    lane.low->setPen(QPen(faded(own, 0.45), 1));
    lane.high->setPen(QPen(faded(own, 0.45), 1));
    lane.high->setBrush(faded(own, 0.35));
    QPen line(own, 1.6);
    if (n == 1) line.setStyle(Qt::CustomDashLine), line.setDashPattern({7, 2});
    lane.line->setPen(line);
    lane.name->setFont(face(Type::body, true));
    lane.name->setColor(own);
    lane.level->setFont(face(Type::small));
    lane.level->setColor(colour(Role::soft));
    lane.selection->setBrush(faded(colour(Role::master), 0.14));
    lane.selection->setPen(QPen(faded(colour(Role::master), 0.5)));
    lane.playhead->setPen(QPen(colour(Role::ink), 1.4));
    lane.cursor->setPen(QPen(faded(colour(Role::ink), 0.35), 1, Qt::DotLine));
  }
  set_heard(heard_);
}

void LanesPlate::set_heard(std::optional<Lane> lane) {
  heard_ = lane;
  for (size_t n = 0; n < lanes_.size(); ++n) {
    QFont name_face = face(Type::body, true);
    name_face.setUnderline(lane && n == size_t(*lane));
    lanes_[n].name->setFont(name_face);
  }
  replot(rpQueuedReplot);
}

void LanesPlate::set_length(double seconds) {
  length_s_ = std::max(seconds, least_span_s);
  set_selection({});
  set_range(0, length_s_);
}

void LanesPlate::set_gain_of(Lane lane, double scale) { lanes_[size_t(lane)].scale = scale; }

void LanesPlate::show_lane(Lane which, const LaneContent& content) {
  LaneParts& lane = lanes_[size_t(which)];
  lane.content = content;
  const auto count = int(content.columns.size());
  QVector<QCPGraphData> low, high, line;
  low.reserve(count), high.reserve(count);
  const double step = (content.to_s - content.from_s) / std::max(1, count);
  for (int n = 0; n < count; ++n) {
    const OutlineBin& bin = content.columns[size_t(n)];
    if (bin.low > bin.high) continue;
    const double at = content.from_s + (n + 0.5) * step;
    low.append({at, std::clamp(bin.low * lane.scale, -1.05, 1.05)});
    high.append({at, std::clamp(bin.high * lane.scale, -1.05, 1.05)});
  }
  for (size_t n = 0; n < content.line_s.size(); ++n)
    line.append({content.line_s[n], std::max(content.line_lufs[n], loudness_bottom)});
  lane.low->data()->set(low, true);
  lane.high->data()->set(high, true);
  lane.line->data()->set(line, true);
  lane.level->setText(content.level);
  replot(rpQueuedReplot);
}

void LanesPlate::set_range(double from_s, double to_s) {
  const double span = std::clamp(to_s - from_s, least_span_s, length_s_);
  from_s = std::clamp(from_s, 0.0, length_s_ - span);
  for (auto& lane : lanes_) {
    lane.rect->axis(QCPAxis::atBottom)->setRange(from_s, from_s + span);
    lane.rect->axis(QCPAxis::atTop)->setRange(from_s, from_s + span);
  }
  int y = 0;
  for (auto& lane : lanes_) {
    y = lane.rect->top();
    lane.name->position->setCoords(8, y + lane.name->property("below").toInt());
    lane.level->position->setCoords(8, y + lane.level->property("below").toInt());
  }
  emit range_changed(from_s, from_s + span);
  replot(rpQueuedReplot);
}

double LanesPlate::from_s() const { return lanes_[0].rect->axis(QCPAxis::atBottom)->range().lower; }
double LanesPlate::to_s() const { return lanes_[0].rect->axis(QCPAxis::atBottom)->range().upper; }
int LanesPlate::columns() const { return std::max(16, lanes_[0].rect->width()); }
double LanesPlate::seconds_at(double x) const { return lanes_[0].rect->axis(QCPAxis::atBottom)->pixelToCoord(x); }

void LanesPlate::place_line(QCPItemLine* LaneParts::*line, double at_s, bool visible) {
  for (auto& lane : lanes_) {
    (lane.*line)->setVisible(visible);
    (lane.*line)->start->setCoords(at_s, 0);
    (lane.*line)->end->setCoords(at_s, 1);
  }
  replot(rpQueuedReplot);
}

void LanesPlate::set_playhead(double at_s) {
  playhead_s_ = at_s;
  place_line(&LaneParts::playhead, at_s, true);
}

void LanesPlate::set_selection(std::optional<std::pair<double, double>> seconds) {
  selection_ = seconds;
  for (auto& lane : lanes_) {
    lane.selection->setVisible(selection_.has_value());
    if (!selection_) continue;
    lane.selection->topLeft->setCoords(selection_->first, 0);
    lane.selection->bottomRight->setCoords(selection_->second, 1);
  }
  replot(rpQueuedReplot);
}

void LanesPlate::zoom(double factor, double about_s) {
  const double span = std::clamp((to_s() - from_s()) * factor, least_span_s, length_s_);
  const double share = (about_s - from_s()) / (to_s() - from_s());
  set_range(about_s - share * span, about_s + (1 - share) * span);
}

void LanesPlate::wheelEvent(QWheelEvent* event) {
  const QPoint turn = event->angleDelta();
  if (event->modifiers() & Qt::ShiftModifier || std::abs(turn.x()) > std::abs(turn.y())) {
    const double by = -(turn.x() + turn.y()) / 120.0 * (to_s() - from_s()) * 0.1;
    set_range(from_s() + by, to_s() + by);
  } else {
    zoom(std::pow(0.8, turn.y() / 120.0), seconds_at(event->position().x()));
  }
  event->accept();
}

void LanesPlate::mousePressEvent(QMouseEvent* event) {
  if (event->button() != Qt::LeftButton) return;
  pressed_ = event->position();
  moved_ = false;
  const bool on_return = lanes_[1].rect->rect().contains(event->pos());
  drag_ = event->modifiers() & Qt::ShiftModifier                  ? Drag::select
          : event->modifiers() & Qt::ControlModifier && on_return ? Drag::align
                                                                  : Drag::pan;
  drag_from_s_ = seconds_at(pressed_.x());
}

void LanesPlate::mouseMoveEvent(QMouseEvent* event) {
  const double at = seconds_at(event->position().x());
  if (drag_ == Drag::none) {
    place_line(&LaneParts::cursor, at, true);
    emit hovered(at);
    return;
  }
  if (!moved_ && std::abs(event->position().x() - pressed_.x()) < 4) return;
  moved_ = true;
  if (drag_ == Drag::align) {
    show_shifted(at - drag_from_s_);
    return;
  }
  if (drag_ == Drag::pan)
    set_range(from_s() + drag_from_s_ - at, to_s() + drag_from_s_ - at);
  else
    set_selection(std::pair{std::clamp(std::min(drag_from_s_, at), 0.0, length_s_),
                            std::clamp(std::max(drag_from_s_, at), 0.0, length_s_)});
}

void LanesPlate::mouseReleaseEvent(QMouseEvent* event) {
  if (event->button() != Qt::LeftButton) return;
  const Drag was = std::exchange(drag_, Drag::none);
  if (!moved_)
    emit clicked(std::clamp(drag_from_s_, 0.0, length_s_));
  else if (was == Drag::select && selection_)
    emit selected(selection_->first, selection_->second);
  else if (was == Drag::align) {
    // What is dragged to the right was early by that much, so its delay is less.
    show_shifted(0);
    emit return_dragged(-(seconds_at(event->position().x()) - drag_from_s_) * rate_hz_);
  }
}

/// Draws the return's outline where it is being dragged to.
void LanesPlate::show_shifted(double by_s) {
  LaneContent moved = lanes_[1].content;
  moved.from_s += by_s - shifted_s_, moved.to_s += by_s - shifted_s_;
  for (double& at : moved.line_s) at += by_s - shifted_s_;
  shifted_s_ = by_s;
  show_lane(Lane::ret, moved);
}

void LanesPlate::leaveEvent(QEvent*) { place_line(&LaneParts::cursor, 0, false); }

void LanesPlate::keyPressEvent(QKeyEvent* event) {
  const double span = to_s() - from_s(),
               middle = playhead_s_ >= from_s() && playhead_s_ <= to_s() ? playhead_s_ : (from_s() + to_s()) / 2;
  switch (event->key()) {
    case Qt::Key_Plus:
    case Qt::Key_Equal:
    case Qt::Key_Up:
      return zoom(0.7, middle);
    case Qt::Key_Minus:
    case Qt::Key_Down:
      return zoom(1 / 0.7, middle);
    case Qt::Key_0:
      return set_range(0, length_s_);
    case Qt::Key_Left:
      return set_range(from_s() - span * 0.1, to_s() - span * 0.1);
    case Qt::Key_Right:
      return set_range(from_s() + span * 0.1, to_s() + span * 0.1);
    case Qt::Key_Home:
      return emit clicked(0);
    case Qt::Key_End:
      return emit clicked(length_s_);
    case Qt::Key_BracketLeft:
      return emit selected(middle, selection_ && selection_->second > middle
                                       ? selection_->second
                                       : std::min(length_s_, middle + span * 0.1));
    case Qt::Key_BracketRight:
      return emit selected(
          selection_ && selection_->first < middle ? selection_->first : std::max(0.0, middle - span * 0.1), middle);
    default:
      Plate::keyPressEvent(event);
  }
}

QString LanesPlate::in_words() const {
  QStringList told{tr("From %1 to %2").arg(position(from_s(), 1), position(to_s(), 1))};
  if (selection_)
    told << tr("selected from %1 to %2").arg(position(selection_->first, 1), position(selection_->second, 1));
  for (const LaneParts& lane : lanes_)
    if (!lane.content.level.isEmpty())
      told << tr("%1 %2").arg(lane.name->text(), QString(lane.content.level).replace('\n', ", "));
  return told.join("; ");
}

QString LanesPlate::csv() const {
  QString text = "time_s,master_low,master_high,return_low,return_high,residual_low,residual_high\n";
  const LaneContent& drawn = lanes_[0].content;
  const size_t count = drawn.columns.size();
  for (size_t n = 0; n < count; ++n) {
    text += QString::number(drawn.from_s + (double(n) + 0.5) * (drawn.to_s - drawn.from_s) / double(count), 'f', 6);
    for (const auto& lane : lanes_) {
      const bool there = n < lane.content.columns.size() && lane.content.columns[n].low <= lane.content.columns[n].high;
      text += there
                  ? QString(",%1,%2").arg(double(lane.content.columns[n].low)).arg(double(lane.content.columns[n].high))
                  : QString(",,");
    }
    text += "\n";
  }
  return text;
}

}  // namespace heathmist::app
