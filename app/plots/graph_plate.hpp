// Curves and points over any two quantities: true peak against gain, depth against size.
#pragma once
#include "app/plots/plate.hpp"

namespace heathmist::app {

struct Series {
  QString name;
  std::vector<double> xs, ys;
  std::vector<QString> labels{};  ///< of the points, beside them; none: no names
  QColor ink{};
  Qt::PenStyle style = Qt::SolidLine;
  bool joined = true;            ///< by a line; else points alone
  bool marked = true;            ///< points show where they were read
  std::vector<double> errors{};  ///< either way of ys; none: not drawn
};

class GraphPlate : public Plate {
  Q_OBJECT

 public:
  GraphPlate(const QString& title, const QString& words, QWidget* parent = nullptr);
  void set_axes(const QString& x, const QString& y);
  /// Colours come with the series: `source` is asked again when the theme changes. `limit`: a level not to pass.
  void show_series(const std::function<std::vector<Series>()>& source, std::optional<double> limit = {});
  /// Where the names of the series stand: a corner that stays free.
  void set_names_at(Qt::Alignment corner) {
    auto* layout = axisRect()->insetLayout();
    layout->setInsetAlignment(layout->elementCount() - 1, corner);
  }
  /// In one row, above the curves.
  void set_names_in_a_row() {
    names_->setFillOrder(QCPLayoutGrid::foColumnsFirst);
    set_names_at(Qt::AlignHCenter | Qt::AlignTop);
    room_above_ = 0.4;
  }
  void fit();
  QString csv() const override;
  /// Of every curve the point nearest along x, and of single points the nearest; coordinates of the axes.
  QString read_out(double x, double y) const;

 protected:
  void recolour() override;
  void mouseMoveEvent(QMouseEvent* event) override;
  void mouseDoubleClickEvent(QMouseEvent* event) override;
  void keyPressEvent(QKeyEvent* event) override;
  void leaveEvent(QEvent* event) override;

 private:
  struct Point {
    const Series* of = nullptr;
    size_t at = 0;
  };
  std::vector<Point> points_at(double x, double y) const;
  void draw();
  std::function<std::vector<Series>()> source_;
  std::vector<Series> series_;
  std::optional<double> limit_;
  QCPItemStraightLine* limit_line_;
  QCPItemText* text_;
  QCPLegend* names_;
  double room_above_ = 0.2;  // of the span of all curves
};

}  // namespace heathmist::app
