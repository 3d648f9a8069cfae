// The look: colours by role, fonts and icons. A role means one thing everywhere.
#pragma once
#include <QApplication>
#include <QColor>
#include <QFont>
#include <QIcon>
#include <array>

#include "core/compare/null.hpp"

namespace heathmist::app {

enum class Role {
  ground,
  sheet,
  ink,
  soft,
  rule,
  faint,
  selection,
  master,
  ret,
  residual,
  moss,
  straw,
  gorse,
  rust,
  edge
};
enum class Type { body, small, value, headline };

class Theme : public QObject {
  Q_OBJECT

 public:
  static Theme& instance();
  /// Loads fonts and puts the colours on the application.
  void apply(bool night);
  bool is_night() const { return night_; }
  QColor colour(Role role) const;
  QColor light(Role role) const { return light_[size_t(role)]; }  ///< of the light variant, whichever is shown; no edge
  QColor severity(Severity severity) const;
  /// The heat palette at 0 (far under) .. 1 (close), rising evenly in lightness.
  QColor heat(double level) const;
  const std::vector<std::pair<double, QColor>>& heat_stops() const { return heat_; }
  /// From one hue over the ground to another: less, alike, more.
  std::vector<std::pair<double, QColor>> difference_stops() const;

 signals:
  void changed();

 private:
  Theme();
  bool night_ = false;
  std::vector<QColor> light_, dark_;
  std::vector<std::pair<double, QColor>> heat_;
  std::array<std::array<QColor, 2>, 2> less_more_;  // by day, by night
};

inline QColor colour(Role role) { return Theme::instance().colour(role); }
QFont face(Type type, bool strong = false);
QIcon icon(const QString& name, Role role);

/// So many lines of one ink are told apart by their strokes; then the first comes again.
inline constexpr size_t line_style_count = 4;
inline Qt::PenStyle line_style(size_t n) {
  constexpr Qt::PenStyle styles[line_style_count] = {Qt::SolidLine, Qt::DashLine, Qt::DotLine, Qt::DashDotLine};
  return styles[n % line_style_count];
}

/// Numbers as this program writes them: a real minus sign, no negative zero.
QString number(double value, int decimals);
/// 48 or 44.1, of a rate in Hz.
QString khz(int hz);
/// "-26 dB is 0.0501 of the amplitude, 0.00251 of the power, 4.3 bits under": the hint on every level.
QString in_other_units(double db);
/// 0:41.08
QString clock(double seconds, int decimals = 2);

}  // namespace heathmist::app
