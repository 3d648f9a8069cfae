#include "app/pages/loudness/ribbon.hpp"

#include <QPainter>
#include <QPainterPath>
#include <QPixmapCache>
#include <algorithm>
#include <atomic>

#include "app/theme/theme.hpp"
#include "app/widgets/result_table.hpp"

namespace heathmist::app {

namespace {

constexpr size_t outline_parts = 120;
constexpr double outline_share = 0.26;  // of the cell's width

}  // namespace

Ribbon ribbon_of(const Loudness& l, bool is_master) {
  static std::atomic<uint64_t> made = 0;
  return {++made, loudness_histogram(l.pieces, 30, 1), l.integrated_lufs, outline_of(l, outline_parts), is_master};
}

namespace {

void draw_outline(QPainter& painter, const Ribbon& ribbon, const QRectF& place) {
  QPainterPath path;
  const double step = place.width() / double(std::max<size_t>(1, ribbon.outline.size()));
  for (size_t n = 0; n < ribbon.outline.size(); ++n) {
    const double half = std::min(1.0, double(ribbon.outline[n])) * place.height() / 2;
    path.addRect(QRectF(place.left() + double(n) * step, place.center().y() - half, step, 2 * half));
  }
  QColor wash = colour(ribbon.is_master ? Role::master : Role::ret);
  wash.setAlpha(70);
  painter.fillPath(path, wash);
}

void draw_spread(QPainter& painter, const Ribbon& ribbon, const QRectF& axis) {
  constexpr double low = RibbonPainter::low_lufs, high = RibbonPainter::high_lufs;
  auto x_of = [&](double value) {
    return axis.left() + (std::clamp(value, low, high) - low) / (high - low) * axis.width();
  };
  painter.setPen(QPen(colour(Role::faint), 1));
  for (double mark = low; mark <= high; mark += 10)
    painter.drawLine(QPointF(x_of(mark), axis.top() - 3), QPointF(x_of(mark), axis.bottom() + 3));
  const auto& share = ribbon.spread.share;
  const double most = share.empty() ? 0 : *std::max_element(share.begin(), share.end());
  QPainterPath path;
  for (size_t n = 0; n < share.size() && most > 0; ++n) {
    const double from = ribbon.spread.low_lufs + double(n) * ribbon.spread.step_lu;
    if (share[n] <= 0 || from < low) continue;
    const double half = (0.15 + 0.85 * share[n] / most) * axis.height() / 2;
    path.addRect(QRectF(QPointF(x_of(from), axis.center().y() - half),
                        QPointF(x_of(from + ribbon.spread.step_lu), axis.center().y() + half)));
  }
  QColor ink = colour(ribbon.is_master ? Role::master : Role::ret);
  ink.setAlphaF(0.55F);
  painter.fillPath(path, ink);
  if (!ribbon.integrated_lufs) return;
  painter.setPen(QPen(colour(Role::ink), 2));
  const double x = x_of(*ribbon.integrated_lufs);
  painter.drawLine(QPointF(x, axis.top() - 1), QPointF(x, axis.bottom() + 1));
}

QPixmap picture_of(const Ribbon& ribbon, QSize size, double scale) {
  QPixmap picture(size * scale);
  picture.setDevicePixelRatio(scale);
  picture.fill(Qt::transparent);
  QPainter painter(&picture);
  painter.setRenderHint(QPainter::Antialiasing);
  const QRectF cell = QRectF(QPointF(), QSizeF(size)).adjusted(4, 3, -8, -3);
  const QRectF outline(cell.left(), cell.top(), cell.width() * outline_share, cell.height());
  draw_outline(painter, ribbon, outline);
  draw_spread(painter, ribbon,
              QRectF(outline.right() + 10, cell.top(), cell.right() - outline.right() - 10, cell.height()));
  return picture;
}

}  // namespace

/// The picture is drawn once for each size and variant, so that a long table scrolls.
void RibbonPainter::paint(QPainter* painter, const QStyleOptionViewItem& option, const QModelIndex& index) const {
  QStyledItemDelegate::paint(painter, option, index);
  const auto ribbon = index.data(ResultTable::picture_role).value<std::shared_ptr<const Ribbon>>();
  if (!ribbon) return;
  const double scale = painter->device()->devicePixelRatioF();
  const QString key = QString("ribbon %1 %2 %3 %4 %5")
                          .arg(ribbon->id)
                          .arg(option.rect.width())
                          .arg(option.rect.height())
                          .arg(scale)
                          .arg(colour(Role::ink).name());
  QPixmap picture;
  if (!QPixmapCache::find(key, &picture)) {
    picture = picture_of(*ribbon, option.rect.size(), scale);
    QPixmapCache::insert(key, picture);
  }
  painter->drawPixmap(option.rect.topLeft(), picture);
}

}  // namespace heathmist::app
