#include "app/plots/graph_plate.hpp"

#include <algorithm>
#include <cmath>

#include "app/theme/theme.hpp"

namespace heathmist::app {

namespace {

using Scatter = QCPScatterStyle;
constexpr Scatter::ScatterShape marks[] = {Scatter::ssDisc,    Scatter::ssSquare, Scatter::ssTriangle,
                                           Scatter::ssDiamond, Scatter::ssPlus,   Scatter::ssCrossSquare,
                                           Scatter::ssCross,   Scatter::ssStar};

}  // namespace

GraphPlate::GraphPlate(const QString& title, const QString& words, QWidget* parent) : Plate(parent) {
  title_ = title;
  setAccessibleName(words);
  setMouseTracking(true);
  setInteractions(QCP::iRangeDrag | QCP::iRangeZoom);
  axisRect()->setMinimumMargins(QMargins(48, 8, 14, 34));
  for (QCPAxis* axis : {xAxis, yAxis}) {
    axis->setTicker(QSharedPointer<QCPAxisTicker>(new LevelTicker));
    axis->setLabelPadding(2);
  }
  limit_line_ = new QCPItemStraightLine(this);
  limit_line_->setVisible(false);
  text_ = new QCPItemText(this);
  text_->position->setType(QCPItemPosition::ptAxisRectRatio);
  text_->position->setCoords(0.015, 0.03);
  text_->setPositionAlignment(Qt::AlignLeft | Qt::AlignTop);
  text_->setPadding(QMargins(6, 4, 6, 4));
  text_->setTextAlignment(Qt::AlignLeft);
  text_->setVisible(false);
  names_ = new QCPLegend;
  axisRect()->insetLayout()->addElement(names_, Qt::AlignRight | Qt::AlignTop);
  names_->setFillOrder(QCPLayoutGrid::foRowsFirst);
  setAutoAddPlottableToLegend(false);
  recolour();
  show_empty(true);
}

void GraphPlate::set_axes(const QString& x, const QString& y) {
  xAxis->setLabel(x);
  yAxis->setLabel(y);
}

void GraphPlate::recolour() {
  dress(axisRect());
  limit_line_->setPen(QPen(colour(Role::rust), 1.2, Qt::DashLine));
  text_->setFont(face(Type::small));
  text_->setColor(colour(Role::ink));
  text_->setBrush(colour(Role::sheet));
  text_->setPen(QPen(colour(Role::rule)));
  names_->setFont(face(Type::small));
  names_->setTextColor(colour(Role::ink));
  names_->setBrush(QColor(colour(Role::sheet)));
  names_->setBorderPen(QPen(colour(Role::faint)));
  names_->setIconSize(24, 16);  // no lower than a line of text with what hangs below it
  if (source_) draw();
}

void GraphPlate::show_series(const std::function<std::vector<Series>()>& source, std::optional<double> limit) {
  source_ = source;
  limit_ = limit;
  draw();
  fit();
}

void GraphPlate::draw() {
  series_ = source_();
  clearGraphs();
  names_->clearItems();
  for (int n = itemCount() - 1; n >= 0; --n)
    if (item(n) != text_ && item(n) != limit_line_ && item(n) != instead_) removeItem(n);
  size_t mark = 0;
  for (const Series& s : series_) {
    QCPGraph* graph = addGraph();
    QPen pen(s.ink, 1.5);
    pen.setStyle(s.style);
    graph->setPen(s.joined ? pen : QPen(s.ink));
    graph->setLineStyle(s.joined ? QCPGraph::lsLine : QCPGraph::lsNone);
    if (s.marked) {
      const bool hollow = s.joined || mark >= std::size(marks);  // a second round of shapes is hollow
      graph->setScatterStyle(QCPScatterStyle(marks[mark++ % std::size(marks)], QPen(s.ink, 1.2),
                                             hollow ? QBrush(colour(Role::sheet)) : QBrush(s.ink), 6));
    }
    graph->setName(s.name);
    graph->setData(QVector<double>(s.xs.begin(), s.xs.end()), QVector<double>(s.ys.begin(), s.ys.end()));
    if (series_.size() > 1 && !s.name.isEmpty()) graph->addToLegend(names_);
    for (size_t k = 0; k < s.errors.size() && k < s.xs.size(); ++k) {
      auto* bar = new QCPItemLine(this);
      bar->start->setCoords(s.xs[k], s.ys[k] - s.errors[k]);
      bar->end->setCoords(s.xs[k], s.ys[k] + s.errors[k]);
      bar->setPen(QPen(s.ink, 1));
    }
    for (size_t k = 0; k < s.labels.size() && k < s.xs.size(); ++k) {
      auto* label = new QCPItemText(this);
      label->position->setCoords(s.xs[k], s.ys[k]);
      label->setPositionAlignment(Qt::AlignLeft | Qt::AlignVCenter);
      label->setPadding(QMargins(7, 0, 0, 0));
      label->setText(s.labels[k]);
      label->setFont(face(Type::small));
      label->setColor(colour(Role::ink));
    }
  }
  names_->setVisible(names_->itemCount() > 0);
  const bool is_empty = std::all_of(series_.begin(), series_.end(), [](const Series& s) { return s.xs.empty(); });
  show_empty(is_empty);
  limit_line_->setVisible(limit_ && !is_empty);
  if (limit_) {
    limit_line_->point1->setCoords(0, *limit_);
    limit_line_->point2->setCoords(1, *limit_);
  }
  if (isVisible()) replot(rpQueuedReplot);
}

void GraphPlate::fit() {
  double left = 1e300, right = -1e300, low = limit_.value_or(1e300), high = limit_.value_or(-1e300);
  for (const Series& s : series_)
    for (size_t k = 0; k < s.xs.size(); ++k)
      left = std::min(left, s.xs[k]), right = std::max(right, s.xs[k]), low = std::min(low, s.ys[k]),
      high = std::max(high, s.ys[k]);
  if (left > right) left = 0, right = 1, low = 0, high = 1;
  const bool labels = std::any_of(series_.begin(), series_.end(), [](const Series& s) { return !s.labels.empty(); });
  const double x_room = std::max(0.1, right - left), y_room = std::max(0.1, high - low);
  xAxis->setRange(left - 0.06 * x_room, right + (labels ? 0.3 : 0.06) * x_room);
  yAxis->setRange(low - 0.12 * y_room, high + room_above_ * y_room);
  if (isVisible()) replot(rpQueuedReplot);
}

/// Of a curve the point nearest along x, of points alone the nearest of all.
std::vector<GraphPlate::Point> GraphPlate::points_at(double x, double y) const {
  constexpr double near = 0.08;  // of what is seen
  const double x_size = xAxis->range().size(), y_size = yAxis->range().size();
  std::vector<Point> found;
  Point alone;
  double nearest_alone = near;
  for (const Series& s : series_) {
    Point best;
    double nearest = near;
    for (size_t k = 0; k < s.xs.size(); ++k) {
      const double across = (s.xs[k] - x) / x_size;
      const double away = s.joined ? std::abs(across) : std::hypot(across, (s.ys[k] - y) / y_size);
      if (away < nearest) nearest = away, best = {&s, k};
    }
    if (s.joined && best.of) found.push_back(best);
    if (!s.joined && nearest < nearest_alone) nearest_alone = nearest, alone = best;
  }
  if (alone.of) found.insert(found.begin(), alone);
  return found;
}

QString GraphPlate::read_out(double x, double y) const {
  const auto points = points_at(x, y);
  if (points.empty()) return {};
  const auto name = [](const Point& p) {
    return p.at < p.of->labels.size() ? p.of->labels[p.at] + ", " + p.of->name : p.of->name;
  };
  if (points.size() == 1) {
    const Point& p = points.front();
    return name(p) + "\n" +
           tr("%1: %2\n%3: %4")
               .arg(xAxis->label(), number(p.of->xs[p.at], 2), yAxis->label(), number(p.of->ys[p.at], 2));
  }
  QStringList lines{tr("%1, by %2").arg(yAxis->label(), xAxis->label())};
  for (const Point& p : points)
    lines << tr("%1: %2 at %3").arg(name(p), number(p.of->ys[p.at], 2), number(p.of->xs[p.at], 2));
  return lines.join('\n');
}

void GraphPlate::mouseMoveEvent(QMouseEvent* event) {
  QCustomPlot::mouseMoveEvent(event);
  const QString words =
      read_out(xAxis->pixelToCoord(event->position().x()), yAxis->pixelToCoord(event->position().y()));
  text_->setVisible(!words.isEmpty());
  text_->setText(words);
  replot(rpQueuedReplot);
}

void GraphPlate::mouseDoubleClickEvent(QMouseEvent*) { fit(); }

void GraphPlate::keyPressEvent(QKeyEvent* event) {
  const double by = event->key() == Qt::Key_Left ? -0.1 : event->key() == Qt::Key_Right ? 0.1 : 0;
  if (by != 0) return xAxis->moveRange(by * xAxis->range().size()), replot(rpQueuedReplot);
  if (event->key() == Qt::Key_Plus || event->key() == Qt::Key_Minus) {
    const double factor = event->key() == Qt::Key_Plus ? 0.8 : 1.25;
    xAxis->scaleRange(factor), yAxis->scaleRange(factor);
    return replot(rpQueuedReplot);
  }
  if (event->key() == Qt::Key_0) return fit();
  QCustomPlot::keyPressEvent(event);
}

void GraphPlate::leaveEvent(QEvent*) {
  text_->setVisible(false);
  replot(rpQueuedReplot);
}

QString GraphPlate::csv() const {
  QString text = QString("series,point,%1,%2\n")
                     .arg(QString(xAxis->label()).replace(',', ' '), QString(yAxis->label()).replace(',', ' '));
  for (const Series& s : series_)
    for (size_t k = 0; k < s.xs.size(); ++k)
      text += QString("\"%1\",\"%2\",%3,%4\n")
                  .arg(s.name, k < s.labels.size() ? s.labels[k] : QString())
                  .arg(s.xs[k], 0, 'f', 4)
                  .arg(s.ys[k], 0, 'f', 4);
  return text;
}

}  // namespace heathmist::app
