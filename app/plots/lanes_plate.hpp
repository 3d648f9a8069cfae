// Three lanes on one time axis: master, return, residual. Each draws its outline faintly and its short-term loudness
// over it.
#pragma once
#include <array>

#include "app/plots/plate.hpp"
#include "core/measure/overview.hpp"

namespace heathmist::app {

/// What one lane shows of the visible range.
struct LaneContent {
  std::vector<OutlineBin> columns;  ///< evenly spread over [from_s, to_s)
  double from_s = 0, to_s = 0;
  std::vector<double> line_s, line_lufs;  ///< short-term loudness
  QString level;                          ///< under the lane's name
};
enum class Lane { master, ret, residual };

class LanesPlate : public Plate {
  Q_OBJECT

 public:
  explicit LanesPlate(QWidget* parent = nullptr);
  /// The whole length, in seconds; resets zoom and selection.
  void set_length(double seconds);
  void show_lane(Lane lane, const LaneContent& content);
  void set_gain_of(Lane lane, double scale);  ///< vertical magnification of a lane's outline
  void set_range(double from_s, double to_s);
  double from_s() const;
  double to_s() const;
  int columns() const;  ///< pixels across
  void set_sample_rate(double rate_hz) { rate_hz_ = rate_hz; }
  void set_playhead(double at_s);
  void set_selection(std::optional<std::pair<double, double>> seconds);
  std::optional<std::pair<double, double>> selection() const { return selection_; }
  /// Where something is noted, counted from 1: a spot (both the same) or a stretch.
  void set_marks(const std::vector<std::pair<double, double>>& seconds);
  void set_heard(std::optional<Lane> lane);  ///< the lane whose name stands out; none: what is heard is in no lane
  void zoom(double factor, double about_s);
  QString csv() const override;
  QString in_words() const override;

 signals:
  void range_changed(double from_s, double to_s);
  void clicked(double at_s);
  void hovered(double at_s);
  void selected(double from_s, double to_s);
  void return_dragged(
      double samples);  ///< Ctrl and drag on the return's lane: by how much it was moved, later positive
  void selection_cleared();

 protected:
  void recolour() override;
  void wheelEvent(QWheelEvent* event) override;
  void mousePressEvent(QMouseEvent* event) override;
  void mouseMoveEvent(QMouseEvent* event) override;
  void mouseReleaseEvent(QMouseEvent* event) override;
  void keyPressEvent(QKeyEvent* event) override;
  void leaveEvent(QEvent* event) override;

 private:
  struct LaneParts {
    QCPAxisRect* rect;
    QCPGraph *low, *high, *line;
    QCPItemText *name, *level;
    QCPItemRect* selection;
    QCPItemLine *playhead, *cursor;
    LaneContent content;
    double scale = 1;
  };
  struct MarkParts {
    std::array<QCPItemLine*, 3> lines;  // through each lane
    QCPItemLine* reach;                 // of a stretch, along the top
    QCPItemText* number;
  };
  LaneParts make_lane(int row);
  MarkParts make_mark(int number);
  QCPItemLine* make_line(const LaneParts& lane);
  void place_mark(const MarkParts& mark, double from_s, double to_s);
  double seconds_at(double x) const;
  void show_shifted(double by_s);
  void place_line(QCPItemLine* LaneParts::*line, double at_s, bool visible);

  std::array<LaneParts, 3> lanes_;
  std::vector<MarkParts> marks_;
  double length_s_ = 1, playhead_s_ = 0;
  std::optional<std::pair<double, double>> selection_;
  std::optional<Lane> heard_ = Lane::master;
  enum class Drag { none, pan, select, align } drag_ = Drag::none;
  double drag_from_s_ = 0;
  QPointF pressed_;
  bool moved_ = false;
  double rate_hz_ = 48000, shifted_s_ = 0;
};

}  // namespace heathmist::app
