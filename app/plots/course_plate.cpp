#include "app/plots/course_plate.hpp"

#include <algorithm>
#include <cmath>

#include "app/theme/position.hpp"
#include "app/theme/theme.hpp"
#include "app/widgets/terms.hpp"

namespace heathmist::app {

namespace {

constexpr double least_reach_db = 0.5;  // a gain that hardly moves is drawn as the straight line it is

std::optional<int> bits_at(const std::optional<WordStudy>& study, double at_s) {
  if (!study || at_s < 0 || study->column_s <= 0) return {};
  const auto column = size_t(at_s / study->column_s);
  return column < study->bits_over_time.size() ? std::optional(int(study->bits_over_time[column])) : std::nullopt;
}

}  // namespace

CoursePlate::CoursePlate(QWidget* parent) : Plate(parent) {
  title_ = "course";
  set_term(this, "gain_over_time");
  setAccessibleName(tr("Gain between master and return, and bits used, over time"));
  setMouseTracking(true);
  below_ = new QCPAxisRect(this, true);
  plotLayout()->addElement(1, 0, below_);
  plotLayout()->setRowSpacing(0);
  auto* group = new QCPMarginGroup(this);
  QSharedPointer<ClockTicker> clock_ticks(new ClockTicker);
  clock_ticks->most = 5;
  for (QCPAxisRect* rect : {axisRect(), below_}) {
    rect->setMinimumMargins(QMargins(38, 6, 10, 20));
    rect->setMarginGroup(QCP::msLeft | QCP::msRight, group);
    rect->axis(QCPAxis::atBottom)->setTicker(clock_ticks);
    rect->axis(QCPAxis::atLeft)->setTicker(QSharedPointer<QCPAxisTicker>(new LevelTicker));
    rect->axis(QCPAxis::atLeft)->ticker()->setTickCount(4);
  }
  trace_ = addGraph();
  master_bits_ = addGraph(below_->axis(QCPAxis::atBottom), below_->axis(QCPAxis::atLeft));
  return_bits_ = addGraph(below_->axis(QCPAxis::atBottom), below_->axis(QCPAxis::atLeft));
  trace_->setName(tr("gain of the return, dB")), master_bits_->setName(tr("bits of the master"));
  return_bits_->setName(tr("bits of the return"));
  for (QCPGraph* graph : {master_bits_, return_bits_}) graph->setLineStyle(QCPGraph::lsStepLeft);
  trace_name_ = corner_text(axisRect(), 0.015, Qt::AlignLeft);
  trace_name_->setText(tr("gain of the return, dB against the fit"));
  bits_name_ = corner_text(below_, 0.015, Qt::AlignLeft);
  bits_name_->setText(tr("bits used"));
  text_ = corner_text(axisRect(), 0.985, Qt::AlignRight);
  text_->setPadding(QMargins(6, 4, 6, 4));
  text_->setVisible(false);
  below_->axis(QCPAxis::atLeft)->setRange(0, 27);
  recolour();
}

void CoursePlate::recolour() {
  dress(axisRect());
  dress(below_);
  trace_->setPen(QPen(colour(Role::ret), 1.2));
  master_bits_->setPen(QPen(colour(Role::master), 1.6));
  QPen dashed(colour(Role::ret), 1.5);
  dashed.setStyle(Qt::CustomDashLine);
  dashed.setDashPattern({5, 3});
  return_bits_->setPen(dashed);
  for (auto* text : {trace_name_, bits_name_}) text->setFont(face(Type::small)), text->setColor(colour(Role::soft));
  text_->setFont(face(Type::small));
  text_->setColor(colour(Role::ink));
  text_->setBrush(colour(Role::sheet));
  text_->setPen(QPen(colour(Role::rule)));
}

void CoursePlate::show_course(const GainTrace& gain, const std::optional<WordStudy>& master,
                              const std::optional<WordStudy>& ret) {
  gain_ = gain, master_ = master, ret_ = ret;
  QVector<QCPGraphData> points;
  std::vector<float> known;
  for (size_t n = 0; n < gain.db.size(); ++n) {
    points.append({gain.first_s + (double(n) + 0.5) * gain.piece_s, double(gain.db[n])});
    if (!std::isnan(gain.db[n])) known.push_back(gain.db[n]);
  }
  trace_->data()->set(points, true);
  std::sort(known.begin(), known.end());  // a few wild pieces shall not flatten the rest
  const double low = known.empty() ? 0 : double(known[known.size() / 200]),
               high = known.empty() ? 0 : double(known[known.size() - 1 - known.size() / 200]);
  yAxis->setRange(std::min(low * 1.2, -least_reach_db), std::max(high * 1.2, least_reach_db) + 0.2 * (high - low));
  auto put = [](QCPGraph* graph, const std::optional<WordStudy>& study) {
    QVector<QCPGraphData> steps;
    for (size_t n = 0; study && n < study->bits_over_time.size(); ++n)
      steps.append({double(n) * study->column_s, double(study->bits_over_time[n])});
    graph->data()->set(steps, true);
  };
  put(master_bits_, master_);
  put(return_bits_, ret_);
  replot(rpQueuedReplot);
}

void CoursePlate::set_range(double from_s, double to_s) {
  xAxis->setRange(from_s, to_s);
  below_->axis(QCPAxis::atBottom)->setRange(from_s, to_s);
  replot(rpQueuedReplot);
}

QString CoursePlate::read_out(double at_s) const {
  QStringList words{position(at_s, 2)};
  const auto piece = gain_.piece_s > 0 ? (at_s - gain_.first_s) / gain_.piece_s : -1;
  if (piece >= 0 && size_t(piece) < gain_.db.size())
    words << (std::isnan(gain_.db[size_t(piece)]) ? tr("silent")
                                                  : tr("gain %1 dB").arg(number(double(gain_.db[size_t(piece)]), 2)));
  if (const auto bits = bits_at(master_, at_s)) words << tr("master %1 bits").arg(*bits);
  if (const auto bits = bits_at(ret_, at_s)) words << tr("return %1 bits").arg(*bits);
  return words.join('\n');
}

void CoursePlate::mouseMoveEvent(QMouseEvent* event) {
  text_->setVisible(event->position().x() >= axisRect()->left() && event->position().x() <= axisRect()->right());
  text_->setText(read_out(xAxis->pixelToCoord(event->position().x())));
  replot(rpQueuedReplot);
}

void CoursePlate::leaveEvent(QEvent*) {
  text_->setVisible(false);
  replot(rpQueuedReplot);
}

QString CoursePlate::csv() const {
  QString text = "time_s,gain_db,master_bits,return_bits\n";
  auto bits = [](const std::optional<WordStudy>& study, double at_s) {
    const auto found = bits_at(study, at_s);
    return found ? QString::number(*found) : QString();
  };
  for (size_t n = 0; n < gain_.db.size(); ++n) {
    const double at = gain_.first_s + (double(n) + 0.5) * gain_.piece_s;
    text += QString("%1,%2,%3,%4\n")
                .arg(at, 0, 'f', 3)
                .arg(std::isnan(gain_.db[n]) ? QString() : QString::number(double(gain_.db[n]), 'f', 4),
                     bits(master_, at), bits(ret_, at));
  }
  return text;
}

}  // namespace heathmist::app
