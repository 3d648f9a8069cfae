// The stereo picture of a moment: each dot is a sample, what both sides share upwards, what differs sideways.
#pragma once
#include <QWidget>
#include <array>
#include <optional>
#include <vector>

namespace heathmist::app {

class StereoPlate : public QWidget {
  Q_OBJECT

 public:
  explicit StereoPlate(QWidget* parent = nullptr);
  /// Left and right, full scale = 1.
  void show_cloud(std::vector<std::array<float, 2>> cloud, std::optional<double> correlation);
  QSize sizeHint() const override { return {200, 200}; }

 protected:
  void paintEvent(QPaintEvent*) override;

 private:
  std::vector<std::array<float, 2>> cloud_;
  std::optional<double> correlation_;
};

}  // namespace heathmist::app
