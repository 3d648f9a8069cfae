// The linear path from master to return over frequency: magnitude above; phase, group delay or coherence below.
#pragma once
#include "app/plots/frequency_plate.hpp"
#include "core/compare/path.hpp"

namespace heathmist::app {

class PathPlate : public FrequencyPlate {
  Q_OBJECT

 public:
  enum class Lower { phase, group_delay, coherence };
  explicit PathPlate(QWidget* parent = nullptr);
  void show_path(const std::vector<PathBand>& bands);
  void set_lower(Lower lower);
  QString csv() const override;
  QString unit() const override { return name_->text(); }
  QString read_out(double hz) const override;

 protected:
  void recolour() override;
  void fit_levels() override;

 private:
  double lower_of(const PathBand& band) const;
  std::vector<PathBand> bands_;
  Lower lower_ = Lower::phase;
  QCPAxisRect* below_;
  QCPGraph *magnitude_, *above_, *under_, *second_;
  QCPItemText *name_, *lower_name_;
};

}  // namespace heathmist::app
