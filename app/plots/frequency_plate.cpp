#include "app/plots/frequency_plate.hpp"

#include <algorithm>
#include <cmath>

#include "app/theme/theme.hpp"

namespace heathmist::app {

FrequencyPlate::FrequencyPlate(QWidget* parent) : Plate(parent), ticker_(new HertzTicker) {
  rects_ = {axisRect()};
  xAxis->setTicker(ticker_);
  yAxis->setTicker(QSharedPointer<QCPAxisTicker>(new LevelTicker));
  yAxis->ticker()->setTickCount(6);
  axisRect()->setMinimumMargins(QMargins(38, 6, 10, 20));
  setInteractions(QCP::iRangeDrag);
  setMouseTracking(true);
  text_ = new QCPItemText(this);
  text_->position->setType(QCPItemPosition::ptAxisRectRatio);
  text_->position->setCoords(0.98, 0.03);
  text_->setPositionAlignment(Qt::AlignRight | Qt::AlignTop);
  text_->setTextAlignment(Qt::AlignLeft);
  text_->setPadding(QMargins(6, 4, 6, 4));
  text_->setVisible(false);
  unit_ = corner_text(axisRect(), 0.015, Qt::AlignLeft);
  furnish(axisRect());
}

/// Cursor and band of one rectangle.
void FrequencyPlate::furnish(QCPAxisRect* rect) {
  auto* line = new QCPItemLine(this);
  auto* band = new QCPItemRect(this);
  for (auto* position : {line->start, line->end, band->topLeft, band->bottomRight}) {
    position->setAxes(rect->axis(QCPAxis::atBottom), rect->axis(QCPAxis::atLeft));
    position->setAxisRect(rect);
    position->setTypeY(QCPItemPosition::ptAxisRectRatio);
  }
  line->setClipAxisRect(rect);
  band->setClipAxisRect(rect);
  line->setVisible(false);
  band->setVisible(false);
  cursors_.push_back(line);
  bands_.push_back(band);
}

QCPAxisRect* FrequencyPlate::add_rect() {
  auto* rect = new QCPAxisRect(this, true);
  plotLayout()->addElement(int(rects_.size()), 0, rect);
  plotLayout()->setRowSpacing(0);
  rect->setMinimumMargins(QMargins(38, 4, 10, 20));
  rect->axis(QCPAxis::atBottom)->setTicker(ticker_);
  rect->axis(QCPAxis::atLeft)->setTicker(QSharedPointer<QCPAxisTicker>(new LevelTicker));
  rect->axis(QCPAxis::atLeft)->ticker()->setTickCount(4);
  for (QCPAxisRect* other : rects_) {
    QCPAxis *mine = rect->axis(QCPAxis::atBottom), *theirs = other->axis(QCPAxis::atBottom);
    connect(mine, qOverload<const QCPRange&>(&QCPAxis::rangeChanged), theirs,
            qOverload<const QCPRange&>(&QCPAxis::setRange));
    connect(theirs, qOverload<const QCPRange&>(&QCPAxis::rangeChanged), mine,
            qOverload<const QCPRange&>(&QCPAxis::setRange));
    theirs->setTickLabels(false);
    other->setMinimumMargins(QMargins(38, 6, 10, 4));
  }
  rects_.push_back(rect);
  furnish(rect);
  return rect;
}

void FrequencyPlate::for_each_axis(const std::function<void(QCPAxis*)>& visit) {
  for (QCPAxisRect* rect : rects_) visit(rect->axis(QCPAxis::atBottom));
}

void FrequencyPlate::set_frequencies(const std::vector<double>& hz, bool logarithmic) {
  const bool anew = hz_.empty() || ticker_->logarithmic != logarithmic ||
                    (!hz.empty() && (hz.back() != hz_.back() || hz.front() != hz_.front()));
  hz_ = hz;
  ticker_->logarithmic = logarithmic;
  for_each_axis([&](QCPAxis* axis) { axis->setScaleType(logarithmic ? QCPAxis::stLogarithmic : QCPAxis::stLinear); });
  if (anew && !hz_.empty()) xAxis->setRange(hz_.front(), hz_.back());
}

void FrequencyPlate::recolour() {
  for (QCPAxisRect* rect : rects_) dress(rect);
  for (auto* line : cursors_) line->setPen(QPen(colour(Role::soft), 1, Qt::DotLine));
  QColor band = colour(Role::master);
  band.setAlphaF(0.14f);
  for (auto* rect : bands_) {
    rect->setBrush(band);
    rect->setPen(Qt::NoPen);
  }
  unit_->setFont(face(Type::small));
  unit_->setColor(colour(Role::soft));
  text_->setFont(face(Type::small));
  text_->setColor(colour(Role::ink));
  text_->setBrush(colour(Role::sheet));
  text_->setPen(QPen(colour(Role::rule)));
}

void FrequencyPlate::set_unit(const QString& unit) {
  unit_name_ = unit;
  set_scope(scope_);
}

void FrequencyPlate::set_scope(const QString& scope) {
  scope_ = scope;
  unit_->setText(scope.isEmpty() ? unit_name_ : tr("%1, %2").arg(unit_name_, scope));
}

void FrequencyPlate::set_band(std::optional<std::pair<double, double>> hz) {
  for (auto* rect : bands_) {
    rect->setVisible(hz.has_value());
    if (!hz) continue;
    rect->topLeft->setCoords(std::max(hz->first, 1e-3), 0);
    rect->bottomRight->setCoords(hz->second, 1);
  }
  replot(rpQueuedReplot);
}

size_t FrequencyPlate::nearest(double hz) const {
  const auto at = std::lower_bound(hz_.begin(), hz_.end(), hz);
  return std::min(size_t(at - hz_.begin()), hz_.size() - 1);
}

void FrequencyPlate::place_cursor(double hz) {
  cursor_hz_ = hz;
  for (auto* line : cursors_) {
    line->start->setCoords(hz, 0);
    line->end->setCoords(hz, 1);
    line->setVisible(true);
  }
  text_->setVisible(!hz_.empty());
  refresh_cursor();
  replot(rpQueuedReplot);
}

void FrequencyPlate::refresh_cursor() {
  if (text_->visible() && !hz_.empty()) text_->setText(read_out(cursor_hz_));
}

void FrequencyPlate::mousePressEvent(QMouseEvent* event) {
  if (event->button() == Qt::LeftButton && event->modifiers() & Qt::ShiftModifier) {
    dragged_from_ = xAxis->pixelToCoord(event->position().x());
    return;
  }
  QCustomPlot::mousePressEvent(event);
}

void FrequencyPlate::mouseMoveEvent(QMouseEvent* event) {
  const double hz = xAxis->pixelToCoord(event->position().x());
  if (dragged_from_) return set_band(std::pair{std::min(*dragged_from_, hz), std::max(*dragged_from_, hz)});
  QCustomPlot::mouseMoveEvent(event);
  if (event->position().x() >= axisRect()->left() && event->position().x() <= axisRect()->right()) place_cursor(hz);
}

void FrequencyPlate::mouseReleaseEvent(QMouseEvent* event) {
  if (!dragged_from_) return QCustomPlot::mouseReleaseEvent(event);
  const double from = *dragged_from_, to = xAxis->pixelToCoord(event->position().x());
  dragged_from_.reset();
  if (std::max(from, to) > 1.02 * std::min(from, to))
    emit band_selected(std::min(from, to), std::max(from, to));
  else
    emit band_cleared();
}

void FrequencyPlate::resizeEvent(QResizeEvent* event) {
  ticker_->dense = event->size().width() > 330;
  Plate::resizeEvent(event);
}

void FrequencyPlate::leaveEvent(QEvent*) {
  for (auto* line : cursors_) line->setVisible(false);
  text_->setVisible(false);
  replot(rpQueuedReplot);
}

void FrequencyPlate::wheelEvent(QWheelEvent* event) {
  QCPAxis* axis = event->modifiers() & Qt::ShiftModifier || event->position().x() < axisRect()->left() ? yAxis : xAxis;
  const double about = axis->pixelToCoord(axis == xAxis ? event->position().x() : event->position().y());
  axis->scaleRange(std::pow(0.85, (event->angleDelta().y() + event->angleDelta().x()) / 120.0), about);
  replot(rpQueuedReplot);
}

void FrequencyPlate::mouseDoubleClickEvent(QMouseEvent*) {
  if (!hz_.empty()) xAxis->setRange(hz_.front(), hz_.back());
  fit_levels();
  replot(rpQueuedReplot);
}

void FrequencyPlate::keyPressEvent(QKeyEvent* event) {
  if (hz_.empty()) return Plate::keyPressEvent(event);
  const size_t now = nearest(cursor_hz_), last = hz_.size() - 1, step = std::max<size_t>(1, hz_.size() / 200);
  switch (event->key()) {
    case Qt::Key_Left:
      return place_cursor(hz_[now > step ? now - step : 0]);
    case Qt::Key_Right:
      return place_cursor(hz_[std::min(last, now + step)]);
    case Qt::Key_Up:
      xAxis->scaleRange(0.8, cursor_hz_);
      return replot();
    case Qt::Key_Down:
      xAxis->scaleRange(1.25, cursor_hz_);
      return replot();
    case Qt::Key_0:
      return mouseDoubleClickEvent(nullptr);
    default:
      Plate::keyPressEvent(event);
  }
}

}  // namespace heathmist::app
