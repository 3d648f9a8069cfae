// Long-term spectra of master, return and residual on one plate.
#pragma once
#include "app/plots/frequency_plate.hpp"
#include "core/measure/spectrum.hpp"

namespace heathmist::app {

struct SpectraShown {
  SpectrumLine master, ret, residual;            ///< the same frequencies in all
  SpectrumLine ret_relative, residual_relative;  ///< dB against the master
  bool logarithmic = true;
  bool relative = false;  ///< the relative lines are drawn, and no master
  SpectrumLine floor;     ///< of the route; may be empty
};

class SpectrumPlate : public FrequencyPlate {
  Q_OBJECT

 public:
  explicit SpectrumPlate(QWidget* parent = nullptr);
  void show_spectra(const SpectraShown& shown);
  QString csv() const override;
  QString read_out(double hz) const override;  ///< "2.83 kHz  −63.1  −63.4  −75.0  11.9 dB under"

 protected:
  void recolour() override;
  void fit_levels() override;

 private:
  SpectraShown shown_;
  QCPGraph *bottom_, *master_, *ret_, *residual_, *floor_;
};

}  // namespace heathmist::app
