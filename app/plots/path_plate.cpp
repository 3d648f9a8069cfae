#include "app/plots/path_plate.hpp"

#include <algorithm>
#include <cmath>

#include "app/theme/theme.hpp"
#include "app/widgets/terms.hpp"

namespace heathmist::app {

PathPlate::PathPlate(QWidget* parent) : FrequencyPlate(parent) {
  title_ = "path";
  set_term(this, "eq");
  setAccessibleName(tr("Path from master to return: magnitude, phase, group delay, coherence"));
  below_ = add_rect();
  under_ = addGraph();
  above_ = addGraph();
  above_->setChannelFillGraph(under_);
  magnitude_ = addGraph();
  second_ = addGraph(below_->axis(QCPAxis::atBottom), below_->axis(QCPAxis::atLeft));
  magnitude_->setName(tr("magnitude, dB"));
  auto* group = new QCPMarginGroup(this);
  for (QCPAxisRect* rect : {axisRect(), below_}) rect->setMarginGroup(QCP::msLeft | QCP::msRight, group);
  name_ = corner_text(axisRect(), 0.015, Qt::AlignLeft);
  name_->setText(tr("magnitude, dB"));
  lower_name_ = corner_text(below_, 0.015, Qt::AlignLeft);
  recolour();
  set_lower(Lower::phase);
}

void PathPlate::recolour() {
  FrequencyPlate::recolour();
  magnitude_->setPen(QPen(colour(Role::ret), 1.6));
  second_->setPen(QPen(colour(Role::ret), 1.6));
  QColor band = colour(Role::ret);
  band.setAlphaF(0.22f);
  under_->setPen(Qt::NoPen);
  above_->setPen(Qt::NoPen);
  above_->setBrush(band);
  for (auto* text : {name_, lower_name_}) {
    text->setFont(face(Type::small));
    text->setColor(colour(Role::soft));
  }
}

double PathPlate::lower_of(const PathBand& band) const {
  return lower_ == Lower::phase ? band.phase_deg : lower_ == Lower::group_delay ? band.delay_ms : band.coherence;
}

void PathPlate::set_lower(Lower lower) {
  lower_ = lower;
  lower_name_->setText(lower == Lower::phase         ? tr("phase, degrees (up: the return leads)")
                       : lower == Lower::group_delay ? tr("group delay, ms (up: the return is late)")
                                                     : tr("coherence"));
  show_path(std::vector(bands_));
}

void PathPlate::show_path(const std::vector<PathBand>& bands) {
  bands_ = bands;
  std::vector<double> hz;
  QVector<QCPGraphData> magnitude, above, under, second;
  for (const PathBand& b : bands_) {
    const double at = std::sqrt(b.low_hz * b.high_hz), error = std::min(2 * b.magnitude_error_db, 30.0);
    hz.push_back(at);
    magnitude.append({at, b.magnitude_db});
    above.append({at, b.magnitude_db + error});
    under.append({at, b.magnitude_db - error});
    second.append({at, lower_of(b)});
  }
  magnitude_->data()->set(magnitude, true);
  above_->data()->set(above, true);
  under_->data()->set(under, true);
  second_->data()->set(second, true);
  set_frequencies(hz, true);
  fit_levels();
  refresh_cursor();
  replot(rpQueuedReplot);
}

void PathPlate::fit_levels() {
  double least = -0.5, most = 0.5, lower_least = 1e9, lower_most = -1e9;
  for (const PathBand& b : bands_) {
    if (b.coherence > 0.3) {
      least = std::min(least, std::max(b.magnitude_db, -60.0));
      most = std::max(most, b.magnitude_db);
    }
    lower_least = std::min(lower_least, lower_of(b));
    lower_most = std::max(lower_most, lower_of(b));
  }
  const double room = 0.15 * (most - least);
  yAxis->setRange(least - room, most + 2 * room);
  QCPAxis* second = below_->axis(QCPAxis::atLeft);
  if (lower_ == Lower::coherence) return second->setRange(0, 1.15);
  const double step = lower_ == Lower::phase ? 1 : 0.01, reach = std::max(step, lower_most - lower_least);
  if (lower_least > lower_most) lower_least = -step, lower_most = step;
  second->setRange(std::min(lower_least, -step) - 0.1 * reach, std::max(lower_most, step) + 0.35 * reach);
}

QString PathPlate::read_out(double hz) const {
  if (bands_.empty()) return {};
  const PathBand& b = bands_[nearest(hz)];
  return tr("%1\n%2 ± %3 dB, %4°\n%5 ms, coherence %6")
      .arg(hertz(std::sqrt(b.low_hz * b.high_hz), false), number(b.magnitude_db, 2),
           number(2 * b.magnitude_error_db, 2), number(b.phase_deg, 1), number(b.delay_ms, 2), number(b.coherence, 3));
}

QString PathPlate::csv() const {
  QString text = "low_hz,high_hz,magnitude_db,magnitude_error_db,phase_deg,phase_error_deg,group_delay_ms,coherence\n";
  for (const PathBand& b : bands_)
    text += QString("%1,%2,%3,%4,%5,%6,%7,%8\n")
                .arg(b.low_hz, 0, 'f', 2)
                .arg(b.high_hz, 0, 'f', 2)
                .arg(b.magnitude_db, 0, 'f', 4)
                .arg(b.magnitude_error_db, 0, 'f', 4)
                .arg(b.phase_deg, 0, 'f', 3)
                .arg(b.phase_error_deg, 0, 'f', 3)
                .arg(b.delay_ms, 0, 'f', 4)
                .arg(b.coherence, 0, 'f', 5);
  return text;
}

}  // namespace heathmist::app
