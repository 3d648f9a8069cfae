#include "app/plots/loudness_plate.hpp"

#include <algorithm>
#include <cmath>

#include "app/theme/position.hpp"
#include "app/theme/theme.hpp"
#include "app/widgets/terms.hpp"

namespace heathmist::app {

namespace {

constexpr double piece_s = 0.1, quietest = -60, least_selection_s = 0.1;
constexpr double silent_lufs = -119;
constexpr size_t momentary_skip = 3, short_term_skip = 29;  // windows that are not full yet

QVector<QCPGraphData> points_of(const std::vector<float>& line, size_t skip) {
  QVector<QCPGraphData> points;
  points.reserve(int(line.size()));
  for (size_t n = skip; n < line.size(); ++n)
    points.append({double(n + 1) * piece_s, std::max(-90.0, double(line[n]))});
  return points;
}

}  // namespace

LoudnessPlate::LoudnessPlate(QWidget* parent) : Plate(parent) {
  title_ = "loudness-over-time";
  set_term(this, "short_term");
  setAccessibleName(tr("Loudness over time of the chosen rows"));
  setMouseTracking(true);
  setInteractions(QCP::iRangeDrag | QCP::iRangeZoom);
  axisRect()->setRangeDrag(Qt::Horizontal);
  axisRect()->setRangeZoom(Qt::Horizontal);
  axisRect()->setMinimumMargins(QMargins(44, 8, 14, 24));
  xAxis->setTicker(QSharedPointer<QCPAxisTicker>(new ClockTicker));
  yAxis->setTicker(QSharedPointer<QCPAxisTicker>(new LevelTicker));
  for (QCPItemRect** rect : {&band_, &chosen_}) {
    *rect = new QCPItemRect(this);
    (*rect)->setLayer("grid");
    (*rect)->setVisible(false);
    (*rect)->setPen(Qt::NoPen);
  }
  key_ = corner_text(axisRect(), 0.015, Qt::AlignLeft);
  text_ = corner_text(axisRect(), 0.985, Qt::AlignRight);
  text_->setPadding(QMargins(6, 4, 6, 4));
  text_->setVisible(false);
  yAxis->setRange(quietest, 0);
  xAxis->setRange(0, 60);
  recolour();
}

void LoudnessPlate::recolour() {
  dress(axisRect());
  QColor wash = colour(Role::moss);
  wash.setAlpha(46);
  band_->setBrush(wash);
  chosen_->setBrush(colour(Role::selection));
  key_->setFont(face(Type::small));
  key_->setColor(colour(Role::soft));
  text_->setFont(face(Type::small));
  text_->setColor(colour(Role::ink));
  text_->setBrush(colour(Role::sheet));
  text_->setPen(QPen(colour(Role::rule)));
  draw();
}

void LoudnessPlate::show_lines(std::vector<LoudnessLine> lines) {
  lines_ = std::move(lines);
  if (lines_.size() > line_style_count) lines_.resize(line_style_count);
  draw();
  fit();
}

void LoudnessPlate::set_target(std::optional<double> target_lufs, double tolerance_lu) {
  if (target_lufs == target_lufs_ && tolerance_lu == tolerance_lu_) return;
  target_lufs_ = target_lufs, tolerance_lu_ = tolerance_lu;
  draw();
}

void LoudnessPlate::set_unit(const QString& unit) {
  unit_ = unit;
  draw();
}

void LoudnessPlate::set_selection(std::optional<std::pair<double, double>> seconds) {
  selection_ = seconds;
  draw();
}

void LoudnessPlate::draw() {
  clearGraphs();
  band_->setVisible(target_lufs_.has_value());
  if (target_lufs_) {
    const double half = std::max(0.15, tolerance_lu_);
    for (QCPItemPosition* position : {band_->topLeft, band_->bottomRight}) {
      position->setTypeX(QCPItemPosition::ptAxisRectRatio);
      position->setTypeY(QCPItemPosition::ptPlotCoords);
    }
    band_->topLeft->setCoords(0, *target_lufs_ + half);
    band_->bottomRight->setCoords(1, *target_lufs_ - half);
  }
  chosen_->setVisible(selection_.has_value());
  if (selection_) {
    for (QCPItemPosition* position : {chosen_->topLeft, chosen_->bottomRight}) {
      position->setTypeX(QCPItemPosition::ptPlotCoords);
      position->setTypeY(QCPItemPosition::ptAxisRectRatio);
    }
    chosen_->topLeft->setCoords(selection_->first, 0);
    chosen_->bottomRight->setCoords(selection_->second, 1);
  }
  QStringList names;
  for (size_t k = 0; k < lines_.size(); ++k) {
    const Loudness& l = *lines_[k].loudness;
    const QColor ink = colour(lines_[k].is_master ? Role::master : Role::ret);
    QColor faint = ink;
    faint.setAlpha(70);
    if (lines_.size() <= 2) {  // more of them would only be a tangle
      addGraph()->setPen(QPen(faint, 0.8));
      graph()->data()->set(points_of(lines_[k].momentary, momentary_skip), true);
      if (l.relative_gate_lufs) {
        addGraph()->setPen(QPen(faint, 1, Qt::DotLine));
        graph()->data()->set({{0, *l.relative_gate_lufs}, {l.duration_s, *l.relative_gate_lufs}}, true);
      }
    }
    addGraph()->setPen(QPen(ink, 1.7, line_style(k)));
    graph()->setName(lines_[k].name);
    graph()->data()->set(points_of(lines_[k].short_term, short_term_skip), true);
    addGraph()->setLineStyle(QCPGraph::lsNone);
    graph()->setScatterStyle(QCPScatterStyle(QCPScatterStyle::ssTriangleInverted, QPen(colour(Role::rust), 1),
                                             QBrush(colour(Role::rust)), 6));
    QVector<QCPGraphData> overs;
    for (const Over& o : l.overs) overs.append({o.at_s, yAxis->range().upper - 1});
    graph()->data()->set(overs, true);
    names << lines_[k].name;
  }
  key_->setText(lines_.empty() ? tr("Choose rows above: their loudness over time stands here.")
                : lines_.size() <= 2
                    ? tr("%1: short-term, faintly momentary, dotted the gate").arg(names.join(QString::fromUtf8(" · ")))
                    : tr("short-term: %1").arg(names.join(QString::fromUtf8(" · "))));
  if (isVisible()) replot(rpQueuedReplot);
}

void LoudnessPlate::fit() {
  double longest = 0, high = -30, low = -30;
  for (const LoudnessLine& line : lines_) {
    longest = std::max(longest, line.loudness->duration_s);
    high = std::max(high, line.loudness->momentary_max_lufs.value_or(-30));
    low = std::min(low, line.loudness->range ? line.loudness->range->low_lufs : -30);
  }
  if (longest > 0) xAxis->setRange(0, longest);
  yAxis->setRange(std::max(quietest, low - 12), std::min(3.0, high + 6));
  draw();
}

double LoudnessPlate::second_at(double x) const { return std::max(0.0, xAxis->pixelToCoord(x)); }

QString LoudnessPlate::read_out(double at_s) const {
  QStringList words{position(at_s, 1)};
  const auto piece = int64_t(at_s / piece_s);
  for (const LoudnessLine& line : lines_) {
    if (piece < 0 || piece >= int64_t(line.momentary.size())) continue;
    auto at = [&](const std::vector<float>& values, size_t skip) {
      const double value = double(values[size_t(piece)]);
      return size_t(piece) < skip ? tr("not yet") : value > silent_lufs ? number(value, 1) : tr("silent");
    };
    words << tr("%1: short-term %2, momentary %3 %4")
                 .arg(line.name, at(line.short_term, short_term_skip), at(line.momentary, momentary_skip), unit_);
  }
  return words.join('\n');
}

void LoudnessPlate::mousePressEvent(QMouseEvent* event) {
  if (event->modifiers() & Qt::ShiftModifier) {
    press_s_ = second_at(event->position().x());
    return;
  }
  Plate::mousePressEvent(event);
}

void LoudnessPlate::mouseMoveEvent(QMouseEvent* event) {
  const double at = second_at(event->position().x());
  if (press_s_) {
    set_selection(std::pair{std::min(*press_s_, at), std::max(*press_s_, at)});
    return;
  }
  Plate::mouseMoveEvent(event);
  text_->setVisible(!lines_.empty() && axisRect()->rect().contains(event->pos()));
  text_->setText(read_out(at));
  replot(rpQueuedReplot);
}

void LoudnessPlate::mouseReleaseEvent(QMouseEvent* event) {
  if (press_s_) {
    const bool real = selection_ && selection_->second - selection_->first >= least_selection_s;
    press_s_.reset();
    if (!real) set_selection({});
    emit selected(selection_);
    return;
  }
  Plate::mouseReleaseEvent(event);
}

void LoudnessPlate::keyPressEvent(QKeyEvent* event) {
  const double by = event->key() == Qt::Key_Left ? -0.1 : event->key() == Qt::Key_Right ? 0.1 : 0;
  if (by != 0)
    xAxis->moveRange(by * xAxis->range().size());
  else if (event->key() == Qt::Key_Plus || event->key() == Qt::Key_Minus)
    xAxis->scaleRange(event->key() == Qt::Key_Plus ? 0.8 : 1.25);
  else if (event->key() == Qt::Key_0)
    return fit();
  else
    return Plate::keyPressEvent(event);
  replot(rpQueuedReplot);
}

void LoudnessPlate::leaveEvent(QEvent*) {
  text_->setVisible(false);
  replot(rpQueuedReplot);
}

QString LoudnessPlate::csv() const {
  QString text = "clip,time_s,momentary_lufs,short_term_lufs\n";
  for (const LoudnessLine& line : lines_) {
    const auto &momentary = line.momentary, &short_term = line.short_term;
    for (size_t n = 0; n < momentary.size(); ++n)
      text += QString("\"%1\",%2,%3,%4\n")
                  .arg(line.name)
                  .arg(double(n + 1) * piece_s, 0, 'f', 1)
                  .arg(n >= momentary_skip ? QString::number(double(momentary[n]), 'f', 3) : QString(),
                       n >= short_term_skip ? QString::number(double(short_term[n]), 'f', 3) : QString());
  }
  return text;
}

}  // namespace heathmist::app
