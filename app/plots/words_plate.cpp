#include "app/plots/words_plate.hpp"

#include <algorithm>
#include <cmath>

#include "app/theme/theme.hpp"
#include "app/widgets/terms.hpp"

namespace heathmist::app {

namespace {

/// Codes of all channels together, and the activity of the busiest channel.
std::array<double, 256> codes_of(const WordStudy& study) {
  std::array<double, 256> sum{};
  for (const auto& channel : study.channels)
    for (size_t n = 0; n < sum.size(); ++n) sum[n] += double(channel.codes[n]);
  return sum;
}
double activity_of(const WordStudy& study, size_t bit) {
  double most = 0;
  for (const auto& channel : study.channels)
    if (bit < channel.activity.size()) most = std::max(most, channel.activity[bit]);
  return most;
}

}  // namespace

WordsPlate::WordsPlate(QWidget* parent) : Plate(parent) {
  title_ = "word-length";
  set_term(this, "word_length");
  setAccessibleName(tr("Word length: codes near zero and activity of every bit"));
  setMouseTracking(true);
  below_ = new QCPAxisRect(this, true);
  plotLayout()->addElement(1, 0, below_);
  plotLayout()->setRowSpacing(0);
  auto* group = new QCPMarginGroup(this);
  for (QCPAxisRect* rect : {axisRect(), below_}) {
    rect->setMinimumMargins(QMargins(38, 6, 10, 20));
    rect->setMarginGroup(QCP::msLeft | QCP::msRight, group);
    rect->axis(QCPAxis::atBottom)->grid()->setVisible(false);
  }
  yAxis->setTickLabels(false);
  xAxis->setTicker(QSharedPointer<QCPAxisTicker>(new LevelTicker));
  QCPAxis *bits = below_->axis(QCPAxis::atBottom), *activity = below_->axis(QCPAxis::atLeft);
  activity->setRange(0, 0.72);
  master_codes_ = addGraph();
  return_codes_ = addGraph();
  master_codes_->setName(tr("codes of the master")), return_codes_->setName(tr("codes of the return"));
  for (QCPGraph* graph : {master_codes_, return_codes_}) graph->setLineStyle(QCPGraph::lsStepCenter);
  master_bits_ = new QCPBars(bits, activity);
  return_bits_ = new QCPBars(bits, activity);
  auto* bars = new QCPBarsGroup(this);
  bars->setSpacing(0.02);
  for (QCPBars* b : {master_bits_, return_bits_}) b->setBarsGroup(bars), b->setWidth(0.36);
  codes_name_ = corner_text(axisRect(), 0.015, Qt::AlignLeft);
  codes_name_->setText(tr("how often each code comes"));
  bits_name_ = corner_text(below_, 0.985, Qt::AlignRight);
  bits_name_->setText(tr("share of samples in which a bit moves, 1: sign"));
  text_ = corner_text(axisRect(), 0.985, Qt::AlignRight);
  text_->setPadding(QMargins(6, 4, 6, 4));
  text_->setVisible(false);
  recolour();
}

void WordsPlate::recolour() {
  dress(axisRect());
  dress(below_);
  auto faded = [](QColor ink, double alpha) {
    ink.setAlphaF(float(alpha));
    return ink;
  };
  master_codes_->setPen(QPen(colour(Role::master), 1.2));
  QPen dashed(colour(Role::ret), 1.2);
  return_codes_->setPen(dashed);
  return_codes_->setBrush(faded(colour(Role::ret), 0.25));
  master_bits_->setPen(Qt::NoPen);
  master_bits_->setBrush(colour(Role::master));
  return_bits_->setPen(QPen(colour(Role::ret), 1));
  return_bits_->setBrush(faded(colour(Role::ret), 0.35));
  for (auto* text : {codes_name_, bits_name_}) text->setFont(face(Type::small)), text->setColor(colour(Role::soft));
  text_->setFont(face(Type::small));
  text_->setColor(colour(Role::ink));
  text_->setBrush(colour(Role::sheet));
  text_->setPen(QPen(colour(Role::rule)));
}

void WordsPlate::show_words(const std::optional<WordStudy>& master, const std::optional<WordStudy>& ret) {
  master_ = master, ret_ = ret;
  say_instead(master_ || ret_ ? QString() : tr("Neither holds integers: there is no word length to study"));
  double most = 1;
  size_t bits = 16;
  auto put = [&](QCPGraph* graph, QCPBars* bars, const std::optional<WordStudy>& study) {
    QVector<QCPGraphData> points;
    QVector<double> places, heights;
    if (study) {
      const auto codes = codes_of(*study);
      double all = 0;
      for (const double count : codes) all += count;
      for (int n = 0; n < 256; ++n) {
        const double share = all > 0 ? 256 * codes[size_t(n)] / all : 0;
        points.append({double(n - 128), share});
        if (n > 8 && n < 248) most = std::max(most, share);
      }
      bits = std::max(bits, size_t(study->container_bits));
      for (int b = 0; b < study->container_bits; ++b) places << b + 1, heights << activity_of(*study, size_t(b));
    }
    graph->data()->set(points, true);
    bars->setData(places, heights, true);
  };
  put(master_codes_, master_bits_, master_);
  put(return_codes_, return_bits_, ret_);
  xAxis->setRange(-128, 127);
  yAxis->setRange(0, std::min(most, 8.0) * 1.25);
  below_->axis(QCPAxis::atBottom)->setRange(0.4, double(bits) + 0.6);
  replot(rpQueuedReplot);
}

QString WordsPlate::read_out(double code) const {
  const auto n = size_t(std::clamp(std::lround(code) + 128, 0L, 255L));
  QString text = tr("code %1").arg(number(double(n) - 128, 0));
  if (master_) text += tr("\nmaster %1 times").arg(codes_of(*master_)[n], 0, 'f', 0);
  if (ret_) text += tr("\nreturn %1 times").arg(codes_of(*ret_)[n], 0, 'f', 0);
  return text;
}

void WordsPlate::mouseMoveEvent(QMouseEvent* event) {
  text_->setVisible(axisRect()->rect().contains(event->pos()) && (master_ || ret_));
  text_->setText(read_out(xAxis->pixelToCoord(event->position().x())));
  replot(rpQueuedReplot);
}

void WordsPlate::leaveEvent(QEvent*) {
  text_->setVisible(false);
  replot(rpQueuedReplot);
}

QString WordsPlate::csv() const {
  QString text = "code,master_times,return_times\n";
  const auto m = master_ ? codes_of(*master_) : std::array<double, 256>{},
             r = ret_ ? codes_of(*ret_) : std::array<double, 256>{};
  for (int n = 0; n < 256; ++n)
    text += QString("%1,%2,%3\n").arg(n - 128).arg(m[size_t(n)], 0, 'f', 0).arg(r[size_t(n)], 0, 'f', 0);
  text += "bit,master_activity,return_activity\n";
  for (size_t b = 0; b < 32; ++b)
    if ((master_ && b < size_t(master_->container_bits)) || (ret_ && b < size_t(ret_->container_bits)))
      text += QString("%1,%2,%3\n")
                  .arg(b + 1)
                  .arg(master_ ? activity_of(*master_, b) : 0, 0, 'f', 5)
                  .arg(ret_ ? activity_of(*ret_, b) : 0, 0, 'f', 5);
  return text;
}

}  // namespace heathmist::app
