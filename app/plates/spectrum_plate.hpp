// Long-term spectra of master, return and residual on one plate.
#pragma once
#include "app/plates/plate.hpp"
#include "core/measure/spectrum.hpp"

namespace heathmist::app {

struct SpectraShown {
  SpectrumLine master, ret, residual;            ///< the same frequencies in all
  SpectrumLine ret_relative, residual_relative;  ///< dB against the master
  bool logarithmic = true;
  bool relative = false;  ///< the relative lines are drawn, and no master
};

class SpectrumPlate : public Plate {
  Q_OBJECT

 public:
  explicit SpectrumPlate(QWidget* parent = nullptr);
  void show_spectra(const SpectraShown& shown);
  QString csv() const override;
  QString read_out(double hz) const;  ///< "2.83 kHz  −63.1  −63.4  −75.0  11.9 dB under"

 protected:
  void recolour() override;
  void mouseMoveEvent(QMouseEvent* event) override;
  void leaveEvent(QEvent* event) override;
  void resizeEvent(QResizeEvent* event) override;
  void wheelEvent(QWheelEvent* event) override;
  void keyPressEvent(QKeyEvent* event) override;
  void mouseDoubleClickEvent(QMouseEvent* event) override;

 private:
  void fit_levels();
  void place_cursor(double hz);
  size_t nearest(double hz) const;
  SpectraShown shown_;
  QCPGraph *floor_, *master_, *ret_, *residual_;
  QCPItemLine* cursor_;
  QCPItemText* text_;
  QSharedPointer<HertzTicker> ticker_;
  double cursor_hz_ = 0;
};

}  // namespace heathmist::app
