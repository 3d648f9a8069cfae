#include "app/plots/lines_plate.hpp"

#include <algorithm>
#include <cmath>

#include "app/theme/theme.hpp"
#include "core/measure/lines.hpp"

namespace heathmist::app {

LinesPlate::LinesPlate(const QString& title, const QString& words, bool names_on_top, QWidget* parent)
    : FrequencyPlate(parent) {
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
  names_->setMargins(QMargins(4, 2, 4, 2));
  axisRect()->insetLayout()->setInsetAlignment(0, Qt::AlignLeft | (names_on_top ? Qt::AlignTop : Qt::AlignBottom));
  axisRect()->insetLayout()->setMargins(QMargins(6, 6, 6, 6));
  recolour();
}

void LinesPlate::show_lines(const std::function<std::vector<NamedLine>()>& lines,
                            const std::function<std::vector<LineMark>()>& marks) {
  source_ = lines, marks_ = marks;
  draw();
}

void LinesPlate::recolour() {
  FrequencyPlate::recolour();
  QColor ground = colour(Role::sheet);
  ground.setAlphaF(0.8f);
  names_->setBrush(ground);
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
  names_->setVisible(legend_ && !lines_.empty());
  fit_levels();
  refresh_cursor();
  replot(rpQueuedReplot);
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
