// What every plate can do: read out under the cursor, zoom, pan, go out as PNG, SVG and CSV. A plate draws what it is
// given.
#pragma once
#include <qcustomplot.h>

#include <functional>

#include "app/widgets/saving.hpp"

namespace heathmist::app {

class Plate : public QCustomPlot {
  Q_OBJECT

 public:
  explicit Plate(QWidget* parent = nullptr);
  /// PNG or SVG, by the ending. Throws InputError, OutputRefused.
  void write_picture(const Destination& to);
  virtual QString csv() const = 0;
  QString title() const { return title_; }
  /// What is going to stand there, as long as there is nothing to show; else its accessible name.
  void set_empty(const QString& words) { empty_words_ = words; }
  /// What it shows, in a sentence for those who do not see it; read when it takes the focus. Of its own accord: of each
  /// curve that has a name, and is in sight, the highest and the lowest place.
  virtual QString in_words() const;
  QString said_instead() const { return instead_ && instead_->visible() ? instead_->text() : QString(); }

 signals:
  void menu_wanted(const QPoint& at);  ///< of the screen

 protected:
  /// Colours of axes and ground by the theme.
  void dress(QCPAxisRect* rect);
  void contextMenuEvent(QContextMenuEvent* event) override;
  void resizeEvent(QResizeEvent* event) override;
  void focusInEvent(QFocusEvent* event) override;
  /// A text in a corner of an axis rectangle: `x` from 0 (left) to 1, just below its top.
  QCPItemText* corner_text(QCPAxisRect* rect, double x, Qt::Alignment side);
  virtual void recolour() = 0;
  /// In the middle, in place of what is not there; nothing: as ever.
  void say_instead(const QString& words);
  /// Where there is nothing to show there are no scales, only what is going to stand there.
  void show_empty(bool is_empty);
  QString title_ = "plate";
  QCPItemText* instead_ = nullptr;

 private:
  void dress_instead();
  QString empty_words_;
};

/// Ticks of a time axis, as places are written (position.hpp).
class ClockTicker : public QCPAxisTicker {
 public:
  int most = 8;  ///< ticks that have room

 protected:
  double getTickStep(const QCPRange& range) override;
  QString getTickLabel(double tick, const QLocale& locale, QChar format, int precision) override;
};

/// Ticks of a frequency axis: 20 50 100 ... 20 kHz on a logarithmic scale, round ones on a linear scale; the last one
/// that has room for it has the unit.
class HertzTicker : public QCPAxisTicker {
 public:
  bool logarithmic = true;
  bool dense = true;  ///< there is room for 1 2 5, else 1 5

 protected:
  QVector<double> createTickVector(double step, const QCPRange& range) override;
  int getSubTickCount(double) override { return 0; }
  QString getTickLabel(double tick, const QLocale& locale, QChar format, int precision) override;

 private:
  double last_ = 0;
};

/// Ticks of a level axis, with a real minus sign.
class LevelTicker : public QCPAxisTicker {
 protected:
  QString getTickLabel(double tick, const QLocale& locale, QChar format, int precision) override;
  int getSubTickCount(double) override { return 0; }
};

/// Writes "2.83 kHz", "1 k" for axes.
QString hertz(double hz, bool brief);
/// Writes "250 to 640 Hz", "2.8 to 3.1 kHz": as short as a column is, the unit once where it is one.
QString band_text(double low_hz, double high_hz);

}  // namespace heathmist::app
