#include "app/plots/depth_plate.hpp"

#include <algorithm>
#include <cmath>

#include "app/theme/position.hpp"
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
  for (QCPItemRect** rect : {&halo_, &frame_}) {
    *rect = new QCPItemRect(this);
    (*rect)->setVisible(false);
  }
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
  colour_map();
  playhead_->setPen(QPen(QColor(255, 255, 255, 200), 1.2));
  halo_->setPen(QPen(QColor(255, 255, 255, 190), 4));  // it is seen on the dark cells, the frame on the bright ones
  frame_->setPen(QPen(QColor(Theme::instance().heat(0)), 1.6));
  text_->setFont(face(Type::small));
  text_->setColor(colour(Role::ink));
  text_->setBrush(colour(Role::sheet));
  text_->setPen(QPen(colour(Role::rule)));
}

void DepthPlate::colour_map() {
  QCPColorGradient shades;
  shades.clearColorStops();
  for (const auto& [place, shade] :
       what_ == of_difference ? Theme::instance().difference_stops() : Theme::instance().heat_stops())
    shades.setColorStopAt(place, shade);
  shades.setNanHandling(QCPColorGradient::nhNanColor);
  shades.setNanColor(colour(what_ == of_difference ? Role::faint : Role::sheet));
  map_->setGradient(shades);
}

void DepthPlate::show_cells(const DepthCells& cells) {
  what_ = of_depth;
  first_s_ = cells.first_s, column_s_ = cells.column_s, edges_hz_ = cells.band_edges_hz;
  db_ = depth_db(cells);
  const bool silent = std::all_of(cells.residual.begin(), cells.residual.end(), [](float power) { return power <= 0; });
  if (silent) return show_nothing(tr("Nothing is left in any cell"));
  scale_->setDataRange(QCPRange(-80, 0));
  xAxis->setLabel(tr("dBr; bright: near the programme"));
  show_values();
}

void DepthPlate::show_mask(const MaskMap& mask) {
  what_ = of_mask;
  first_s_ = mask.first_s, column_s_ = mask.column_s, edges_hz_ = mask.band_edges_hz;
  db_ = mask.over_db;
  if (mask.columns() == 0) return show_nothing(tr("Nothing is left to be masked"));
  scale_->setDataRange(QCPRange(-30, 20));
  xAxis->setLabel(tr("dB; bright: over the mask"));
  show_values();
}

void DepthPlate::show_difference(const DepthDifference& of) {
  what_ = of_difference;
  first_s_ = of.first_s, column_s_ = of.column_s, edges_hz_ = of.band_edges_hz;
  db_ = of.db;
  if (std::all_of(db_.begin(), db_.end(), [](float db) { return std::isnan(db) || db == 0; }))
    return show_nothing(tr("No cell differs"));
  scale_->setDataRange(QCPRange(-40, 40));
  xAxis->setLabel(tr("dB; + more is left of the first"));
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
  let_go();
  db_.clear();
  map_->setVisible(false);
  show_scale(false);
  xAxis->setLabel({});
  say_instead(words);
  replot(rpQueuedReplot);
}

/// What the hand was at, it was at in other cells.
void DepthPlate::let_go() {
  pressed_.reset(), cell_.reset(), extended_from_.reset();
  dragging_ = false;
  text_->setVisible(false);
}

void DepthPlate::show_values() {
  let_go();
  const int bands = bands_count();
  map_->setVisible(true);
  colour_map();
  show_scale(true);
  say_instead({});
  draw_columns();
  if (std::exchange(shown_bands_, bands) != bands) yAxis->setRange(-0.5, std::max(bands, 1) - 0.5);
  tick_bands();
  draw_frame();
}

/// Round frequencies; where few rows are seen, each one's own.
void DepthPlate::tick_bands() {
  constexpr double few = 10;
  bands_->clear();
  const QCPRange seen = yAxis->range();
  double last = -1e9, top = 0;
  const auto tick = [&](double hz) {
    const double row = row_of(hz);
    if (row < seen.lower || row > seen.upper - 0.4 || row < last + seen.size() / 12) return;
    bands_->addTick(row, hertz(hz, true));
    last = row, top = hz;
  };
  if (seen.size() > few)
    for (const double hz : {50.0, 100.0, 200.0, 500.0, 1000.0, 2000.0, 5000.0, 10000.0, 20000.0, 40000.0}) tick(hz);
  else
    for (int row = 0; row < bands_count(); ++row) tick(hz_of(row).first);
  if (top > 0) bands_->addTick(row_of(top), hertz(top, false));  // says its unit
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
  framed_s_ = seconds, framed_hz_ = hz;
  draw_frame();
}

void DepthPlate::draw_frame() {
  const auto seconds = framed_s_.value_or(std::pair{first_s_, first_s_ + column_s_ * columns_count()});
  const double low = framed_hz_ ? row_of(framed_hz_->first * 1.001) - 0.5 : -0.5,
               high = framed_hz_ ? row_of(framed_hz_->second * 0.999) + 0.5 : bands_count() - 0.5;
  for (QCPItemRect* rect : {halo_, frame_}) {
    rect->setVisible((framed_s_ || framed_hz_) && !edges_hz_.empty());
    rect->topLeft->setCoords(seconds.first, high);
    rect->bottomRight->setCoords(seconds.second, low);
  }
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

int DepthPlate::column_at(double x) const {
  return int(std::floor((xAxis->pixelToCoord(x) - first_s_) / std::max(column_s_, 1e-9)));
}
int DepthPlate::row_at(double y) const { return int(std::floor(yAxis->pixelToCoord(y) + 0.5)); }
bool DepthPlate::holds(int column, int row) const {
  return column >= 0 && column < columns_count() && row >= 0 && row < bands_count();
}

void DepthPlate::read_out(int column, int row) {
  text_->setVisible(holds(column, row));
  cell_.reset();
  if (holds(column, row)) {
    cell_ = std::pair{column, row};
    const double db = double(db_[size_t(column * bands_count() + row)]);
    text_->setText(tr("%1, %2 to %3\n%4")
                       .arg(position(first_s_ + column * column_s_, 1), hertz(hz_of(row).first, false),
                            hertz(hz_of(row).second, false), words_of(db)));
  }
  replot(rpQueuedReplot);
}

QString DepthPlate::words_of(double db) const {
  const QString size = number(std::abs(db), 1);
  if (what_ == of_difference)
    return std::isnan(db)        ? tr("not known of both")
           : std::abs(db) < 0.05 ? tr("as much is left of both")
                                 : tr("%1 dB more is left of the %2").arg(size, db > 0 ? tr("first") : tr("second"));
  if (std::isnan(db)) return tr("silent");
  if (db <= -200) return tr("nothing left");
  return (what_ == of_mask ? tr("%1 dB %2 the mask") : tr("%1 dB %2")).arg(size, db <= 0 ? tr("under") : tr("over"));
}

/// The cell that is read out, by the keyboard; with Shift all from where it was before are framed.
void DepthPlate::step(int columns, int rows, bool extend) {
  const auto middle = std::pair{int(((from_s() + to_s()) / 2 - first_s_) / column_s_), int(yAxis->range().center())};
  const auto was = cell_.value_or(middle);
  const auto [column, row] = was;
  if (!extend)
    extended_from_.reset();
  else if (!extended_from_)
    extended_from_ = was;
  read_out(std::clamp(column + columns * together_, 0, columns_count() - 1),
           std::clamp(row + rows, 0, bands_count() - 1));
  const double at = first_s_ + (cell_->first + 0.5) * column_s_, span = to_s() - from_s();
  if (at < from_s() || at > to_s()) want(at - span / 2, at + span / 2);
  if (cell_->second + 0.5 > yAxis->range().upper || cell_->second - 0.5 < yAxis->range().lower)
    zoom_bands(1, 2 * cell_->second - yAxis->range().center());
  if (extended_from_) {
    frame_cells(*extended_from_, *cell_);
    draw_frame();
  }
}

void DepthPlate::frame_cells(std::pair<int, int> a, std::pair<int, int> b) {
  const auto [first, last] = std::minmax(a.first, b.first);
  const auto [low, high] = std::minmax(a.second, b.second);
  framed_s_ = std::pair{first_s_ + first * column_s_, first_s_ + (last + 1) * column_s_};
  framed_hz_ = std::pair{hz_of(low).first, hz_of(high).second};
}

/// What is framed by the keyboard, or the cell that is read out.
void DepthPlate::take_cells() {
  if (std::exchange(extended_from_, std::nullopt))
    emit selected(framed_s_->first, framed_s_->second, framed_hz_->first, framed_hz_->second);
  else if (cell_)
    emit clicked(first_s_ + (cell_->first + 0.5) * column_s_, hz_of(cell_->second).first, hz_of(cell_->second).second);
}

void DepthPlate::mousePressEvent(QMouseEvent* event) {
  if (event->button() != Qt::LeftButton || !axisRect()->rect().contains(event->pos()) || columns_count() == 0) return;
  pressed_ = event->position();
  dragging_ = false;
}

void DepthPlate::mouseMoveEvent(QMouseEvent* event) {
  read_out(column_at(event->position().x()), row_at(event->position().y()));
  if (!pressed_) return;
  dragging_ = dragging_ || (event->position() - *pressed_).manhattanLength() > 4;
  if (dragging_) draw_drag(event->position());
}

/// From where it was pressed to here, in whole rows.
void DepthPlate::draw_drag(const QPointF& to) {
  const double a = xAxis->pixelToCoord(pressed_->x()), b = xAxis->pixelToCoord(to.x()),
               last = first_s_ + column_s_ * columns_count();
  const int one = row_at(pressed_->y()), other = row_at(to.y());
  const int low = std::min(one, other), high = std::max(one, other);
  framed_s_ = std::pair{std::clamp(std::min(a, b), 0.0, last), std::clamp(std::max(a, b), 0.0, last)};
  framed_hz_ = std::pair{hz_of(std::clamp(low, 0, bands_count() - 1)).first,
                         hz_of(std::clamp(high, 0, bands_count() - 1)).second};
  draw_frame();
}

void DepthPlate::mouseReleaseEvent(QMouseEvent* event) {
  if (event->button() != Qt::LeftButton || !pressed_) return;
  const QPointF at = *std::exchange(pressed_, std::nullopt);
  if (std::exchange(dragging_, false)) {
    if (framed_s_ && framed_s_->second > framed_s_->first)
      emit selected(framed_s_->first, framed_s_->second, framed_hz_->first, framed_hz_->second);
  } else if (const int row = row_at(at.y()); row >= 0 && row < bands_count()) {
    emit clicked(xAxis->pixelToCoord(at.x()), hz_of(row).first, hz_of(row).second);
  }
}

void DepthPlate::mouseDoubleClickEvent(QMouseEvent*) {
  show_whole();
  emit cleared();
}

void DepthPlate::show_whole() {
  set_bands(QCPRange(-0.5, std::max(bands_count(), 1) - 0.5));
  emit bands_changed(yAxis->range());
  want(first_s_, first_s_ + column_s_ * columns_count());
  replot(rpQueuedReplot);
}

/// Within what there is.
void DepthPlate::want(double from_s, double to_s) {
  const double last = first_s_ + column_s_ * columns_count(), span = std::min(to_s - from_s, last - first_s_);
  const double from = std::clamp(from_s, first_s_, last - span);
  emit range_wanted(from, from + span);
}

void DepthPlate::zoom_time(double factor, double about_s) {
  if ((to_s() - from_s()) * factor < 2 * column_s_) return;
  want(about_s - (about_s - from_s()) * factor, about_s + (to_s() - about_s) * factor);
}

void DepthPlate::zoom_bands(double factor, double about_row) {
  const QCPRange now = yAxis->range();
  const double all = bands_count(), span = std::clamp(now.size() * factor, std::min(3.0, all), all);
  const double low = std::clamp(about_row - (about_row - now.lower) * span / now.size(), -0.5, all - 0.5 - span);
  set_bands(QCPRange(low, low + span));
  emit bands_changed(yAxis->range());
}

void DepthPlate::set_bands(const QCPRange& rows) {
  if (yAxis->range() == rows) return;
  yAxis->setRange(rows);
  tick_bands();
  replot(rpQueuedReplot);
}

void DepthPlate::wheelEvent(QWheelEvent* event) {
  if (columns_count() == 0) return;
  const double turns = (event->angleDelta().y() + event->angleDelta().x()) / 120.0;
  if (event->modifiers() & Qt::ShiftModifier || event->position().x() < axisRect()->left())
    zoom_bands(std::pow(0.8, turns), yAxis->pixelToCoord(event->position().y()));
  else
    zoom_time(std::pow(0.8, turns), xAxis->pixelToCoord(event->position().x()));
}

void DepthPlate::keyPressEvent(QKeyEvent* event) {
  if (columns_count() == 0) return Plate::keyPressEvent(event);
  const bool extend = event->modifiers() & Qt::ShiftModifier;
  const double about_s = cell_ ? first_s_ + cell_->first * column_s_ : (from_s() + to_s()) / 2;
  const double about_row = cell_ ? cell_->second : yAxis->range().center();
  switch (event->key()) {
    case Qt::Key_Left:
      return step(-1, 0, extend);
    case Qt::Key_Right:
      return step(1, 0, extend);
    case Qt::Key_Up:
      return step(0, 1, extend);
    case Qt::Key_Down:
      return step(0, -1, extend);
    case Qt::Key_Plus:
    case Qt::Key_Equal:
      return zoom_time(0.8, about_s);
    case Qt::Key_Minus:
      return zoom_time(1.25, about_s);
    case Qt::Key_PageUp:
      return zoom_bands(0.8, about_row);
    case Qt::Key_PageDown:
      return zoom_bands(1.25, about_row);
    case Qt::Key_0:
      return show_whole();
    case Qt::Key_Return:
    case Qt::Key_Enter:
      return take_cells();
    default:
      Plate::keyPressEvent(event);
  }
}

void DepthPlate::resizeEvent(QResizeEvent* event) {
  clock_->most = std::max(2, (event->size().width() - 90) / 52);
  Plate::resizeEvent(event);
  redraw_columns();
}

void DepthPlate::leaveEvent(QEvent*) {
  cell_.reset();
  text_->setVisible(false);
  replot(rpQueuedReplot);
}

QString DepthPlate::in_words() const {
  if (!said_instead().isEmpty()) return Plate::in_words();
  std::optional<size_t> most;
  for (size_t n = 0; n < db_.size(); ++n) {
    if (std::isnan(db_[n]) || std::abs(db_[n]) >= 200) continue;
    const auto rank = [&](size_t k) { return what_ == of_difference ? std::abs(db_[k]) : db_[k]; };
    if (!most || rank(n) > rank(*most)) most = n;
  }
  if (!most) return {};
  const auto [low, high] = hz_of(int(*most) % bands_count());
  const QString place = position(first_s_ + double(int(*most) / bands_count()) * column_s_, 1);
  return (what_ == of_difference ? tr("Farthest apart at %1, %2 to %3: %4") : tr("Closest at %1, %2 to %3: %4"))
      .arg(place, hertz(low, false), hertz(high, false), words_of(double(db_[*most])));
}

QString DepthPlate::csv() const {
  QString text = what_ == of_mask         ? "time_s,low_hz,high_hz,residual_to_mask_db\n"
                 : what_ == of_difference ? "time_s,low_hz,high_hz,first_less_second_db\n"
                                          : "time_s,low_hz,high_hz,depth_db\n";
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
