#include "app/widgets/level_bars.hpp"

#include <QPainter>
#include <algorithm>
#include <cmath>

#include "app/theme/theme.hpp"
#include "app/widgets/terms.hpp"

namespace heathmist::app {

namespace {

constexpr int row_height = 20, bar_height = 7, number_width = 104, name_width = 20;

double db_of(double level) { return level > 0 ? 20 * std::log10(level) : -300; }

}  // namespace

LevelBars::LevelBars(QWidget* parent) : QWidget(parent) {
  setSizePolicy(QSizePolicy::Expanding, QSizePolicy::Fixed);
  setAccessibleName(tr("Level of the input"));
  set_term(this, "level");
  setToolTip(tr("Peak of what comes in, and the greatest since it began; 0 dBFS is full scale"));
}

QSize LevelBars::sizeHint() const { return {240, row_height * std::max(2, int(peak_.size())) + 18}; }

void LevelBars::show_levels(const std::vector<double>& peak, const std::vector<double>& held) {
  const bool grew = peak.size() != peak_.size();
  peak_ = peak, held_ = held;
  if (grew) updateGeometry();
  QStringList words;
  for (const double h : held_) words << words_of(h);
  setAccessibleDescription(words.join(", "));
  update();
}

QString LevelBars::words_of(double held) {
  if (held <= 0) return QString(QChar(0x2013));
  return held >= 1 ? tr("%1 dBFS, full scale").arg(number(db_of(held), 1)) : tr("%1 dBFS").arg(number(db_of(held), 1));
}

void LevelBars::paintEvent(QPaintEvent*) {
  QPainter painter(this);
  painter.setFont(face(Type::small));
  const int left = name_width, right = width() - number_width - 8;
  const auto x_of = [&](double db) {
    return left + (right - left) * std::clamp((db - lowest_db) / -lowest_db, 0.0, 1.0);
  };
  const int rows = std::max(2, int(peak_.size()));
  painter.setPen(colour(Role::soft));
  for (const int db : {-60, -48, -36, -24, -12, 0}) {
    const auto x = int(x_of(db));
    painter.drawText(QRect(x - 24, rows * row_height, 48, 16), Qt::AlignHCenter | Qt::AlignTop, number(db, 0));
  }
  for (int n = 0; n < rows; ++n) {
    const double peak = n < int(peak_.size()) ? peak_[size_t(n)] : 0,
                 held = n < int(held_.size()) ? held_[size_t(n)] : 0;
    const QRectF line(left, n * row_height + (row_height - bar_height) / 2.0, right - left, bar_height);
    painter.fillRect(line, colour(Role::rule));
    painter.fillRect(QRectF(line.left(), line.top(), x_of(db_of(peak)) - left, bar_height), colour(Role::ret));
    if (held > 0)
      painter.fillRect(QRectF(x_of(db_of(held)) - 1, line.top() - 3, 2, bar_height + 6),
                       colour(held >= 1 ? Role::rust : Role::ink));
    painter.setPen(colour(Role::soft));
    painter.drawText(QRect(0, n * row_height, name_width, row_height), Qt::AlignLeft | Qt::AlignVCenter,
                     QString::number(n + 1));
    painter.setPen(held >= 1 ? colour(Role::rust) : colour(Role::ink));
    painter.drawText(QRect(right + 8, n * row_height, number_width, row_height), Qt::AlignLeft | Qt::AlignVCenter,
                     words_of(held));
  }
}

}  // namespace heathmist::app
