#include "app/widgets/meter_bar.hpp"

#include <QPainter>
#include <algorithm>

#include "app/theme/theme.hpp"

namespace heathmist::app {

static constexpr std::chrono::seconds hold_time{2};
static constexpr int bar_thickness = 4;

MeterBar::MeterBar(double low, double high, double from, QWidget* parent)
    : QWidget(parent), low_(low), high_(high), from_(from) {
  setFixedHeight(bar_thickness + 2);
  setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Fixed);  // as wide as its number
  setAttribute(Qt::WA_TransparentForMouseEvents);  // the number it belongs to has the hint
}

void MeterBar::show_value(std::optional<double> value, Clock::time_point now) {
  const auto was = std::pair{value_, held_};
  value_ = value;
  if (!value) {
    held_.reset();
  } else if (!held_ || *value >= *held_ || now - held_since_ > hold_time) {
    held_ = value, held_since_ = now;
  }
  if (was != std::pair{value_, held_}) update();
}

void MeterBar::paintEvent(QPaintEvent*) {
  QPainter painter(this);
  const auto x_of = [&](double v) { return width() * std::clamp((v - low_) / (high_ - low_), 0.0, 1.0); };
  const QRectF line(0, 1, width(), bar_thickness);
  painter.fillRect(line, colour(Role::rule));
  const auto warns = [&](std::optional<double> v) { return limit_ && v && *v > *limit_; };
  if (value_) {
    const double a = x_of(from_), b = x_of(*value_);
    painter.fillRect(QRectF(std::min(a, b), 1, std::max(1.0, std::abs(a - b)), bar_thickness),
                     colour(warns(value_) ? Role::rust : Role::soft));
  }
  if (held_)
    painter.fillRect(QRectF(std::min(x_of(*held_), width() - 2.0), 0, 2, bar_thickness + 2),
                     colour(warns(held_) ? Role::rust : Role::ink));
}

}  // namespace heathmist::app
