// What of a reading is drawn: the curve that was asked over the one that was rendered, and what is between them.
#pragma once
#include "app/plots/graph_plate.hpp"
#include "core/probes/read.hpp"

namespace heathmist::app {

struct NamedReading {
  QString name;
  std::shared_ptr<const ProbeReading> reading;
};

/// Two graphs over the same quantity; the second may have nothing to show.
class EnginePlots : public QWidget {
  Q_OBJECT

 public:
  explicit EnginePlots(QWidget* parent = nullptr);
  /// `others`: of the same kind, drawn softly under it.
  void show_reading(const NamedReading& reading, const std::vector<NamedReading>& others);
  void show_score(const ProbeScore& score);  ///< what is asked, before anything has come back
  void show_nothing();
  /// Closer, from here to there on the axis that both have; nothing: all of it.
  void look_at(std::optional<std::pair<double, double>> range);
  GraphPlate* upper() const { return upper_; }
  GraphPlate* lower() const { return lower_; }

 private:
  void level_below();
  void show(const QString& x, const QString& y, std::function<std::vector<Series>()> above, const QString& y_below = {},
            std::function<std::vector<Series>()> below = {});
  GraphPlate *upper_, *lower_;
};

}  // namespace heathmist::app
