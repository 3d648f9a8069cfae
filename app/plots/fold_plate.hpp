// Input frequency by output frequency: where tones land, and how strong what lands there was found.
#pragma once
#include "app/plots/plate.hpp"
#include "core/probes/sweep_reading.hpp"

namespace heathmist::app {

struct FoldShown {
  QString name;
  double from_hz = 0, to_hz = 0;
  std::vector<FoldLine> lines;      ///< theory
  AliasMap map;                     ///< what was found; may be empty
  std::optional<double> tone_hz{};  ///< marked, with every place it lands at
  std::vector<double> lands_hz{};
};

class FoldPlate : public Plate {
  Q_OBJECT

 public:
  explicit FoldPlate(QWidget* parent = nullptr);
  void show_fold(const FoldShown& shown);
  QString csv() const override;
  QString in_words() const override;
  /// "27.4 kHz lands at 16.7 kHz", and the level found at the place.
  QString read_out(double in_hz, double out_hz) const;
  QString name() const { return shown_.name; }

 signals:
  void tone_chosen(double in_hz);  ///< a click

 protected:
  void recolour() override;
  void mousePressEvent(QMouseEvent* event) override;
  void mouseReleaseEvent(QMouseEvent* event) override;
  void mouseMoveEvent(QMouseEvent* event) override;
  void leaveEvent(QEvent* event) override;

 private:
  void draw();
  void draw_tone();
  FoldShown shown_;
  QCPColorMap* map_;
  QCPColorScale* scale_;
  std::vector<QCPGraph*> lines_;
  QPointF pressed_;
  QCPItemText *text_, *name_;
};

}  // namespace heathmist::app
