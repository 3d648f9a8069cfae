#include "app/plots/plate.hpp"

#include <QBuffer>
#include <QSvgGenerator>
#include <cmath>
#include <optional>

#include "app/theme/line_breaks.hpp"
#include "app/theme/position.hpp"
#include "app/theme/theme.hpp"

namespace heathmist::app {

namespace {

constexpr int longest_line = 34;  // characters, in a narrow plot

/// As the ticks of its axis are written.
QString reading(const QCPAxis* axis, double value) {
  const QCPAxisTicker* ticker = axis->ticker().data();
  if (dynamic_cast<const HertzTicker*>(ticker)) return hertz(value, false);
  return dynamic_cast<const ClockTicker*>(ticker) ? position(value, 1) : number(value, 1);
}

/// The lowest and the highest point of a curve that are in sight; none: nothing is.
std::pair<std::optional<QCPGraphData>, std::optional<QCPGraphData>> ends_of(const QCPGraph& graph) {
  std::optional<QCPGraphData> low, high;
  for (const QCPGraphData& point : *graph.data()) {
    if (std::isnan(point.value) || !graph.keyAxis()->range().contains(point.key)) continue;
    if (!low || point.value < low->value) low = point;
    if (!high || point.value > high->value) high = point;
  }
  return {low, high};
}

bool is_named(const QCPGraph& graph) { return !graph.name().isEmpty() && !graph.name().startsWith("Graph "); }

}  // namespace

Plate::Plate(QWidget* parent) : QCustomPlot(parent) {
  setPlottingHint(QCP::phCacheLabels, true);
  setPlottingHint(QCP::phFastPolylines, true);
  setFocusPolicy(Qt::StrongFocus);
  connect(&Theme::instance(), &Theme::changed, this, [this] {
    recolour();
    replot();
  });
  connect(&Positions::instance(), &Positions::changed, this, [this] { replot(rpQueuedReplot); });
}

void Plate::dress(QCPAxisRect* rect) {
  setBackground(colour(Role::ground));
  rect->setBackground(colour(Role::sheet));
  if (instead_) dress_instead();
  for (QCPAxis* axis : rect->axes()) {
    axis->setBasePen(QPen(colour(Role::rule)));
    axis->setTickPen(Qt::NoPen);
    axis->setSubTickPen(Qt::NoPen);
    axis->setTickLabelColor(colour(Role::soft));
    axis->setTickLabelFont(face(Type::small));
    axis->setLabelColor(colour(Role::soft));
    axis->setLabelFont(face(Type::small));
    axis->grid()->setPen(QPen(colour(Role::faint)));
    axis->grid()->setZeroLinePen(QPen(colour(Role::faint)));
  }
}

void Plate::say_instead(const QString& words) {
  if (!instead_) {
    instead_ = corner_text(axisRect(), 0.5, Qt::AlignHCenter);
    instead_->position->setCoords(0.5, 0.45);
    instead_->setPositionAlignment(Qt::AlignCenter);
    instead_->setTextAlignment(Qt::AlignCenter);
    dress_instead();
  }
  instead_->setText(in_lines(words, longest_line));
  instead_->setVisible(!words.isEmpty());
}

void Plate::dress_instead() {
  instead_->setFont(face(Type::body));
  instead_->setColor(colour(Role::soft));
}

void Plate::show_empty(bool is_empty) {
  for (const auto side : {QCPAxis::atLeft, QCPAxis::atBottom}) {
    axisRect()->axis(side)->setTickLabels(!is_empty);
    axisRect()->axis(side)->grid()->setVisible(!is_empty);
  }
  say_instead(!is_empty ? QString() : empty_words_.isEmpty() ? accessibleName() : empty_words_);
}

QCPItemText* Plate::corner_text(QCPAxisRect* rect, double x, Qt::Alignment side) {
  auto* text = new QCPItemText(this);
  text->position->setAxisRect(rect);
  text->position->setType(QCPItemPosition::ptAxisRectRatio);
  text->position->setCoords(x, 0.03);
  text->setPositionAlignment(side | Qt::AlignTop);
  text->setClipAxisRect(rect);
  return text;
}

void Plate::write_picture(const Destination& to) {
  QByteArray bytes;
  QBuffer buffer(&bytes);
  buffer.open(QIODevice::WriteOnly);
  const auto ending = to.file.extension().string();
  if (ending == ".png") {
    toPixmap(width(), height(), 2).save(&buffer, "PNG");
  } else {
    QSvgGenerator generator;
    generator.setOutputDevice(&buffer);
    generator.setSize(size());
    generator.setViewBox(QRect(QPoint(), size()));
    generator.setTitle("Heathmist: " + title_);
    QCPPainter painter(&generator);
    painter.setMode(QCPPainter::pmVectorized);
    toPainter(&painter, width(), height());
  }
  if (bytes.isEmpty()) throw OutputRefused(to.file, "there is nothing to draw; make the window larger");
  write_whole(to, bytes.toStdString());
}

void Plate::focusInEvent(QFocusEvent* event) {
  setAccessibleDescription(in_words());
  QCustomPlot::focusInEvent(event);
}

QString Plate::in_words() const {
  if (!said_instead().isEmpty()) return said_instead().replace('\n', ' ');
  QStringList curves;
  for (int n = 0; n < graphCount(); ++n) {
    const QCPGraph* g = graph(n);
    if (!g->visible() || !is_named(*g)) continue;
    if (const auto [low, high] = ends_of(*g); low && high)
      curves << tr("%1: highest %2 at %3, lowest %4 at %5")
                    .arg(g->name(), reading(g->valueAxis(), high->value), reading(g->keyAxis(), high->key),
                         reading(g->valueAxis(), low->value), reading(g->keyAxis(), low->key));
  }
  return curves.isEmpty() ? tr("nothing is drawn yet") : curves.join("; ");
}

/// Where there is no room nothing is drawn; with room again it is.
void Plate::resizeEvent(QResizeEvent* event) {
  if (!event->size().isEmpty()) QCustomPlot::resizeEvent(event);
}

void Plate::contextMenuEvent(QContextMenuEvent* event) { emit menu_wanted(event->globalPos()); }

double ClockTicker::getTickStep(const QCPRange& range) {
  setTickOrigin(Positions::instance().origin_s());
  return Positions::instance().step(range.size() / most);
}

QString ClockTicker::getTickLabel(double tick, const QLocale&, QChar, int) { return Positions::instance().tick(tick); }

QString LevelTicker::getTickLabel(double tick, const QLocale&, QChar, int) {
  int decimals = 0;
  for (double step = 1; decimals < 3 && std::abs(tick / step - std::round(tick / step)) > 1e-6; step /= 10) ++decimals;
  return number(tick, decimals);
}

QVector<double> HertzTicker::createTickVector(double step, const QCPRange& range) {
  constexpr double room = 1.12;
  QVector<double> ticks;
  if (!logarithmic) {
    ticks = QCPAxisTicker::createTickVector(step, range);
    for (const double tick : ticks)
      if (range.contains(tick)) last_ = tick;
    return ticks;
  }
  for (double decade = 1; decade < 1e6; decade *= 10)
    for (const double digit : {1.0, 2.0, 5.0})
      if ((dense || digit != 2) && range.contains(decade * digit)) ticks << decade * digit;
  last_ = ticks.empty() ? 0 : ticks.back();
  if (ticks.size() > 1 && last_ * room > range.upper) last_ = ticks[ticks.size() - 2];  // at the edge no word fits
  if (const auto at = ticks.indexOf(last_); !dense && at > 2 && last_ < 2.5 * ticks[at - 1])
    ticks.remove(at - 1);  // the unit stands there
  return ticks;
}

QString HertzTicker::getTickLabel(double tick, const QLocale&, QChar, int) { return hertz(tick, tick != last_); }

QString hertz(double hz, bool brief) {
  if (hz >= 1000) return QString::number(hz / 1000, 'g', brief ? 3 : 4) + (brief ? " k" : " kHz");
  return QString::number(hz, 'g', brief ? 3 : 4) + (brief ? "" : " Hz");
}

QString band_text(double low_hz, double high_hz) {
  if (high_hz < 1000) return QObject::tr("%1 to %2 Hz").arg(number(low_hz, 0), number(high_hz, 0));
  if (low_hz < 1000) return QObject::tr("%1 to %2").arg(hertz(low_hz, false), hertz(high_hz, false));
  const int decimals = low_hz < 10000 ? 1 : 0;
  return QObject::tr("%1 to %2 kHz").arg(number(low_hz / 1000, decimals), number(high_hz / 1000, decimals));
}

}  // namespace heathmist::app
