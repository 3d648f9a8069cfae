// Time by frequency: brightest where the residual comes closest to the master, or stands out of what it masks. A drag
// selects a part of both; the wheel zooms time, with Shift frequency.
#pragma once
#include "app/plots/plate.hpp"
#include "core/compare/depth.hpp"
#include "core/compare/two_trials.hpp"

namespace heathmist::app {

class DepthPlate : public Plate {
  Q_OBJECT

 public:
  explicit DepthPlate(QWidget* parent = nullptr);
  void show_cells(const DepthCells& cells);
  void show_mask(const MaskMap& mask);
  /// Of two trials; bright and dark are two hues then, and what is alike has the ground's.
  void show_difference(const DepthDifference& difference);
  void show_nothing(const QString& words);
  /// Draws a frame round a part of the map: what is selected.
  void set_frame(std::optional<std::pair<double, double>> seconds, std::optional<std::pair<double, double>> hz);
  void set_range(double from_s, double to_s);
  double from_s() const { return xAxis->range().lower; }
  double to_s() const { return xAxis->range().upper; }
  void set_bands(const QCPRange& rows);
  void set_playhead(double at_s);
  QString csv() const override;
  QString in_words() const override;

 signals:
  void clicked(double at_s, double low_hz, double high_hz);  ///< a cell
  void selected(double from_s, double to_s, double low_hz, double high_hz);
  void cleared();                                 ///< nothing is to be selected
  void bands_changed(const QCPRange& rows);       ///< that are seen, by hand
  void range_wanted(double from_s, double to_s);  ///< as zoomed or moved by hand: set_range() shows it

 protected:
  void recolour() override;
  void mouseMoveEvent(QMouseEvent* event) override;
  void mousePressEvent(QMouseEvent* event) override;
  void mouseReleaseEvent(QMouseEvent* event) override;
  void mouseDoubleClickEvent(QMouseEvent* event) override;
  void wheelEvent(QWheelEvent* event) override;
  void keyPressEvent(QKeyEvent* event) override;
  void leaveEvent(QEvent* event) override;
  void resizeEvent(QResizeEvent* event) override;

 private:
  void show_values();
  void let_go();
  void colour_map();
  QString words_of(double db) const;
  void tick_bands();
  void show_scale(bool shown);
  int columns_together() const;
  void draw_columns();
  void redraw_columns();
  double row_of(double hz) const;
  std::pair<double, double> hz_of(int row) const { return {edges_hz_[size_t(row)], edges_hz_[size_t(row + 1)]}; }
  int column_at(double x) const;
  int row_at(double y) const;
  bool holds(int column, int row) const;
  void read_out(int column, int row);
  void step(int columns, int rows, bool extend);
  void frame_cells(std::pair<int, int> a, std::pair<int, int> b);
  void take_cells();
  void draw_frame();
  void draw_drag(const QPointF& to);
  void want(double from_s, double to_s);
  void zoom_time(double factor, double about_s);
  void zoom_bands(double factor, double about_row);
  void show_whole();
  QCPColorMap* map_;
  QCPColorScale* scale_;
  QCPItemLine* playhead_;
  QCPItemText* text_;
  QSharedPointer<QCPAxisTickerText> bands_;
  QSharedPointer<ClockTicker> clock_{new ClockTicker};
  QCPItemRect *halo_, *frame_;
  std::optional<std::pair<double, double>> framed_s_, framed_hz_;
  std::optional<QPointF> pressed_;
  bool dragging_ = false;
  std::optional<std::pair<int, int>> cell_, extended_from_;  // column and row: that is read out, that it is framed from
  enum What {
    of_depth,
    of_mask,
    of_difference
  } what_ = of_depth;  ///< residual against master, over mask, against another's
  double first_s_ = 0, column_s_ = 0;
  int shown_bands_ = 0;
  int together_ = 1;  ///< columns that are drawn as one
  std::vector<double> edges_hz_;
  std::vector<float> db_;
  int bands_count() const { return std::max(0, int(edges_hz_.size()) - 1); }
  int columns_count() const { return bands_count() ? int(db_.size()) / bands_count() : 0; }
};

}  // namespace heathmist::app
