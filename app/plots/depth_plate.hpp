// Time by frequency: brightest where the residual comes closest to the master, or stands out of what it masks.
#pragma once
#include "app/plots/plate.hpp"
#include "core/compare/depth.hpp"

namespace heathmist::app {

class DepthPlate : public Plate {
  Q_OBJECT

 public:
  explicit DepthPlate(QWidget* parent = nullptr);
  void show_cells(const DepthCells& cells);
  void show_mask(const MaskMap& mask);
  void show_nothing(const QString& words);
  /// Draws a frame round a part of the map: what is selected.
  void set_frame(std::optional<std::pair<double, double>> seconds, std::optional<std::pair<double, double>> hz);
  void set_range(double from_s, double to_s);
  void set_playhead(double at_s);
  QString csv() const override;

 signals:
  void clicked(double at_s, double low_hz, double high_hz);  ///< a cell

 protected:
  void recolour() override;
  void mouseMoveEvent(QMouseEvent* event) override;
  void mousePressEvent(QMouseEvent* event) override;
  void leaveEvent(QEvent* event) override;
  void resizeEvent(QResizeEvent* event) override;

 private:
  void show_values();
  void show_scale(bool shown);
  int columns_together() const;
  void draw_columns();
  void redraw_columns();
  double row_of(double hz) const;
  QCPColorMap* map_;
  QCPColorScale* scale_;
  QCPItemLine* playhead_;
  QCPItemText* text_;
  QSharedPointer<QCPAxisTickerText> bands_;
  QSharedPointer<ClockTicker> clock_{new ClockTicker};
  QCPItemRect* frame_;
  bool mask_ = false;  ///< values are residual over mask, not residual against master
  double first_s_ = 0, column_s_ = 0;
  int together_ = 1;  ///< columns that are drawn as one
  std::vector<double> edges_hz_;
  std::vector<float> db_;
  int bands_count() const { return std::max(0, int(edges_hz_.size()) - 1); }
  int columns_count() const { return bands_count() ? int(db_.size()) / bands_count() : 0; }
};

}  // namespace heathmist::app
