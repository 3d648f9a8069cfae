#include "app/plots/spectrum_plate.hpp"

#include <algorithm>
#include <cmath>

#include "app/theme/theme.hpp"
#include "app/widgets/terms.hpp"

namespace heathmist::app {

namespace {
constexpr double deepest_spectrum_db = -200;
}

SpectrumPlate::SpectrumPlate(QWidget* parent) : FrequencyPlate(parent) {
  title_ = "spectra";
  set_term(this, "spectrum");
  setAccessibleName(tr("Spectra of master, return and residual"));
  bottom_ = addGraph();
  residual_ = addGraph();
  residual_->setChannelFillGraph(bottom_);
  bottom_->setPen(Qt::NoPen);
  master_ = addGraph();
  ret_ = addGraph();
  floor_ = addGraph();
  residual_->setName(tr("residual")), master_->setName(tr("master")), ret_->setName(tr("return"));
  floor_->setName(tr("floor of the route"));
  recolour();
}

void SpectrumPlate::recolour() {
  FrequencyPlate::recolour();
  master_->setPen(QPen(colour(Role::master), 1.6));
  QPen dashed(colour(Role::ret), 1.5);
  dashed.setStyle(Qt::CustomDashLine);
  dashed.setDashPattern({5, 3});
  ret_->setPen(dashed);
  residual_->setPen(QPen(colour(Role::residual), 1.1));
  QColor fill = colour(Role::residual);
  fill.setAlphaF(0.25f);
  residual_->setBrush(fill);
  floor_->setPen(QPen(colour(Role::soft), 1.2, Qt::DotLine));
}

void SpectrumPlate::show_spectra(const SpectraShown& shown) {
  shown_ = shown;
  set_frequencies(shown.master.hz, shown.logarithmic);
  auto put = [&](QCPGraph* graph, const SpectrumLine& line) {
    QVector<QCPGraphData> points;
    for (size_t n = 0; n < line.hz.size(); ++n) points.append({line.hz[n], std::max(line.db[n], deepest_spectrum_db)});
    graph->data()->set(points, true);
  };
  put(master_, shown.master);
  set_unit(shown.relative ? tr("dB against the master") : tr("dBFS"));
  put(ret_, shown.relative ? shown.ret_relative : shown.ret);
  put(residual_, shown.relative ? shown.residual_relative : shown.residual);
  put(floor_, shown.relative ? SpectrumLine{} : shown.floor);
  master_->setVisible(!shown.relative);
  fit_levels();
  refresh_cursor();
  replot(rpQueuedReplot);
}

void SpectrumPlate::fit_levels() {
  double top = deepest_spectrum_db, bottom = 0;
  auto look = [&](QCPGraph* graph) {
    for (const auto& point : *graph->data())
      if (point.value > deepest_spectrum_db) top = std::max(top, point.value), bottom = std::min(bottom, point.value);
  };
  if (!shown_.relative) look(master_);
  look(ret_), look(residual_);
  top = top <= deepest_spectrum_db ? 0 : std::ceil((top + 3) / 10) * 10;
  bottom = std::max({deepest_spectrum_db, std::floor((bottom - 3) / 10) * 10, top - 170});
  yAxis->setRange(std::min(bottom, top - 20), top);
  const auto& hz = shown_.master.hz;
  if (!hz.empty()) bottom_->data()->set({{hz.front(), bottom - 400}, {hz.back(), bottom - 400}}, true);
}

QString SpectrumPlate::read_out(double hz) const {
  if (shown_.master.hz.empty()) return {};
  const size_t n = nearest(hz);
  const double m = shown_.master.db[n], e = shown_.residual.db[n];
  auto level = [](double db) { return db <= deepest_spectrum_db ? QString("none") : number(db, 1); };
  const QString under = e <= deepest_spectrum_db
                            ? tr("nothing left")
                            : tr("%1 dB %2").arg(number(std::abs(m - e), 1), m >= e ? tr("under") : tr("over"));
  QString text = tr("%1\nmaster %2  return %3\nresidual %4, %5")
                     .arg(hertz(shown_.master.hz[n], false), level(m), level(shown_.ret.db[n]), level(e), under);
  if (n < shown_.floor.db.size()) text += tr("\nfloor %1").arg(level(shown_.floor.db[n]));
  return text;
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
