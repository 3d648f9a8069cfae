// What goes on over time besides the lanes: the gain between master and return, and the bits that are used.
#pragma once
#include "app/plots/plate.hpp"
#include "core/compare/dynamics.hpp"
#include "core/measure/word_length.hpp"

namespace heathmist::app {

class CoursePlate : public Plate {
  Q_OBJECT

 public:
  explicit CoursePlate(QWidget* parent = nullptr);
  /// Either word study may be missing. The return's bits stand on its own time axis.
  void show_course(const GainTrace& gain, const std::optional<WordStudy>& master, const std::optional<WordStudy>& ret);
  void set_range(double from_s, double to_s);
  QString csv() const override;
  QString read_out(double at_s) const;

 protected:
  void recolour() override;
  void mouseMoveEvent(QMouseEvent* event) override;
  void leaveEvent(QEvent* event) override;

 private:
  GainTrace gain_;
  std::optional<WordStudy> master_, ret_;
  QCPAxisRect* below_;
  QCPGraph *trace_, *master_bits_, *return_bits_;
  QCPItemText *trace_name_, *bits_name_, *text_;
};

}  // namespace heathmist::app
