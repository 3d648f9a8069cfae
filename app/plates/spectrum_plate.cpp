#include "app/plates/spectrum_plate.hpp"

#include <algorithm>
#include <cmath>

#include "app/theme/theme.hpp"

namespace heathmist::app {

namespace {
constexpr double deepest_db = -200;
}

SpectrumPlate::SpectrumPlate(QWidget* parent) : Plate(parent), ticker_(new HertzTicker) {
  title_ = "spectra";
  setAccessibleName(tr("Spectra of master, return and residual"));
  floor_ = addGraph();
  residual_ = addGraph();
  residual_->setChannelFillGraph(floor_);
  floor_->setPen(Qt::NoPen);
  master_ = addGraph();
  ret_ = addGraph();
  xAxis->setTicker(ticker_);
  yAxis->setTicker(QSharedPointer<QCPAxisTicker>(new LevelTicker));
  yAxis->ticker()->setTickCount(6);
  axisRect()->setMinimumMargins(QMargins(38, 6, 10, 20));
  setInteractions(QCP::iRangeDrag);
  cursor_ = new QCPItemLine(this);
  for (auto* position : {cursor_->start, cursor_->end}) position->setTypeY(QCPItemPosition::ptAxisRectRatio);
  text_ = new QCPItemText(this);
  text_->position->setType(QCPItemPosition::ptAxisRectRatio);
  text_->position->setCoords(0.98, 0.03);
  text_->setPositionAlignment(Qt::AlignRight | Qt::AlignTop);
  text_->setTextAlignment(Qt::AlignLeft);
  text_->setPadding(QMargins(6, 4, 6, 4));
  cursor_->setVisible(false);
  text_->setVisible(false);
  recolour();
}

void SpectrumPlate::recolour() {
  dress(axisRect());
  master_->setPen(QPen(colour(Role::master), 1.6));
  QPen dashed(colour(Role::ret), 1.5);
  dashed.setStyle(Qt::CustomDashLine);
  dashed.setDashPattern({5, 3});
  ret_->setPen(dashed);
  residual_->setPen(QPen(colour(Role::residual), 1.1));
  QColor fill = colour(Role::residual);
  fill.setAlphaF(0.25f);
  residual_->setBrush(fill);
  cursor_->setPen(QPen(colour(Role::soft), 1, Qt::DotLine));
  text_->setFont(face(Type::small));
  text_->setColor(colour(Role::ink));
  text_->setBrush(colour(Role::sheet));
  text_->setPen(QPen(colour(Role::rule)));
}

void SpectrumPlate::show_spectra(const SpectraShown& shown) {
  const bool scale_changed = shown.logarithmic != shown_.logarithmic || shown.relative != shown_.relative ||
                             shown_.master.hz.empty() ||
                             (!shown.master.hz.empty() && shown.master.hz.back() != shown_.master.hz.back());
  shown_ = shown;
  ticker_->logarithmic = shown.logarithmic;
  xAxis->setScaleType(shown.logarithmic ? QCPAxis::stLogarithmic : QCPAxis::stLinear);
  auto put = [&](QCPGraph* graph, const SpectrumLine& line) {
    QVector<QCPGraphData> points;
    for (size_t n = 0; n < line.hz.size(); ++n) points.append({line.hz[n], std::max(line.db[n], deepest_db)});
    graph->data()->set(points, true);
  };
  put(master_, shown.master);
  put(ret_, shown.relative ? shown.ret_relative : shown.ret);
  put(residual_, shown.relative ? shown.residual_relative : shown.residual);
  master_->setVisible(!shown.relative);
  if (scale_changed && !shown.master.hz.empty()) xAxis->setRange(shown.master.hz.front(), shown.master.hz.back());
  fit_levels();
  if (text_->visible()) place_cursor(cursor_hz_);
  replot(rpQueuedReplot);
}

void SpectrumPlate::fit_levels() {
  double top = deepest_db, bottom = 0;
  auto look = [&](QCPGraph* graph) {
    for (const auto& point : *graph->data())
      if (point.value > deepest_db) top = std::max(top, point.value), bottom = std::min(bottom, point.value);
  };
  if (!shown_.relative) look(master_);
  look(ret_), look(residual_);
  top = top <= deepest_db ? 0 : std::ceil((top + 3) / 10) * 10;
  bottom = std::max({deepest_db, std::floor((bottom - 3) / 10) * 10, top - 170});
  yAxis->setRange(std::min(bottom, top - 20), top);
  const auto& hz = shown_.master.hz;
  if (!hz.empty()) floor_->data()->set({{hz.front(), bottom - 400}, {hz.back(), bottom - 400}}, true);
}

size_t SpectrumPlate::nearest(double hz) const {
  const auto at = std::lower_bound(shown_.master.hz.begin(), shown_.master.hz.end(), hz);
  return std::min(size_t(at - shown_.master.hz.begin()), shown_.master.hz.size() - 1);
}

QString SpectrumPlate::read_out(double hz) const {
  if (shown_.master.hz.empty()) return {};
  const size_t n = nearest(hz);
  const double m = shown_.master.db[n], e = shown_.residual.db[n];
  auto level = [](double db) { return db <= deepest_db ? QString("none") : number(db, 1); };
  const QString under = e <= deepest_db
                            ? tr("nothing left")
                            : tr("%1 dB %2").arg(number(std::abs(m - e), 1), m >= e ? tr("under") : tr("over"));
  return tr("%1\nmaster %2  return %3\nresidual %4, %5")
      .arg(hertz(shown_.master.hz[n], false), level(m), level(shown_.ret.db[n]), level(e), under);
}

void SpectrumPlate::place_cursor(double hz) {
  cursor_hz_ = hz;
  cursor_->start->setCoords(hz, 0);
  cursor_->end->setCoords(hz, 1);
  text_->setText(read_out(hz));
  cursor_->setVisible(true);
  text_->setVisible(!shown_.master.hz.empty());
  replot(rpQueuedReplot);
}

void SpectrumPlate::mouseMoveEvent(QMouseEvent* event) {
  QCustomPlot::mouseMoveEvent(event);
  if (axisRect()->rect().contains(event->pos())) place_cursor(xAxis->pixelToCoord(event->position().x()));
}

void SpectrumPlate::resizeEvent(QResizeEvent* event) {
  ticker_->dense = event->size().width() > 330;
  Plate::resizeEvent(event);
}

void SpectrumPlate::leaveEvent(QEvent*) {
  cursor_->setVisible(false);
  text_->setVisible(false);
  replot(rpQueuedReplot);
}

void SpectrumPlate::wheelEvent(QWheelEvent* event) {
  QCPAxis* axis = event->modifiers() & Qt::ShiftModifier || event->position().x() < axisRect()->left() ? yAxis : xAxis;
  const double about = axis->pixelToCoord(axis == xAxis ? event->position().x() : event->position().y());
  axis->scaleRange(std::pow(0.85, (event->angleDelta().y() + event->angleDelta().x()) / 120.0), about);
  replot(rpQueuedReplot);
}

void SpectrumPlate::mouseDoubleClickEvent(QMouseEvent*) {
  if (!shown_.master.hz.empty()) xAxis->setRange(shown_.master.hz.front(), shown_.master.hz.back());
  fit_levels();
  replot(rpQueuedReplot);
}

void SpectrumPlate::keyPressEvent(QKeyEvent* event) {
  if (shown_.master.hz.empty()) return Plate::keyPressEvent(event);
  const size_t now = nearest(cursor_hz_), last = shown_.master.hz.size() - 1;
  switch (event->key()) {
    case Qt::Key_Left:
      return place_cursor(shown_.master.hz[now > 4 ? now - 4 : 0]);
    case Qt::Key_Right:
      return place_cursor(shown_.master.hz[std::min(last, now + 4)]);
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

QString SpectrumPlate::csv() const {
  QString text = "frequency_hz,master_db,return_db,residual_db\n";
  for (size_t n = 0; n < shown_.master.hz.size(); ++n)
    text += QString("%1,%2,%3,%4\n")
                .arg(shown_.master.hz[n], 0, 'f', 3)
                .arg(shown_.master.db[n], 0, 'f', 3)
                .arg(shown_.ret.db[n], 0, 'f', 3)
                .arg(shown_.residual.db[n], 0, 'f', 3);
  return text;
}

}  // namespace heathmist::app
