// The gain as a law of the level that a detector with an attack and a release sees, and what it makes of each sample.
#pragma once
#include <memory>
#include <vector>

#include "core/compare/causes/level_detector.hpp"

namespace heathmist::causes {

/// The gain from model to return in pieces of 4 ms, and the levels there. dB are dBFS of the greatest |sample| of any
/// pair.
struct DynamicsTrace {
  int64_t piece = 1;               ///< frames
  std::vector<double> gain{};      ///< that of its neighbours where the model is silent
  std::vector<double> level_db{};  ///< of the model
  std::vector<double> return_db{};
  std::vector<double> weight{};  ///< the model's energy; 0 where no gain can be told
  std::vector<double> sure{};    ///< 0 to 1: how well the gain is known, whatever the level
  double gain_db(size_t piece) const;
};
DynamicsTrace dynamics_trace(const Excerpt& excerpt, const Planar& model);

/// Mean gain over steps of the detected level: of 1 dB, or as wide as it takes for a thousandth of all pieces.
struct LevelLaw {
  std::vector<double> level_db{}, gain_db{}, weight{};
  double explained = 0;  ///< share of the gain's variance in dB that straight lines, one a step, explain
  LevelDetector detector;
};
/// Of the detector whose level explains most: of decibels by pieces first, sample by sample where those explain
/// `worth` of it.
LevelLaw best_level_law(const Excerpt& excerpt, const Planar& model, const DynamicsTrace& trace, double worth);

/// The gain of every place of the excerpt: what the law makes of the detector's level there. That is brought to the
/// gain that each piece has where a stretch begins, whose detector held what nobody knows, where the law is not that of
/// nearly all of the gain, and where it is hardly off: more has other causes. Where a detector has an attack the gain
/// is kept of every fourth place, and straight between these.
class SampleGains {
 public:
  SampleGains(const Excerpt& excerpt, const Planar& model, const DynamicsTrace& trace, const LevelLaw& law);
  double at(int64_t place) const;
  /// The level that the gain is a law of; none where it is that of pieces.
  const std::shared_ptr<const LevelCourse>& level() const { return level_; }

 private:
  std::shared_ptr<const LevelCourse> level_{};
  int64_t every_;
  std::vector<float> gains_;
};

}  // namespace heathmist::causes
