// What the lanes show of a visible range: from the overviews at once; where the zoom is finer, from the samples as soon
// as they have been read, off the interface thread.
#pragma once
#include "app/model/queue.hpp"
#include "app/model/trial_results.hpp"
#include "app/plots/lanes_plate.hpp"

namespace heathmist::app {

class LaneFeed : public QObject {
  Q_OBJECT

 public:
  explicit LaneFeed(Queue& queue, QObject* parent = nullptr);
  void set_trial(std::shared_ptr<const TrialResult> trial);
  /// The content of one lane over a range of master time; asks for the samples where the zoom wants them.
  LaneContent content(Lane lane, double from_s, double to_s, int columns);
  double length_s() const;

 signals:
  void refined();  ///< the samples that were asked for have come

 private:
  struct Fine {
    double from_s = 0, to_s = 0;
    std::array<std::vector<OutlineBin>, 3> lanes;
  };
  static Fine read_samples(const TrialResult& trial, double from_s, double to_s, int columns);
  void ask(double from_s, double to_s, int columns);
  std::vector<OutlineBin> outline(Lane lane, double first, double frames, int columns) const;

  Queue& queue_;
  std::shared_ptr<const TrialResult> trial_;
  std::array<std::vector<float>, 3> lines_;  // short-term loudness, one value every 100 ms
  std::array<QString, 3> levels_;
  Fine fine_;
  std::pair<double, double> asked_;
};

}  // namespace heathmist::app
