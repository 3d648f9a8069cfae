// The depth map: time by frequency, brightest where the residual comes closest to the master.
#pragma once
#include "app/plates/plate.hpp"
#include "core/compare/sums.hpp"

namespace heathmist::app {

class DepthPlate : public Plate {
  Q_OBJECT

 public:
  explicit DepthPlate(QWidget* parent = nullptr);
  void show_cells(const DepthCells& cells);
  void set_range(double from_s, double to_s);
  void set_playhead(double at_s);
  QString csv() const override;

 signals:
  void clicked(double at_s);

 protected:
  void recolour() override;
  void mouseMoveEvent(QMouseEvent* event) override;
  void mousePressEvent(QMouseEvent* event) override;
  void leaveEvent(QEvent* event) override;
  void resizeEvent(QResizeEvent* event) override;

 private:
  QCPColorMap* map_;
  QCPColorScale* scale_;
  QCPItemLine* playhead_;
  QCPItemText *text_, *nothing_;
  QSharedPointer<QCPAxisTickerText> bands_;
  QSharedPointer<ClockTicker> clock_{new ClockTicker};
  DepthCells cells_;
  std::vector<float> db_;
};

}  // namespace heathmist::app
