// Loudness over time: momentary faintly, short-term over it, gates, the target's band, and where true peaks pass the
// limit.
#pragma once
#include "app/plots/plate.hpp"
#include "core/measure/meter.hpp"

namespace heathmist::app {

struct LoudnessLine {
  QString name;
  std::shared_ptr<const Loudness> loudness;
  std::vector<float> momentary, short_term;  ///< at the end of every 100 ms, LUFS
  bool is_master = true;
};

class LoudnessPlate : public Plate {
  Q_OBJECT

 public:
  explicit LoudnessPlate(QWidget* parent = nullptr);
  /// Up to four lines are told apart.
  void show_lines(std::vector<LoudnessLine> lines);
  void set_target(std::optional<double> target_lufs, double tolerance_lu);
  void set_unit(const QString& unit);
  void set_selection(std::optional<std::pair<double, double>> seconds);
  QString read_out(double at_s) const;
  QString csv() const override;
  void fit();

 signals:
  void selected(std::optional<std::pair<double, double>> seconds);  ///< dragged with Shift; nothing: let go
  void seek(double at_s);

 protected:
  void recolour() override;
  void mousePressEvent(QMouseEvent* event) override;
  void mouseMoveEvent(QMouseEvent* event) override;
  void mouseReleaseEvent(QMouseEvent* event) override;
  void mouseDoubleClickEvent(QMouseEvent*) override { fit(); }
  void keyPressEvent(QKeyEvent* event) override;
  void leaveEvent(QEvent* event) override;

 private:
  void draw();
  double second_at(double x) const;
  std::vector<LoudnessLine> lines_;
  std::optional<double> target_lufs_, press_s_;
  double tolerance_lu_ = 0;
  QString unit_ = "LUFS";
  std::optional<std::pair<double, double>> selection_;
  QCPItemRect *band_, *chosen_;
  QCPItemText *text_, *key_;
};

}  // namespace heathmist::app
