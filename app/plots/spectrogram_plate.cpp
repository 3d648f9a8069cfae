#include "app/plots/spectrogram_plate.hpp"

#include <algorithm>
#include <cmath>

#include "app/theme/position.hpp"
#include "app/theme/theme.hpp"
#include "app/widgets/terms.hpp"

namespace heathmist::app {

SpectrogramPlate::SpectrogramPlate(QWidget* parent) : Plate(parent) {
  title_ = "spectrogram";
  set_term(this, "spectrogram");
  setAccessibleName(tr("Spectrograms: time across, frequency upwards"));
  setMouseTracking(true);
  setFocusPolicy(Qt::StrongFocus);
  strips_.push_back(make_strip(0));
  recolour();
}

SpectrogramPlate::Strip SpectrogramPlate::make_strip(int place) {
  Strip s{};
  s.rect = place == 0 ? axisRect() : new QCPAxisRect(this, true);
  if (place > 0) beside_ ? plotLayout()->addElement(0, place, s.rect) : plotLayout()->addElement(place, 0, s.rect);
  plotLayout()->setRowSpacing(4);
  plotLayout()->setColumnSpacing(4);
  s.rect->setMinimumMargins(QMargins(44, 4, 10, 6));
  QCPAxis *time = s.rect->axis(QCPAxis::atBottom), *rows = s.rect->axis(QCPAxis::atLeft);
  s.map = new QCPColorMap(time, rows);
  s.map->setInterpolate(false);
  s.map->setTightBoundary(true);
  s.hertz.reset(new QCPAxisTickerText);
  time->setTicker(clock_);
  rows->setTicker(s.hertz);
  s.map->setVisible(false);  // as long as it has no cells
  for (QCPAxis* axis : {time, rows}) axis->grid()->setVisible(false), axis->setTickLabels(false);
  s.name = corner_text(s.rect, 0.01, Qt::AlignLeft);
  s.playhead = new QCPItemLine(this);
  for (auto* position : {s.playhead->start, s.playhead->end}) {
    position->setAxes(time, rows);
    position->setAxisRect(s.rect);
    position->setTypeY(QCPItemPosition::ptAxisRectRatio);
  }
  s.playhead->setClipAxisRect(s.rect);
  return s;
}

void SpectrogramPlate::drop_strips(size_t left) {
  while (strips_.size() > left) {
    Strip& last = strips_.back();
    removeItem(last.name);
    removeItem(last.playhead);
    removePlottable(last.map);
    plotLayout()->remove(last.rect);
    plotLayout()->simplify();
    strips_.pop_back();
  }
}

void SpectrogramPlate::set_side_by_side(bool beside) {
  if (beside == beside_) return;
  beside_ = beside;
  std::vector<NamedSpectrogram> shown;
  for (const Strip& s : strips_) shown.push_back(s.shown);
  drop_strips(1);
  show_cells(shown);
}

void SpectrogramPlate::show_cells(const std::vector<NamedSpectrogram>& clips) {
  const size_t count = std::max<size_t>(1, clips.size());
  drop_strips(count);
  while (strips_.size() < count) {
    strips_.push_back(make_strip(int(strips_.size())));
    strips_.back().rect->axis(QCPAxis::atBottom)->setRange(xAxis->range());
  }
  for (size_t n = 0; n < count; ++n) {
    strips_[n].shown = n < clips.size() ? clips[n] : NamedSpectrogram{};
    const bool lowest = beside_ || n + 1 == count, has_cells = bool(strips_[n].shown.cells);
    strips_[n].rect->axis(QCPAxis::atBottom)->setTickLabels(has_cells && lowest);
    strips_[n].rect->axis(QCPAxis::atLeft)->setTickLabels(has_cells && (!beside_ || n == 0));
    strips_[n].rect->setMinimumMargins(QMargins(!beside_ || n == 0 ? 44 : 4, 4, 10, lowest ? 20 : 4));
    fill(strips_[n]);
  }
  recolour();
}

void SpectrogramPlate::fill(Strip& s) {
  const auto& cells = s.shown.cells;
  s.map->setVisible(bool(cells));
  s.name->setText(s.shown.name);
  if (!cells) return;
  s.map->data()->setSize(cells->columns, cells->rows);
  const double half = (cells->last_s - cells->first_s) / cells->columns / 2;
  s.map->data()->setRange(QCPRange(cells->first_s + half, cells->last_s - half),
                          QCPRange(0, std::max(1, cells->rows - 1)));
  for (int c = 0; c < cells->columns; ++c)
    for (int r = 0; r < cells->rows; ++r) s.map->data()->setCell(c, r, double(cells->at(c, r)));
  s.hertz->clear();
  double last = -1;
  for (const double hz : {50., 100., 200., 500., 1000., 2000., 5000., 10000., 15000., 20000., 30000., 40000., 60000.,
                          80000., 120000., 160000.}) {
    const auto row = row_at(*cells, hz);
    if (!row || *row < last + cells->rows / 12.0) continue;
    s.hertz->addTick(*row, hertz(hz, true));
    last = *row;
  }
  s.rect->axis(QCPAxis::atLeft)->setRange(-0.5, cells->rows - 0.5);
}

void SpectrogramPlate::recolour() {
  QCPColorGradient heat;
  heat.clearColorStops();
  for (const auto& [place, shade] : Theme::instance().heat_stops()) heat.setColorStopAt(place, shade);
  for (Strip& s : strips_) {
    dress(s.rect);
    s.map->setGradient(heat);
    s.map->setDataRange(QCPRange(low_db_, high_db_));
    s.playhead->setPen(QPen(QColor(255, 255, 255, 200), 1.2));
    s.name->setFont(face(Type::small, true));
    s.name->setColor(QColor(255, 255, 255));
    s.name->setBrush(QColor(0, 0, 0, 90));
    s.name->setPadding(QMargins(5, 2, 5, 2));
    s.name->setVisible(!s.shown.name.isEmpty());
  }
  if (!text_) {
    text_ = corner_text(axisRect(), 0.98, Qt::AlignRight);
    text_->setVisible(false);
  }
  text_->setFont(face(Type::small));
  text_->setColor(colour(Role::ink));
  text_->setBrush(colour(Role::sheet));
  text_->setPen(QPen(colour(Role::rule)));
  replot(rpQueuedReplot);
}

void SpectrogramPlate::set_length(double seconds) {
  length_s_ = std::max(1e-3, seconds);
  look(0, length_s_);
}

void SpectrogramPlate::set_levels(double low_db, double high_db) {
  low_db_ = low_db, high_db_ = high_db;
  recolour();
}

void SpectrogramPlate::set_playhead(double at_s) {
  for (Strip& s : strips_) s.playhead->start->setCoords(at_s, 0), s.playhead->end->setCoords(at_s, 1);
  replot(rpQueuedReplot);
}

int SpectrogramPlate::columns() const { return std::max(50, axisRect()->width()); }
int SpectrogramPlate::rows() const { return std::clamp(axisRect()->height(), 40, 600); }

/// What is in view already is stretched at once; the cells for the new range come when they are there.
void SpectrogramPlate::look(double from_s, double to_s) {
  const double span = std::clamp(to_s - from_s, 1e-3, length_s_);
  const double from = std::clamp(from_s, 0.0, length_s_ - span);
  for (Strip& s : strips_) s.rect->axis(QCPAxis::atBottom)->setRange(from, from + span);
  replot(rpQueuedReplot);
  emit range_changed(from, from + span);
}

const SpectrogramPlate::Strip* SpectrogramPlate::strip_at(const QPointF& place) const {
  for (const Strip& s : strips_)
    if (s.rect->rect().contains(place.toPoint())) return &s;
  return nullptr;
}

double SpectrogramPlate::hz_at(const Strip& s, double y) const {
  const auto& cells = s.shown.cells;
  if (!cells) return 0;
  return row_hz(*cells,
                std::clamp(int(std::lround(s.rect->axis(QCPAxis::atLeft)->pixelToCoord(y))), 0, cells->rows - 1));
}

QString SpectrogramPlate::read_out(size_t clip, double at_s, double row) const {
  if (clip >= strips_.size() || !strips_[clip].shown.cells) return {};
  const Spectrogram& cells = *strips_[clip].shown.cells;
  const int r = int(std::lround(row)), c = int((at_s - cells.first_s) / (cells.last_s - cells.first_s) * cells.columns);
  if (r < 0 || r >= cells.rows || c < 0 || c >= cells.columns) return {};
  return tr("%1  %2  %3 dBFS")
      .arg(position(at_s, 2), hertz(row_hz(cells, r), false), number(double(cells.at(c, r)), 0));
}

/// Narrows or widens the band about what is under the pointer.
void SpectrogramPlate::look_band(const Strip& s, double y, double factor) {
  const auto& cells = s.shown.cells;
  if (!cells) return;
  const double about = std::clamp(s.rect->axis(QCPAxis::atLeft)->pixelToCoord(y) + 0.5, 0.0, double(cells->rows));
  auto edge = [&](double row) { return cells->edges_hz[size_t(std::clamp(std::lround(row), 0L, long(cells->rows)))]; };
  const double low = edge(about - about * factor), high = edge(about + (cells->rows - about) * factor);
  if (factor > 1)
    band_.reset();
  else if (high > 1.05 * low)
    band_ = std::pair{low, high};
  emit range_changed(from_s(), to_s());
}

void SpectrogramPlate::wheelEvent(QWheelEvent* event) {
  if (const Strip* strip = strip_at(event->position()); strip && event->modifiers() & Qt::ShiftModifier)
    return look_band(*strip, event->position().y(), event->angleDelta().y() + event->angleDelta().x() > 0 ? 0.8 : 1.25);
  const double about = xAxis->pixelToCoord(event->position().x()),
               factor = std::pow(0.8, event->angleDelta().y() / 120.0);
  look(about - (about - from_s()) * factor, about + (to_s() - about) * factor);
}

void SpectrogramPlate::mousePressEvent(QMouseEvent* event) {
  moved_ = false;
  const Strip* strip = strip_at(event->position());
  if (event->button() != Qt::LeftButton || !strip) return;
  if (event->modifiers() & Qt::ShiftModifier)
    band_from_hz_ = hz_at(*strip, event->position().y());
  else
    dragged_ = std::pair{from_s(), event->position().x()};
}

void SpectrogramPlate::mouseMoveEvent(QMouseEvent* event) {
  if (dragged_) {
    const double by = (event->position().x() - dragged_->second) * (to_s() - from_s()) / columns();
    moved_ = moved_ || std::abs(event->position().x() - dragged_->second) > 3;
    if (moved_) look(dragged_->first - by, dragged_->first - by + to_s() - from_s());
    return;
  }
  const Strip* strip = strip_at(event->position());
  text_->setVisible(strip != nullptr);
  if (strip)
    text_->setText(read_out(size_t(strip - strips_.data()), xAxis->pixelToCoord(event->position().x()),
                            strip->rect->axis(QCPAxis::atLeft)->pixelToCoord(event->position().y())));
  replot(rpQueuedReplot);
}

void SpectrogramPlate::mouseReleaseEvent(QMouseEvent* event) {
  const Strip* strip = strip_at(event->position());
  if (band_from_hz_ && strip) {
    const double hz = hz_at(*strip, event->position().y());
    if (hz != *band_from_hz_) emit band_selected(std::min(hz, *band_from_hz_), std::max(hz, *band_from_hz_));
  } else if (dragged_ && !moved_) {
    emit clicked(xAxis->pixelToCoord(event->position().x()));
  }
  band_from_hz_.reset();
  dragged_.reset();
}

void SpectrogramPlate::mouseDoubleClickEvent(QMouseEvent*) {
  band_.reset();
  look(0, length_s_);
}

void SpectrogramPlate::keyPressEvent(QKeyEvent* event) {
  const double span = to_s() - from_s(), middle = from_s() + span / 2;
  switch (event->key()) {
    case Qt::Key_Left:
      return look(from_s() - span / 8, to_s() - span / 8);
    case Qt::Key_Right:
      return look(from_s() + span / 8, to_s() + span / 8);
    case Qt::Key_Plus:
    case Qt::Key_Up:
      return look(middle - span * 0.4, middle + span * 0.4);
    case Qt::Key_Minus:
    case Qt::Key_Down:
      return look(middle - span * 0.625, middle + span * 0.625);
    case Qt::Key_0:
      return mouseDoubleClickEvent(nullptr);
    default:
      Plate::keyPressEvent(event);
  }
}

void SpectrogramPlate::leaveEvent(QEvent*) {
  text_->setVisible(false);
  replot(rpQueuedReplot);
}

QString SpectrogramPlate::in_words() const {
  QStringList told;
  for (const Strip& s : strips_) {
    if (!s.shown.cells || s.shown.cells->columns == 0) continue;
    const Spectrogram& cells = *s.shown.cells;
    int column = 0, row = 0;
    for (int c = 0; c < cells.columns; ++c)
      for (int r = 0; r < cells.rows; ++r)
        if (cells.at(c, r) > cells.at(column, row)) column = c, row = r;
    const double at_s = cells.first_s + (column + 0.5) * (cells.last_s - cells.first_s) / cells.columns;
    told << tr("%1: loudest at %2, %3: %4 dBFS")
                .arg(s.shown.name, position(at_s, 1), hertz(row_hz(cells, row), false),
                     number(double(cells.at(column, row)), 0));
  }
  return told.isEmpty() ? Plate::in_words() : told.join("; ");
}

QString SpectrogramPlate::csv() const {
  QString text = "clip,at_s,hz,dbfs\n";
  for (const Strip& s : strips_) {
    if (!s.shown.cells) continue;
    const Spectrogram& cells = *s.shown.cells;
    for (int c = 0; c < cells.columns; ++c) {
      const double at_s = cells.first_s + (c + 0.5) * (cells.last_s - cells.first_s) / cells.columns;
      if (at_s < from_s() || at_s > to_s()) continue;  // what is in view
      for (int r = 0; r < cells.rows; ++r)
        text += QString("%1,%2,%3,%4\n")
                    .arg(QString(s.shown.name).replace(',', ' '))
                    .arg(at_s, 0, 'f', 4)
                    .arg(row_hz(cells, r), 0, 'f', 1)
                    .arg(double(cells.at(c, r)), 0, 'f', 1);
    }
  }
  return text;
}

}  // namespace heathmist::app
