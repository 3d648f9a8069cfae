#include "app/plots/live_spectrum_plate.hpp"

#include <algorithm>

#include "app/theme/theme.hpp"
#include "app/widgets/terms.hpp"

namespace heathmist::app {

LiveSpectrumPlate::LiveSpectrumPlate(QWidget* parent) : FrequencyPlate(parent) {
  title_ = "input spectrum";
  set_term(this, "spectrum");
  setAccessibleName(tr("Spectrum of the input: average, peaks, and the moment"));
  held_ = addGraph(), now_ = addGraph(), sent_ = addGraph(), average_ = addGraph();
  const std::pair<QCPGraph*, QString> names[] = {
      {held_, tr("peaks")}, {now_, tr("the moment")}, {sent_, tr("average of the master")}, {average_, tr("average")}};
  for (const auto& [graph, name] : names) graph->setName(name);
  sent_->removeFromLegend();
  set_unit(tr("dBFS"));
  legend->setBrush(Qt::NoBrush);
  legend->setBorderPen(Qt::NoPen);
  legend->setFillOrder(QCPLayoutGrid::foColumnsFirst);
  axisRect()->insetLayout()->setInsetAlignment(0, Qt::AlignBottom | Qt::AlignLeft);
  recolour();
  show_empty(true);
  legend->setVisible(false);
}

void LiveSpectrumPlate::recolour() {
  FrequencyPlate::recolour();
  average_->setPen(QPen(colour(Role::ret), 1.8));
  sent_->setPen(QPen(colour(Role::master), 1.4));
  now_->setPen(QPen(colour(Role::soft), 1.0));
  held_->setPen(QPen(colour(Role::ink), 1.0, Qt::DotLine));
  legend->setFont(face(Type::small));
  legend->setTextColor(colour(Role::ink));
}

void LiveSpectrumPlate::set_frequencies_of(const std::vector<float>& hz) {
  hz_.assign(hz.begin(), hz.end());
  set_frequencies(hz_, true);
}

void LiveSpectrumPlate::show_lines(const LiveSpectrum::Lines& lines, const std::vector<float>& master) {
  lines_ = lines;
  if (master.empty() != master_.empty()) master.empty() ? sent_->removeFromLegend() : sent_->addToLegend();
  master_ = master;
  const auto put = [&](QCPGraph* graph, const std::vector<float>& db) {
    QVector<QCPGraphData> points;
    for (size_t n = 0; n < std::min(db.size(), hz_.size()); ++n) points.append({hz_[n], double(db[n])});
    graph->data()->set(points, true);
  };
  put(held_, lines_.held), put(average_, lines_.average), put(now_, lines_.momentary), put(sent_, master_);
  show_empty(lines_.average.empty());
  legend->setVisible(!lines_.average.empty());
  fit_levels();
  refresh_cursor();
  replot(rpQueuedReplot);
}

/// The scale stands still while the music moves: steps of 10 dB, and not less than 100 of them.
void LiveSpectrumPlate::fit_levels() {
  double top = -60;
  for (const float db : lines_.held) top = std::max(top, double(db));
  top = std::ceil(top / 10) * 10;
  if (top > yAxis->range().upper || top < yAxis->range().upper - 15 || yAxis->range().size() != 110)
    yAxis->setRange(top - 110, top);
}

QString LiveSpectrumPlate::read_out(double hz) const {
  if (lines_.average.empty()) return {};
  const size_t n = nearest(hz);
  const QString sent = n < master_.size() ? tr("   master %1").arg(number(master_[n], 1)) : QString();
  return tr("%1   average %2   peaks %3   the moment %4 dB")
             .arg(hertz(hz_[n], false), number(lines_.average[n], 1), number(lines_.held[n], 1),
                  number(lines_.momentary[n], 1)) +
         sent;
}

QString LiveSpectrumPlate::csv() const {
  const bool sent = master_.size() == hz_.size();
  QString text =
      sent ? "hz,average_db,held_db,momentary_db,master_average_db\n" : "hz,average_db,held_db,momentary_db\n";
  for (size_t n = 0; n < std::min(hz_.size(), lines_.average.size()); ++n) {
    text += QString("%1,%2,%3,%4").arg(hz_[n]).arg(lines_.average[n]).arg(lines_.held[n]).arg(lines_.momentary[n]);
    text += sent ? QString(",%1\n").arg(master_[n]) : QString("\n");
  }
  return text;
}

}  // namespace heathmist::app
