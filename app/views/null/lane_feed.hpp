// What the lanes show of a visible range: from the overviews, or from the samples where the zoom is finer.
#pragma once
#include "app/model/trial_runner.hpp"
#include "app/plates/lanes_plate.hpp"

namespace heathmist::app {

class LaneFeed {
 public:
  void set_trial(std::shared_ptr<const TrialResult> trial);
  /// The content of one lane over a range of master time.
  LaneContent content(Lane lane, double from_s, double to_s, int columns);
  double length_s() const;

 private:
  std::vector<OutlineBin> outline(Lane lane, double first, double frames, int columns);
  std::vector<OutlineBin> from_samples(Lane lane, double first, double frames, int columns);
  std::shared_ptr<const TrialResult> trial_;
  std::array<std::vector<float>, 3> lines_;  // short-term loudness, one value every 100 ms
  std::array<QString, 3> levels_;
  std::unique_ptr<Reader> master_, ret_;
};

}  // namespace heathmist::app
