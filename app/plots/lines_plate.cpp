#include "app/plots/lines_plate.hpp"

#include <algorithm>
#include <cmath>

#include "app/theme/theme.hpp"
#include "core/measure/lines.hpp"

namespace heathmist::app {

LinesPlate::LinesPlate(const QString& title, const QString& words, QWidget* parent) : FrequencyPlate(parent) {
  title_ = title;
  setAccessibleName(words);
  bottom_ = addGraph();
  bottom_->setPen(Qt::NoPen);
  bottom_->removeFromLegend();
  names_ = legend;
  names_->setVisible(true);
  names_->setIconSize(18, 8);
  names_->setBorderPen(Qt::NoPen);
  names_->setRowSpacing(0);
  names_->setColumnSpacing(14);
  names_->setBrush(Qt::NoBrush);
  axisRect()->insetLayout()->take(names_);
  recolour();
}

LinesPlate::~LinesPlate() {
  if (!names_->layout()) delete names_;  // it belongs to the layout only while it stands there
}

void LinesPlate::show_lines(const std::function<std::vector<NamedLine>()>& lines,
                            const std::function<std::vector<LineMark>()>& marks) {
  source_ = lines, marks_ = marks;
  draw();
}

void LinesPlate::recolour() {
  FrequencyPlate::recolour();
  names_->setFont(face(Type::small));
  names_->setTextColor(colour(Role::soft));
  draw();
}

void LinesPlate::draw() {
  for (QCPGraph* graph : graphs_) removeGraph(graph);
  graphs_.clear();
  lines_ = source_ ? source_() : std::vector<NamedLine>();
  for (const NamedLine& line : lines_) {
    QCPGraph* graph = addGraph();
    QVector<QCPGraphData> points;
    for (size_t n = 0; n < line.hz.size(); ++n)
      points.append({line.hz[n], line.db[n] > nothing_db_ ? line.db[n] : qQNaN()});  // a gap
    graph->data()->set(points, true);
    graph->setName(line.name);
    if (line.name.isEmpty()) graph->removeFromLegend();
    graph->setPen(QPen(line.ink, line.width, line.style));
    if (line.filled) {
      QColor fill = line.ink;
      fill.setAlphaF(0.25f);
      graph->setBrush(fill);
      graph->setChannelFillGraph(bottom_);
    }
    graphs_.push_back(graph);
  }
  draw_marks();
  set_frequencies(lines_.empty() ? std::vector<double>() : lines_.front().hz, logarithmic_);
  lay_out_names();
  fit_levels();
  show_empty(lines_.empty());
  refresh_cursor();
  replot(rpQueuedReplot);
}

/// Above the lines, never over them; as many in a row as have room.
void LinesPlate::lay_out_names() {
  std::vector<QCPAbstractLegendItem*> items;  // the grid has empty places, too
  for (int n = 0; n < names_->itemCount(); ++n)
    if (auto* item = names_->item(n)) items.push_back(item);
  const bool shown = legend_ && !items.empty();
  if (shown && !names_->layout()) {
    plotLayout()->insertRow(0);
    plotLayout()->addElement(0, 0, names_);
    plotLayout()->setRowStretchFactor(0, 0.001);
  } else if (!shown && names_->layout()) {
    plotLayout()->take(names_);
    plotLayout()->simplify();
  }
  names_->setVisible(shown);
  int widest = 1;
  for (auto* item : items) item->setMargins(QMargins(0, 0, 0, 2));  // for what hangs under the line
  for (const auto* item : items)
    widest = std::max(widest, item->minimumOuterSizeHint().width() + names_->columnSpacing());
  const int in_a_row = std::max(1, (width() - 60) / widest);
  names_->setWrap(in_a_row);
  const int used = std::min(in_a_row, int(items.size())) * widest + 8;
  names_->setMargins(QMargins(4, 4, std::max(4, width() - 30 - used), 2));  // else they are spread over the width
  names_->setFillOrder(QCPLayoutGrid::foColumnsFirst);
}

void LinesPlate::resizeEvent(QResizeEvent* event) {
  lay_out_names();
  FrequencyPlate::resizeEvent(event);
}

/// A ring on each line, its word above it.
void LinesPlate::draw_marks() {
  for (QCPItemText* word : words_) removeItem(word);
  words_.clear();
  for (const LineMark& mark : marks_ && !lines_.empty() ? marks_() : std::vector<LineMark>()) {
    if (mark.ring) {
      QCPGraph* ring = addGraph();
      ring->removeFromLegend();
      ring->data()->set({{mark.hz, mark.db}}, true);
      ring->setLineStyle(QCPGraph::lsNone);
      ring->setScatterStyle(QCPScatterStyle(QCPScatterStyle::ssCircle, QPen(mark.ink, 1.2), Qt::NoBrush, 7));
      graphs_.push_back(ring);
    }
    if (mark.word.isEmpty()) continue;
    auto* word = new QCPItemText(this);
    word->position->setCoords(mark.hz, mark.db);
    word->setPositionAlignment(Qt::AlignHCenter | Qt::AlignBottom);
    word->setPadding(QMargins(0, 0, 0, 6));
    word->setText(mark.word);
    word->setFont(face(Type::small));
    word->setColor(mark.ink);
    words_.push_back(word);
  }
}

void LinesPlate::fit_levels() {
  double top = nothing_db_, bottom = 0;
  for (const NamedLine& line : lines_)
    for (const double db : line.db)
      if (db > nothing_db_) top = std::max(top, db), bottom = std::min(bottom, db);
  top = top <= nothing_db_ ? 0 : std::ceil((top + 3) / 10) * 10;
  bottom = std::max({nothing_db_, std::floor((bottom - 3) / 10) * 10, top - depth_db_});
  yAxis->setRange(std::min(bottom, top - 20), top);
  if (!lines_.empty() && !lines_.front().hz.empty())
    bottom_->data()->set({{lines_.front().hz.front(), bottom - 400}, {lines_.front().hz.back(), bottom - 400}}, true);
}

QString LinesPlate::read_out(double hz) const {
  if (lines_.empty() || lines_.front().hz.empty()) return {};
  const size_t n = nearest(hz);
  QString text = hertz(lines_.front().hz[n], false);
  if (notes_) text += "  " + QString::fromStdString(note_of(lines_.front().hz[n])).replace('-', QChar(0x2212));
  for (const NamedLine& line : lines_)
    if (n < line.db.size() && !line.name.isEmpty())
      text += "\n" + line.name + " " + (line.db[n] <= nothing_db_ ? tr("none") : number(line.db[n], 1));
  return text;
}

QString LinesPlate::csv() const {
  QString text = "frequency_hz";
  for (const NamedLine& line : lines_) text += "," + QString(line.name).replace(',', ' ');
  text += "\n";
  for (size_t n = 0; !lines_.empty() && n < lines_.front().hz.size(); ++n) {
    text += QString::number(lines_.front().hz[n], 'f', 3);
    for (const NamedLine& line : lines_)
      text += "," + (n < line.db.size() ? QString::number(line.db[n], 'f', 3) : QString());
    text += "\n";
  }
  return text;
}

}  // namespace heathmist::app
