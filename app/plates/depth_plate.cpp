#include "app/plates/depth_plate.hpp"

#include <algorithm>
#include <cmath>

#include "app/theme/theme.hpp"

namespace heathmist::app {

DepthPlate::DepthPlate(QWidget* parent) : Plate(parent), bands_(new QCPAxisTickerText) {
  title_ = "depth-map";
  setAccessibleName(tr("Depth map: how far the residual lies under the master, by time and frequency"));
  map_ = new QCPColorMap(xAxis, yAxis);
  map_->setInterpolate(false);
  map_->setTightBoundary(true);
  scale_ = new QCPColorScale(this);
  scale_->setBarWidth(8);
  scale_->setType(QCPAxis::atRight);
  plotLayout()->addElement(0, 1, scale_);
  map_->setColorScale(scale_);
  scale_->setDataRange(QCPRange(-80, 0));
  scale_->axis()->setTicker(QSharedPointer<QCPAxisTicker>(new LevelTicker));
  scale_->axis()->ticker()->setTickCount(4);
  auto* group = new QCPMarginGroup(this);
  axisRect()->setMarginGroup(QCP::msTop | QCP::msBottom, group);
  scale_->setMarginGroup(QCP::msTop | QCP::msBottom, group);
  axisRect()->setMinimumMargins(QMargins(38, 6, 4, 20));
  scale_->setMinimumMargins(QMargins(2, 0, 4, 0));
  xAxis->setTicker(clock_);
  yAxis->setTicker(bands_);
  xAxis->grid()->setVisible(false);
  yAxis->grid()->setVisible(false);
  playhead_ = new QCPItemLine(this);
  for (auto* position : {playhead_->start, playhead_->end}) position->setTypeY(QCPItemPosition::ptAxisRectRatio);
  text_ = new QCPItemText(this);
  text_->position->setType(QCPItemPosition::ptAxisRectRatio);
  text_->position->setCoords(0.98, 0.03);
  text_->setPositionAlignment(Qt::AlignRight | Qt::AlignTop);
  text_->setPadding(QMargins(6, 4, 6, 4));
  text_->setVisible(false);
  nothing_ = new QCPItemText(this);
  nothing_->position->setType(QCPItemPosition::ptAxisRectRatio);
  nothing_->position->setCoords(0.5, 0.45);
  nothing_->setText(tr("Nothing is left in any cell"));
  nothing_->setVisible(false);
  recolour();
}

void DepthPlate::recolour() {
  dress(axisRect());
  QCPAxis* levels = scale_->axis();
  levels->setTickLabelColor(colour(Role::soft));
  levels->setTickLabelFont(face(Type::small));
  levels->setBasePen(Qt::NoPen);
  levels->setTickPen(Qt::NoPen);
  levels->setSubTickPen(Qt::NoPen);
  QCPColorGradient heat;
  heat.clearColorStops();
  for (const auto& [place, shade] : Theme::instance().heat_stops()) heat.setColorStopAt(place, shade);
  heat.setNanHandling(QCPColorGradient::nhNanColor);
  heat.setNanColor(colour(Role::sheet));
  map_->setGradient(heat);
  playhead_->setPen(QPen(QColor(255, 255, 255, 200), 1.2));
  nothing_->setFont(face(Type::body));
  nothing_->setColor(colour(Role::soft));
  text_->setFont(face(Type::small));
  text_->setColor(colour(Role::ink));
  text_->setBrush(colour(Role::sheet));
  text_->setPen(QPen(colour(Role::rule)));
}

void DepthPlate::show_cells(const DepthCells& cells) {
  cells_ = cells;
  db_ = depth_db(cells);
  const int columns = cells.columns(), bands = cells.bands();
  const bool silent = std::all_of(cells.residual.begin(), cells.residual.end(), [](float power) { return power <= 0; });
  map_->setVisible(!silent);
  nothing_->setVisible(silent);
  map_->data()->setSize(std::max(columns, 1), std::max(bands, 1));
  const double from = cells.first_s, to = cells.first_s + cells.column_s * std::max(columns - 1, 1);
  map_->data()->setRange(QCPRange(from + cells.column_s / 2, to + cells.column_s / 2),
                         QCPRange(0, std::max(bands - 1, 1)));
  for (int c = 0; c < columns; ++c)
    for (int b = 0; b < bands; ++b) map_->data()->setCell(c, b, double(db_[size_t(c * bands + b)]));
  bands_->clear();
  for (const double hz : {50.0, 100.0, 200.0, 500.0, 1000.0, 2000.0, 5000.0, 10000.0, 20000.0, 40000.0}) {
    const auto at = std::upper_bound(cells.band_edges_hz.begin(), cells.band_edges_hz.end(), hz);
    if (at == cells.band_edges_hz.begin() || at == cells.band_edges_hz.end()) continue;
    bands_->addTick(double(at - cells.band_edges_hz.begin()) - 1, hertz(hz, true));
  }
  yAxis->setRange(-0.5, std::max(bands, 1) - 0.5);
  replot(rpQueuedReplot);
}

void DepthPlate::set_range(double from_s, double to_s) {
  xAxis->setRange(from_s, to_s);
  replot(rpQueuedReplot);
}

void DepthPlate::set_playhead(double at_s) {
  playhead_->start->setCoords(at_s, 0);
  playhead_->end->setCoords(at_s, 1);
  replot(rpQueuedReplot);
}

void DepthPlate::mouseMoveEvent(QMouseEvent* event) {
  const auto column =
      int(std::floor((xAxis->pixelToCoord(event->position().x()) - cells_.first_s) / std::max(cells_.column_s, 1e-9)));
  const auto band = int(std::floor(yAxis->pixelToCoord(event->position().y()) + 0.5));
  const bool inside = column >= 0 && column < cells_.columns() && band >= 0 && band < cells_.bands();
  text_->setVisible(inside);
  if (inside) {
    const double db = double(db_[size_t(column * cells_.bands() + band)]);
    const QString depth = std::isnan(db) ? tr("silent")
                          : db <= -200
                              ? tr("nothing left")
                              : tr("%1 dB %2").arg(number(std::abs(db), 1), db <= 0 ? tr("under") : tr("over"));
    text_->setText(tr("%1, %2 to %3\n%4")
                       .arg(clock(cells_.first_s + column * cells_.column_s, 1),
                            hertz(cells_.band_edges_hz[size_t(band)], false),
                            hertz(cells_.band_edges_hz[size_t(band + 1)], false), depth));
  }
  replot(rpQueuedReplot);
}

void DepthPlate::mousePressEvent(QMouseEvent* event) {
  if (event->button() == Qt::LeftButton) emit clicked(xAxis->pixelToCoord(event->position().x()));
}

void DepthPlate::resizeEvent(QResizeEvent* event) {
  clock_->most = std::max(2, (event->size().width() - 90) / 52);
  Plate::resizeEvent(event);
}

void DepthPlate::leaveEvent(QEvent*) {
  text_->setVisible(false);
  replot(rpQueuedReplot);
}

QString DepthPlate::csv() const {
  QString text = "time_s,low_hz,high_hz,depth_db\n";
  for (int c = 0; c < cells_.columns(); ++c)
    for (int b = 0; b < cells_.bands(); ++b)
      text += QString("%1,%2,%3,%4\n")
                  .arg(cells_.first_s + c * cells_.column_s, 0, 'f', 3)
                  .arg(cells_.band_edges_hz[size_t(b)], 0, 'f', 1)
                  .arg(cells_.band_edges_hz[size_t(b + 1)], 0, 'f', 1)
                  .arg(double(db_[size_t(c * cells_.bands() + b)]), 0, 'f', 2);
  return text;
}

}  // namespace heathmist::app
