// The spectrum of what comes in just now: its average, its peaks, and the moment.
#pragma once
#include "app/plots/frequency_plate.hpp"
#include "core/measure/live_spectrum.hpp"

namespace heathmist::app {

class LiveSpectrumPlate : public FrequencyPlate {
  Q_OBJECT

 public:
  explicit LiveSpectrumPlate(QWidget* parent = nullptr);
  void set_frequencies_of(const std::vector<float>& hz);
  /// `master`: the average of what is sent out, beside it; empty: nothing is.
  void show_lines(const LiveSpectrum::Lines& lines, const std::vector<float>& master = {});
  QString csv() const override;
  QString read_out(double hz) const override;

 protected:
  void recolour() override;
  void fit_levels() override;

 private:
  std::vector<double> hz_;
  LiveSpectrum::Lines lines_;
  std::vector<float> master_;
  QCPGraph *held_, *average_, *now_, *sent_;
};

}  // namespace heathmist::app
