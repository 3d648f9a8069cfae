// Spectrograms of several clips, stacked or side by side, on one time axis and one scale of levels.
#pragma once
#include <memory>

#include "app/plots/plate.hpp"
#include "core/measure/spectrogram.hpp"

namespace heathmist::app {

struct NamedSpectrogram {
  QString name;
  std::shared_ptr<const Spectrogram> cells;
};

class SpectrogramPlate : public Plate {
  Q_OBJECT

 public:
  explicit SpectrogramPlate(QWidget* parent = nullptr);
  void show_cells(const std::vector<NamedSpectrogram>& clips);
  /// The whole length in s; resets the range.
  void set_length(double seconds);
  /// Clips beside each other instead of on top of each other.
  void set_side_by_side(bool beside);
  /// The frequencies that are in view; none: all of them.
  std::optional<std::pair<double, double>> band() const { return band_; }
  void set_levels(double low_db, double high_db);
  void set_playhead(double at_s);
  double from_s() const { return xAxis->range().lower; }
  double to_s() const { return xAxis->range().upper; }
  bool has_cells() const { return strips_.front().shown.cells != nullptr; }
  int columns() const;  ///< pixels across
  int rows() const;     ///< pixels up, of each clip
  QString csv() const override;
  QString in_words() const override;
  QString read_out(size_t clip, double at_s, double row) const;

 signals:
  void range_changed(double from_s, double to_s);
  void clicked(double at_s);
  void band_selected(double low_hz, double high_hz);  ///< Shift and drag upwards

 protected:
  void recolour() override;
  void wheelEvent(QWheelEvent* event) override;
  void mousePressEvent(QMouseEvent* event) override;
  void mouseMoveEvent(QMouseEvent* event) override;
  void mouseReleaseEvent(QMouseEvent* event) override;
  void mouseDoubleClickEvent(QMouseEvent* event) override;
  void keyPressEvent(QKeyEvent* event) override;
  void leaveEvent(QEvent* event) override;

 private:
  struct Strip {
    QCPAxisRect* rect;
    QCPColorMap* map;
    QCPItemText* name;
    QCPItemLine* playhead;
    QSharedPointer<QCPAxisTickerText> hertz;
    NamedSpectrogram shown;
  };
  Strip make_strip(int place);
  void drop_strips(size_t left);
  void look_band(const Strip& strip, double y, double factor);
  void fill(Strip& strip);
  void look(double from_s, double to_s);
  const Strip* strip_at(const QPointF& place) const;
  double hz_at(const Strip& strip, double y) const;
  std::vector<Strip> strips_;
  QSharedPointer<ClockTicker> clock_{new ClockTicker};
  QCPItemText* text_ = nullptr;
  double length_s_ = 1, low_db_ = -120, high_db_ = 0;
  std::optional<std::pair<double, double>> dragged_;  // from: s and pixels across
  std::optional<double> band_from_hz_;
  std::optional<std::pair<double, double>> band_;
  bool moved_ = false, beside_ = false;
};

}  // namespace heathmist::app
