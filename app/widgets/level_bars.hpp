// How loud an input is: a thin bar for each channel, the peak that is held as a line on it and as a number beside it.
#pragma once
#include <QWidget>
#include <vector>

namespace heathmist::app {

class LevelBars : public QWidget {
  Q_OBJECT

 public:
  explicit LevelBars(QWidget* parent = nullptr);
  /// Full scale = 1, a value for each channel.
  void show_levels(const std::vector<double>& peak, const std::vector<double>& held);
  void clear() { show_levels({}, {}); }
  QSize sizeHint() const override;
  QSize minimumSizeHint() const override { return sizeHint(); }
  /// What stands beside a bar: "−12.3 dBFS", "over", or a dash.
  static QString words_of(double held);

 protected:
  void paintEvent(QPaintEvent*) override;

 private:
  static constexpr double lowest_db = -72;
  std::vector<double> peak_, held_;
};

}  // namespace heathmist::app
