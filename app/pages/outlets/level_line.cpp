#include "app/pages/outlets/level_line.hpp"

#include <QPainter>
#include <algorithm>

#include "app/theme/theme.hpp"
#include "app/widgets/result_table.hpp"

namespace heathmist::app {

namespace {

constexpr double step_lu = 6, band_height = 12, dot = 4.5;

/// Paints the signs of a line about a height of its own.
class LinePen {
 public:
  LinePen(QPainter& painter, double y) : painter_(painter), y_(y) { painter_.setRenderHint(QPainter::Antialiasing); }

  void band(double from, double to) {
    QColor ground = colour(Role::moss);
    ground.setAlphaF(0.3F);
    painter_.fillRect(QRectF(from, y_ - band_height / 2, to - from, band_height), ground);
  }
  void upright(double x, Role role) {
    painter_.setPen(QPen(colour(role), 2));
    painter_.drawLine(QPointF(x, y_ - band_height / 2 - 2), QPointF(x, y_ + band_height / 2 + 2));
  }
  void dashes(double from, double to) {
    painter_.setPen(QPen(colour(Role::rust), 1.5, Qt::DotLine));
    painter_.drawLine(QPointF(from, y_), QPointF(to, y_));
  }
  void file(double x) {
    painter_.setPen(Qt::NoPen);
    painter_.setBrush(colour(Role::master));
    painter_.drawEllipse(QPointF(x, y_), dot, dot);
  }
  void heard(double x) {
    painter_.setPen(QPen(colour(Role::ret), 1.6));
    painter_.setBrush(Qt::NoBrush);
    painter_.drawEllipse(QPointF(x, y_), dot, dot);
  }

 private:
  QPainter& painter_;
  double y_;
};

void paint_line(QPainter& painter, const LevelLine& line, const QRectF& at) {
  const auto x = [&](double lufs) { return at.left() + place_on_line(lufs, at.width()); };
  painter.setPen(QPen(colour(Role::faint), 1));
  for (double mark = LevelLinePainter::low_lufs; mark <= LevelLinePainter::high_lufs; mark += step_lu)
    painter.drawLine(QPointF(x(mark), at.top()), QPointF(x(mark), at.bottom()));
  LinePen pen(painter, at.center().y());
  if (line.tolerance) pen.band(x(line.target - *line.tolerance), x(line.target + *line.tolerance));
  pen.upright(x(line.target), Role::moss);
  if (line.must_change && line.file) pen.dashes(x(line.target), x(*line.file));
  if (line.stopped_by_peaks && line.heard) pen.upright(x(*line.heard), Role::gorse);
  if (line.file) pen.file(x(*line.file));
  if (line.heard) pen.heard(x(*line.heard));
}

struct Sign {
  QString words;
  void (*paint)(LinePen& pen, double x);
};

std::vector<Sign> signs() {
  return {{QObject::tr("the file"), [](LinePen& pen, double x) { pen.file(x + 8); }},
          {QObject::tr("as it is heard"), [](LinePen& pen, double x) { pen.heard(x + 8); }},
          {QObject::tr("target and tolerance"),
           [](LinePen& pen, double x) { pen.band(x, x + 18), pen.upright(x + 9, Role::moss); }},
          {QObject::tr("what the file must change by"), [](LinePen& pen, double x) { pen.dashes(x, x + 18); }},
          {QObject::tr("peaks stop a lift"), [](LinePen& pen, double x) { pen.upright(x + 9, Role::gorse); }}};
}

}  // namespace

double place_on_line(double lufs, double width) {
  constexpr double low = LevelLinePainter::low_lufs, high = LevelLinePainter::high_lufs;
  return (std::clamp(lufs, low, high) - low) / (high - low) * width;
}

QString words_of(const LevelLine& line) {
  QString words = QObject::tr("target %1").arg(number(line.target, 1));
  if (line.tolerance) words += QObject::tr(" \u00b1 %1").arg(number(*line.tolerance, 1));
  words += QObject::tr(" LUFS; the file at %1").arg(line.file ? number(*line.file, 1) : QObject::tr("silence"));
  if (line.heard) words += QObject::tr(", heard at %1").arg(number(*line.heard, 1));
  if (line.stopped_by_peaks) words += QObject::tr(", where its peaks stop a lift");
  return words;
}

void LevelLinePainter::paint(QPainter* painter, const QStyleOptionViewItem& option, const QModelIndex& index) const {
  QStyledItemDelegate::paint(painter, option, index);
  const QVariant picture = index.data(ResultTable::picture_role);
  if (!picture.canConvert<LevelLine>()) return;
  painter->save();
  paint_line(*painter, picture.value<LevelLine>(), QRectF(option.rect).adjusted(10, 0, -10, 0));
  painter->restore();
}

LevelLineKey::LevelLineKey(QWidget* parent) : QWidget(parent) {
  QStringList words;
  for (const Sign& sign : signs()) words << sign.words;
  setAccessibleName(tr("The signs of the lines: %1").arg(words.join(", ")));
  setFont(face(Type::small));
}

QSize LevelLineKey::sizeHint() const {
  int wide = 0;
  for (const Sign& sign : signs()) wide += 26 + fontMetrics().horizontalAdvance(sign.words) + 18;
  return {wide, 22};
}

void LevelLineKey::paintEvent(QPaintEvent*) {
  QPainter painter(this);
  painter.setFont(font());
  LinePen pen(painter, height() / 2.0);
  double x = 2;
  for (const Sign& sign : signs()) {
    const int wide = fontMetrics().horizontalAdvance(sign.words);
    if (x + 26 + wide > width()) break;  // those that have room, whole
    sign.paint(pen, x);
    painter.setPen(colour(Role::soft));
    painter.drawText(QRectF(x + 24, 0, wide + 4, height()), Qt::AlignVCenter | Qt::AlignLeft, sign.words);
    x += 26 + wide + 18;
  }
}

}  // namespace heathmist::app
