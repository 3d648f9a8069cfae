// What all plates over frequency share: the axis, the cursor with its read-out, zoom, pan, and a band that is selected.
#pragma once
#include <optional>

#include "app/plots/plate.hpp"

namespace heathmist::app {

class FrequencyPlate : public Plate {
  Q_OBJECT

 public:
  explicit FrequencyPlate(QWidget* parent = nullptr);
  virtual QString read_out(double hz) const = 0;
  /// What its levels are, in a corner: "dBFS".
  void set_unit(const QString& unit);
  virtual QString unit() const { return unit_name_; }
  /// What they are of, beside it: "of the selection". Nothing: of all.
  void set_scope(const QString& scope);
  QString corner() const { return unit_->text(); }
  void point_at(double hz) { place_cursor(hz); }               ///< puts the cursor there
  void set_band(std::optional<std::pair<double, double>> hz);  ///< draws the selected band

 signals:
  void band_selected(double low_hz, double high_hz);  ///< Shift and drag
  void band_cleared();                                ///< a click without Shift

 protected:
  /// Puts another axis rectangle under the first, with the same frequencies.
  QCPAxisRect* add_rect();
  void set_frequencies(const std::vector<double>& hz, bool logarithmic);
  size_t nearest(double hz) const;
  virtual void fit_levels() = 0;
  void recolour() override;
  void mousePressEvent(QMouseEvent* event) override;
  void mouseMoveEvent(QMouseEvent* event) override;
  void mouseReleaseEvent(QMouseEvent* event) override;
  void leaveEvent(QEvent* event) override;
  void resizeEvent(QResizeEvent* event) override;
  void wheelEvent(QWheelEvent* event) override;
  void keyPressEvent(QKeyEvent* event) override;
  void mouseDoubleClickEvent(QMouseEvent* event) override;
  void refresh_cursor();

 private:
  void place_cursor(double hz);
  void furnish(QCPAxisRect* rect);
  void for_each_axis(const std::function<void(QCPAxis*)>& visit);
  std::vector<double> hz_;
  QSharedPointer<HertzTicker> ticker_;
  std::vector<QCPAxisRect*> rects_;
  std::vector<QCPItemLine*> cursors_;
  std::vector<QCPItemRect*> bands_;
  QCPItemText *text_, *unit_;
  QString unit_name_, scope_;
  double cursor_hz_ = 0;
  std::optional<double> dragged_from_;
};

}  // namespace heathmist::app
