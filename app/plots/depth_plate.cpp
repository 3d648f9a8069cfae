#include "app/plots/depth_plate.hpp"

#include <algorithm>
#include <cmath>

#include "app/theme/theme.hpp"
#include "app/widgets/terms.hpp"

namespace heathmist::app {

DepthPlate::DepthPlate(QWidget* parent) : Plate(parent), bands_(new QCPAxisTickerText) {
  title_ = "depth-map";
  set_term(this, "depth");
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
  frame_ = new QCPItemRect(this);
  frame_->setVisible(false);
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
  for (const auto side : {QCPAxis::atLeft, QCPAxis::atRight, QCPAxis::atTop, QCPAxis::atBottom})
    levels->axisRect()->axis(side)->setBasePen(Qt::NoPen);
  QCPColorGradient heat;
  heat.clearColorStops();
  for (const auto& [place, shade] : Theme::instance().heat_stops()) heat.setColorStopAt(place, shade);
  heat.setNanHandling(QCPColorGradient::nhNanColor);
  heat.setNanColor(colour(Role::sheet));
  map_->setGradient(heat);
  playhead_->setPen(QPen(QColor(255, 255, 255, 200), 1.2));
  frame_->setPen(QPen(colour(Role::ink), 1.6));
  text_->setFont(face(Type::small));
  text_->setColor(colour(Role::ink));
  text_->setBrush(colour(Role::sheet));
  text_->setPen(QPen(colour(Role::rule)));
}

void DepthPlate::show_cells(const DepthCells& cells) {
  mask_ = false;
  first_s_ = cells.first_s, column_s_ = cells.column_s, edges_hz_ = cells.band_edges_hz;
  db_ = depth_db(cells);
  const bool silent = std::all_of(cells.residual.begin(), cells.residual.end(), [](float power) { return power <= 0; });
  if (silent) return show_nothing(tr("Nothing is left in any cell"));
  scale_->setDataRange(QCPRange(-80, 0));
  xAxis->setLabel(tr("dBr; bright: near the programme"));
  show_values();
}

void DepthPlate::show_mask(const MaskMap& mask) {
  mask_ = true;
  first_s_ = mask.first_s, column_s_ = mask.column_s, edges_hz_ = mask.band_edges_hz;
  db_ = mask.over_db;
  if (mask.columns() == 0) return show_nothing(tr("Nothing is left to be masked"));
  scale_->setDataRange(QCPRange(-30, 20));
  xAxis->setLabel(tr("dB; bright: over the mask"));
  show_values();
}

/// Where there is nothing to be seen, there is nothing that a colour stands for.
void DepthPlate::show_scale(bool shown) {
  if (shown == (scale_->layout() != nullptr)) return;
  if (shown) {
    plotLayout()->addElement(0, 1, scale_);
  } else {
    plotLayout()->take(scale_);
    plotLayout()->simplify();
  }
  scale_->setVisible(shown);
  for (const auto side : {QCPAxis::atLeft, QCPAxis::atRight, QCPAxis::atTop, QCPAxis::atBottom})
    scale_->axis()->axisRect()->axis(side)->setVisible(shown && side == QCPAxis::atRight);
}

void DepthPlate::show_nothing(const QString& words) {
  db_.clear();
  map_->setVisible(false);
  show_scale(false);
  xAxis->setLabel({});
  say_instead(words);
  replot(rpQueuedReplot);
}

void DepthPlate::show_values() {
  const int bands = bands_count();
  map_->setVisible(true);
  show_scale(true);
  say_instead({});
  draw_columns();
  bands_->clear();
  double last = -1, top = 0;
  for (const double hz : {50.0, 100.0, 200.0, 500.0, 1000.0, 2000.0, 5000.0, 10000.0, 20000.0, 40000.0}) {
    const double row = row_of(hz);
    if (row < 0 || row > bands - 1 || row < last + bands / 12.0) continue;
    bands_->addTick(row, hertz(hz, true));
    last = row, top = hz;
  }
  if (top > 0) bands_->addTick(row_of(top), hertz(top, false));  // says its unit
  yAxis->setRange(-0.5, std::max(bands, 1) - 0.5);
  replot(rpQueuedReplot);
}

/// How many columns share a pixel where more are seen than pixels.
int DepthPlate::columns_together() const {
  const double seen = std::min(double(columns_count()), xAxis->range().size() / std::max(column_s_, 1e-9));
  return std::max(1, int(std::ceil(seen / std::max(1, axisRect()->width()))));
}

/// The brightest of the columns that share a pixel stands for them: else what is drawn of short events would be chance.
void DepthPlate::draw_columns() {
  const int bands = std::max(bands_count(), 1);
  together_ = columns_together();
  const auto db = greatest_of(db_, bands, together_);
  const int drawn = std::max(1, int(db.size()) / bands);
  const double first = first_s_ + column_s_ * together_ / 2, step = column_s_ * together_;
  map_->data()->setSize(drawn, bands);
  map_->data()->setRange(QCPRange(first, first + step * std::max(drawn - 1, 1)), QCPRange(0, std::max(bands - 1, 1)));
  for (size_t n = 0; n < db.size(); ++n) map_->data()->setCell(int(n) / bands, int(n) % bands, double(db[n]));
}

/// While it is only moved about the same columns stand.
void DepthPlate::redraw_columns() {
  if (!db_.empty() && columns_together() != together_) draw_columns();
}

double DepthPlate::row_of(double hz) const {
  const auto at = std::upper_bound(edges_hz_.begin(), edges_hz_.end(), hz);
  if (at == edges_hz_.begin()) return -1;
  if (at == edges_hz_.end()) return bands_count();
  return double(at - edges_hz_.begin()) - 1;
}

void DepthPlate::set_frame(std::optional<std::pair<double, double>> seconds,
                           std::optional<std::pair<double, double>> hz) {
  frame_->setVisible((seconds || hz) && !edges_hz_.empty());
  if (!seconds) seconds = std::pair{first_s_, first_s_ + column_s_ * columns_count()};
  frame_->topLeft->setCoords(seconds->first, hz ? row_of(hz->second * 0.999) + 0.5 : bands_count() - 0.5);
  frame_->bottomRight->setCoords(seconds->second, hz ? row_of(hz->first * 1.001) - 0.5 : -0.5);
  replot(rpQueuedReplot);
}

void DepthPlate::set_range(double from_s, double to_s) {
  xAxis->setRange(from_s, to_s);
  redraw_columns();
  replot(rpQueuedReplot);
}

void DepthPlate::set_playhead(double at_s) {
  playhead_->start->setCoords(at_s, 0);
  playhead_->end->setCoords(at_s, 1);
  replot(rpQueuedReplot);
}

void DepthPlate::mouseMoveEvent(QMouseEvent* event) {
  const auto column =
      int(std::floor((xAxis->pixelToCoord(event->position().x()) - first_s_) / std::max(column_s_, 1e-9)));
  const auto band = int(std::floor(yAxis->pixelToCoord(event->position().y()) + 0.5));
  const bool inside = column >= 0 && column < columns_count() && band >= 0 && band < bands_count();
  text_->setVisible(inside);
  if (inside) {
    const double db = double(db_[size_t(column * bands_count() + band)]);
    const QString words = std::isnan(db) ? tr("silent")
                          : db <= -200   ? tr("nothing left")
                          : mask_
                              ? tr("%1 dB %2 the mask").arg(number(std::abs(db), 1), db <= 0 ? tr("under") : tr("over"))
                              : tr("%1 dB %2").arg(number(std::abs(db), 1), db <= 0 ? tr("under") : tr("over"));
    text_->setText(tr("%1, %2 to %3\n%4")
                       .arg(clock(first_s_ + column * column_s_, 1), hertz(edges_hz_[size_t(band)], false),
                            hertz(edges_hz_[size_t(band + 1)], false), words));
  }
  replot(rpQueuedReplot);
}

void DepthPlate::mousePressEvent(QMouseEvent* event) {
  const double at = xAxis->pixelToCoord(event->position().x());
  const auto band = int(std::floor(yAxis->pixelToCoord(event->position().y()) + 0.5));
  if (event->button() == Qt::LeftButton && band >= 0 && band < bands_count())
    emit clicked(at, edges_hz_[size_t(band)], edges_hz_[size_t(band + 1)]);
}

void DepthPlate::resizeEvent(QResizeEvent* event) {
  clock_->most = std::max(2, (event->size().width() - 90) / 52);
  Plate::resizeEvent(event);
  redraw_columns();
}

void DepthPlate::leaveEvent(QEvent*) {
  text_->setVisible(false);
  replot(rpQueuedReplot);
}

QString DepthPlate::csv() const {
  QString text = mask_ ? "time_s,low_hz,high_hz,residual_to_mask_db\n" : "time_s,low_hz,high_hz,depth_db\n";
  for (int c = 0; c < columns_count(); ++c)
    for (int b = 0; b < bands_count(); ++b)
      text += QString("%1,%2,%3,%4\n")
                  .arg(first_s_ + c * column_s_, 0, 'f', 3)
                  .arg(edges_hz_[size_t(b)], 0, 'f', 1)
                  .arg(edges_hz_[size_t(b + 1)], 0, 'f', 1)
                  .arg(double(db_[size_t(c * bands_count() + b)]), 0, 'f', 2);
  return text;
}

}  // namespace heathmist::app
