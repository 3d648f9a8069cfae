#include "app/plots/stereo_plate.hpp"

#include <QPainter>
#include <algorithm>
#include <cmath>

#include "app/theme/theme.hpp"

namespace heathmist::app {

StereoPlate::StereoPlate(QWidget* parent) : QWidget(parent) {
  setMinimumSize(150, 150);
  setAccessibleName(tr("Stereo picture"));
  setToolTip(
      tr("Samples of the last moments: what both sides share is drawn upwards, what differs sideways. A line "
         "straight up is mono; one that lies flat is opposed in polarity"));
}

void StereoPlate::show_cloud(std::vector<std::array<float, 2>> cloud, std::optional<double> correlation) {
  cloud_ = std::move(cloud);
  correlation_ = correlation;
  update();
}

void StereoPlate::paintEvent(QPaintEvent*) {
  QPainter painter(this);
  painter.setRenderHint(QPainter::Antialiasing);
  painter.setFont(face(Type::small));
  const int foot = 18;
  const double side = std::min(width(), height() - foot) - 2.0, middle_x = width() / 2.0, middle_y = 1 + side / 2;
  const QRectF frame(middle_x - side / 2, 1, side, side);
  painter.fillRect(frame, colour(Role::sheet));
  painter.setPen(QPen(colour(Role::rule), 1));
  painter.drawRect(frame);
  painter.drawLine(QPointF(middle_x, frame.top()), QPointF(middle_x, frame.bottom()));
  painter.drawLine(QPointF(frame.left(), middle_y), QPointF(frame.right(), middle_y));
  float top = 1e-4f;
  for (const auto& [left, right] : cloud_) top = std::max({top, std::abs(left), std::abs(right)});
  const double scale = side / 2 / std::sqrt(2.0) / top;
  QColor ink = colour(Role::ret);
  ink.setAlphaF(0.45f);
  painter.setRenderHint(QPainter::Antialiasing, false);  // a thousand dots, ten times a second
  for (const auto& [left, right] : cloud_) {
    const double x = (right - left) / std::sqrt(2.0) * scale, y = (left + right) / std::sqrt(2.0) * scale;
    painter.fillRect(QRectF(middle_x + x - 1, middle_y - y - 1, 2, 2), ink);
  }
  painter.setPen(colour(Role::soft));
  painter.drawText(frame.adjusted(4, 2, -4, -2), Qt::AlignTop | Qt::AlignLeft, tr("left"));
  painter.drawText(frame.adjusted(4, 2, -4, -2), Qt::AlignTop | Qt::AlignRight, tr("right"));
  painter.setPen(colour(Role::ink));
  painter.drawText(QRectF(0, frame.bottom() + 2, width(), foot), Qt::AlignHCenter | Qt::AlignTop,
                   correlation_ ? tr("correlation %1").arg(number(*correlation_, 2)) : tr("no correlation to tell"));
}

}  // namespace heathmist::app
