// The fit in a row: delay, drift, gain, polarity, map, each with its number, its nudge and its reset, and the
// residual's level.
#pragma once
#include <QFrame>
#include <QLabel>
#include <QLineEdit>
#include <QMenu>
#include <QToolButton>

#include "core/bench/document.hpp"

namespace heathmist::app {

/// One value of the fit: typed, nudged with - and + (Shift: ten times, Ctrl: a hundredth), given back with "measured".
class FitCell : public QFrame {
  Q_OBJECT

 public:
  FitCell(const QString& name, const QString& unit, double step, int decimals, QWidget* parent = nullptr);
  void show_value(double value, bool held);
  double value() const { return value_; }

 signals:
  void held(double value);
  void released();

 protected:
  void wheelEvent(QWheelEvent* event) override;
  void resizeEvent(QResizeEvent* event) override;
  bool eventFilter(QObject* watched, QEvent* event) override;

 private:
  void nudge(double direction, Qt::KeyboardModifiers modifiers);
  void fit_value();
  double value_ = 0, step_;
  int decimals_;
  QLineEdit* edit_;
  QToolButton *less_, *more_, *reset_;
};

class FitStrip : public QFrame {
  Q_OBJECT

 public:
  explicit FitStrip(QWidget* parent = nullptr);
  void show_fit(const Fit& fit, const FitHold& hold);
  void show_residual(std::optional<double> relative_db, const QString& note, bool live);
  void show_nothing();
  FitCell* delay() const { return delay_; }
  FitCell* gain() const { return gain_; }
  void set_band(std::optional<std::pair<double, double>> hz) { band_ = hz; }  ///< what "by the selected band" means
  QMenu* by_menu() const { return by_menu_; }
  QString residual_text() const { return residual_->text(); }

 signals:
  void hold_changed(const heathmist::FitHold& hold, const QString& what);
  void snap_wanted();

 private:
  void fill_by_menu();
  QFrame* choice_cell(const QString& name, QToolButton*& button, QToolButton*& reset);
  void dress();
  void fit_note();
  void resizeEvent(QResizeEvent* event) override;
  Fit fit_;
  FitHold hold_;
  FitCell *delay_, *drift_, *gain_;
  QToolButton *polarity_, *polarity_reset_, *map_, *map_reset_;
  std::optional<std::pair<double, double>> band_;
  QMenu* by_menu_;
  QToolButton* by_;
  QFrame* result_;
  QLabel *residual_name_, *residual_, *residual_note_;
};

}  // namespace heathmist::app
