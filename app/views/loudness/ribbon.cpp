#include "app/views/loudness/ribbon.hpp"

#include <QPainter>
#include <algorithm>

#include "app/theme/theme.hpp"

namespace heathmist::app {

namespace {

constexpr size_t outline_parts = 120;
constexpr double outline_share = 0.26;  // of the cell's width

}  // namespace

Ribbon ribbon_of(const Loudness& l, bool is_master) {
  return {loudness_histogram(l.pieces, 30, 1), l.integrated_lufs, outline_of(l, outline_parts), is_master};
}

void RibbonPainter::paint(QPainter* painter, const QStyleOptionViewItem& option, const QModelIndex& index) const {
  QStyledItemDelegate::paint(painter, option, index);
  const auto ribbon = index.data(data_role).value<std::shared_ptr<const Ribbon>>();
  if (!ribbon) return;
  painter->save();
  painter->setRenderHint(QPainter::Antialiasing);
  const QRectF cell = QRectF(option.rect).adjusted(4, 3, -8, -3);
  const QRectF outline(cell.left(), cell.top(), cell.width() * outline_share, cell.height());
  const QRectF axis(outline.right() + 10, cell.top(), cell.right() - outline.right() - 10, cell.height());
  QColor ink = colour(ribbon->is_master ? Role::master : Role::ret), wash = ink;
  wash.setAlpha(70);
  painter->setPen(Qt::NoPen);
  painter->setBrush(wash);
  const double step = outline.width() / double(std::max<size_t>(1, ribbon->outline.size()));
  for (size_t n = 0; n < ribbon->outline.size(); ++n) {
    const double half = std::min(1.0, double(ribbon->outline[n])) * outline.height() / 2;
    painter->drawRect(QRectF(outline.left() + double(n) * step, outline.center().y() - half, step, 2 * half));
  }
  auto x_of = [&](double value) {
    return axis.left() + (std::clamp(value, low_lufs, high_lufs) - low_lufs) / (high_lufs - low_lufs) * axis.width();
  };
  painter->setPen(QPen(colour(Role::faint), 1));
  for (double mark = low_lufs; mark <= high_lufs; mark += 10)
    painter->drawLine(QPointF(x_of(mark), axis.top() - 3), QPointF(x_of(mark), axis.bottom() + 3));
  const double most =
      ribbon->spread.share.empty() ? 0 : *std::max_element(ribbon->spread.share.begin(), ribbon->spread.share.end());
  painter->setPen(Qt::NoPen);
  for (size_t n = 0; n < ribbon->spread.share.size() && most > 0; ++n) {
    const double from = ribbon->spread.low_lufs + double(n) * ribbon->spread.step_lu;
    if (ribbon->spread.share[n] <= 0 || from < low_lufs) continue;
    const double half = (0.15 + 0.85 * ribbon->spread.share[n] / most) * axis.height() / 2;
    painter->setBrush(ink);
    painter->setOpacity(0.55);
    painter->drawRect(QRectF(QPointF(x_of(from), axis.center().y() - half),
                             QPointF(x_of(from + ribbon->spread.step_lu), axis.center().y() + half)));
  }
  painter->setOpacity(1);
  if (ribbon->integrated_lufs) {
    painter->setPen(QPen(colour(Role::ink), 2));
    const double x = x_of(*ribbon->integrated_lufs);
    painter->drawLine(QPointF(x, axis.top() - 1), QPointF(x, axis.bottom() + 1));
  }
  painter->restore();
}

}  // namespace heathmist::app
