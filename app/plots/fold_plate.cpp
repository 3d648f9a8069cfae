#include "app/plots/fold_plate.hpp"

#include <algorithm>

#include "app/theme/theme.hpp"
#include "app/widgets/terms.hpp"

namespace heathmist::app {

namespace {
constexpr double least_db = -150;
}

FoldPlate::FoldPlate(QWidget* parent) : Plate(parent) {
  title_ = "alias-map";
  set_term(this, "fold");
  setAccessibleName(tr("Alias map: input frequency across, output frequency upwards"));
  for (QCPAxis* axis : {xAxis, yAxis}) {
    QSharedPointer<HertzTicker> ticker(new HertzTicker);
    ticker->logarithmic = false;
    ticker->setTickCount(5);
    axis->setTicker(ticker);
    axis->grid()->setVisible(false);
  }
  xAxis->setLabel(tr("in"));
  yAxis->setLabel(tr("out"));
  map_ = new QCPColorMap(xAxis, yAxis);
  map_->setInterpolate(false);
  map_->setTightBoundary(true);
  scale_ = new QCPColorScale(this);
  scale_->setBarWidth(7);
  scale_->setType(QCPAxis::atRight);
  plotLayout()->addElement(0, 1, scale_);
  map_->setColorScale(scale_);
  scale_->setDataRange(QCPRange(least_db, 0));
  scale_->axis()->setTicker(QSharedPointer<QCPAxisTicker>(new LevelTicker));
  scale_->axis()->ticker()->setTickCount(4);
  auto* group = new QCPMarginGroup(this);
  axisRect()->setMarginGroup(QCP::msTop | QCP::msBottom, group);
  scale_->setMarginGroup(QCP::msTop | QCP::msBottom, group);
  axisRect()->setMinimumMargins(QMargins(44, 22, 4, 34));
  setInteractions(QCP::iRangeDrag | QCP::iRangeZoom);
  setMouseTracking(true);
  name_ = new QCPItemText(this);
  name_->position->setType(QCPItemPosition::ptAxisRectRatio);
  name_->position->setCoords(0, 0);
  name_->setPositionAlignment(Qt::AlignLeft | Qt::AlignBottom);
  name_->setClipToAxisRect(false);
  name_->setPadding(QMargins(0, 0, 0, 4));
  text_ = corner_text(axisRect(), 0.98, Qt::AlignRight);
  text_->setVisible(false);
  recolour();
}

void FoldPlate::show_fold(const FoldShown& shown) {
  shown_ = shown;
  title_ = "alias-map-" + QString(shown.name).replace(' ', '-');
  draw();
}

void FoldPlate::recolour() {
  dress(axisRect());
  QCPAxis* levels = scale_->axis();
  levels->setTickLabelColor(colour(Role::soft));
  levels->setTickLabelFont(face(Type::small));
  for (auto set : {&QCPAxis::setBasePen, &QCPAxis::setTickPen, &QCPAxis::setSubTickPen}) (levels->*set)(Qt::NoPen);
  for (QCPAxis* axis : {xAxis, yAxis}) {
    axis->setLabelColor(colour(Role::soft));
    axis->setLabelFont(face(Type::small));
  }
  QCPColorGradient heat;
  heat.clearColorStops();
  for (const auto& [place, shade] : Theme::instance().heat_stops()) heat.setColorStopAt(place, shade);
  map_->setGradient(heat);
  name_->setFont(face(Type::small, true));
  name_->setColor(colour(Role::ink));
  text_->setFont(face(Type::small));
  text_->setColor(colour(Role::ink));
  text_->setBrush(colour(Role::sheet));
  text_->setPen(QPen(colour(Role::rule)));
  draw();
}

void FoldPlate::draw() {
  for (QCPGraph* line : lines_) removeGraph(line);
  lines_.clear();
  const AliasMap& m = shown_.map;
  const bool found = !m.db.empty();
  map_->setVisible(found);
  scale_->setVisible(found);
  if (found) {
    map_->data()->setSize(m.columns, m.rows);
    const double half_in = m.in_top_hz / m.columns / 2, half_out = m.out_top_hz / m.rows / 2;
    map_->data()->setRange(QCPRange(half_in, m.in_top_hz - half_in), QCPRange(half_out, m.out_top_hz - half_out));
    for (int c = 0; c < m.columns; ++c)
      for (int r = 0; r < m.rows; ++r) map_->data()->setCell(c, r, double(m.db[size_t(c * m.rows + r)]));
  }
  for (const FoldLine& line : shown_.lines) {
    if (found && line.image != 0) continue;  // the map shows the images that are there
    QCPGraph* graph = addGraph();
    QVector<QCPGraphData> points;
    for (size_t n = 0; n < line.in_hz.size(); ++n) points.append({line.in_hz[n], line.out_hz[n]});
    graph->data()->set(points, true);
    QColor ink = found ? QColor(255, 255, 255, 130) : colour(line.image == 0 ? Role::ink : Role::soft);
    graph->setPen(
        QPen(ink, line.image == 0 && !found ? 2 : 1, line.image == 0 && !found ? Qt::SolidLine : Qt::DotLine));
    lines_.push_back(graph);
  }
  if (shown_.tone_hz) draw_tone();
  name_->setText(shown_.name);
  xAxis->setRange(0, shown_.from_hz / 2);
  yAxis->setRange(0, shown_.to_hz / 2);
  replot(rpQueuedReplot);
}

/// A thin line down from the tone, a ring where it lands.
void FoldPlate::draw_tone() {
  auto* stem = addGraph();
  stem->data()->set({{*shown_.tone_hz, 0}, {*shown_.tone_hz, shown_.to_hz}}, true);
  stem->setPen(QPen(colour(Role::ink), 1));
  auto* rings = addGraph();
  QVector<QCPGraphData> points;
  for (const double hz : shown_.lands_hz) points.append({*shown_.tone_hz, hz});
  rings->data()->set(points);
  rings->setLineStyle(QCPGraph::lsNone);
  rings->setScatterStyle(
      QCPScatterStyle(QCPScatterStyle::ssCircle, QPen(colour(Role::ink), 2), QBrush(colour(Role::sheet)), 9));
  lines_.insert(lines_.end(), {stem, rings});
}

void FoldPlate::mousePressEvent(QMouseEvent* event) {
  pressed_ = event->position();
  Plate::mousePressEvent(event);
}

void FoldPlate::mouseReleaseEvent(QMouseEvent* event) {
  Plate::mouseReleaseEvent(event);
  const QPointF moved = event->position() - pressed_;
  if (event->button() == Qt::LeftButton && moved.manhattanLength() < 4 &&
      axisRect()->rect().contains(event->position().toPoint()))
    emit tone_chosen(std::clamp(xAxis->pixelToCoord(event->position().x()), 0.0, shown_.from_hz / 2));
}

QString FoldPlate::read_out(double in_hz, double out_hz) const {
  if (shown_.lines.empty()) return {};
  QString text = tr("%1 lands at %2").arg(hertz(in_hz, false), hertz(folded_hz(in_hz, shown_.to_hz), false));
  const AliasMap& m = shown_.map;
  const int c = int(in_hz / m.in_top_hz * m.columns), r = int(out_hz / m.out_top_hz * m.rows);
  if (!m.db.empty() && c >= 0 && c < m.columns && r >= 0 && r < m.rows)
    text += "\n" + tr("at %1: %2 dB").arg(hertz(out_hz, false), number(double(m.db[size_t(c * m.rows + r)]), 0));
  return text;
}

void FoldPlate::mouseMoveEvent(QMouseEvent* event) {
  QCustomPlot::mouseMoveEvent(event);
  const bool inside = axisRect()->rect().contains(event->position().toPoint());
  text_->setVisible(inside);
  if (inside)
    text_->setText(read_out(xAxis->pixelToCoord(event->position().x()), yAxis->pixelToCoord(event->position().y())));
  replot(rpQueuedReplot);
}

void FoldPlate::leaveEvent(QEvent*) {
  text_->setVisible(false);
  replot(rpQueuedReplot);
}

QString FoldPlate::in_words() const {
  if (!said_instead().isEmpty() || shown_.from_hz <= 0) return Plate::in_words();
  const AliasMap& m = shown_.map;
  if (shown_.tone_hz && !shown_.lands_hz.empty())
    return shown_.name + ": " + read_out(*shown_.tone_hz, shown_.lands_hz.front());
  if (m.db.empty())
    return tr("%1: what lies over %2 lands below it")
        .arg(shown_.name, hertz(std::min(shown_.from_hz, shown_.to_hz) / 2, false));
  const auto most = size_t(std::max_element(m.db.begin(), m.db.end()) - m.db.begin());
  const double in_hz = (double(most / size_t(m.rows)) + 0.5) * m.in_top_hz / m.columns,
               out_hz = (double(most % size_t(m.rows)) + 0.5) * m.out_top_hz / m.rows;
  return shown_.name + ": " + read_out(in_hz, out_hz);
}

QString FoldPlate::csv() const {
  QString text = "in_hz,out_hz,db\n";
  const AliasMap& m = shown_.map;
  for (int c = 0; c < m.columns; ++c)
    for (int r = 0; r < m.rows; ++r)
      text += QString("%1,%2,%3\n")
                  .arg((c + 0.5) * m.in_top_hz / m.columns, 0, 'f', 1)
                  .arg((r + 0.5) * m.out_top_hz / m.rows, 0, 'f', 1)
                  .arg(double(m.db[size_t(c * m.rows + r)]), 0, 'f', 1);
  if (m.db.empty())
    for (const FoldLine& line : shown_.lines)
      for (size_t n = 0; n < line.in_hz.size(); ++n)
        text += QString("%1,%2,\n").arg(line.in_hz[n], 0, 'f', 1).arg(line.out_hz[n], 0, 'f', 1);
  return text;
}

}  // namespace heathmist::app
