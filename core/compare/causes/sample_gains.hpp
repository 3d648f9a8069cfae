// What a law of the level makes of each sample.
#pragma once
#include <memory>
#include <vector>

#include "core/compare/causes/level_law.hpp"

namespace heathmist::causes {

/// Of pieces: 1 where a detector follows what it has heard; before them, at the beginning of a stretch, it holds what
/// nobody knows.
std::vector<uint8_t> heard_by(const Excerpt& excerpt, const DynamicsTrace& trace, const LevelDetector& detector);

/// The gain of every place of the excerpt: what the law makes of the detector's level there. That is brought to the
/// gain that each piece has where a stretch begins, whose detector held what nobody knows, where the law is not that of
/// nearly all of the gain, and where it is hardly off: more has other causes. Where a detector has an attack the gain
/// is kept of every fourth place, and straight between these.
class SampleGains {
 public:
  SampleGains(const Excerpt& excerpt, const Planar& model, const DynamicsTrace& trace, const LevelLaw& law);
  double at(int64_t place) const { return between(gains_, place); }
  /// What the law makes by itself, brought to nothing else.
  double of_law_at(int64_t place) const { return between(of_law_, place); }
  /// The level that the gain is a law of; none where it is that of pieces.
  const std::shared_ptr<const LevelCourse>& level() const { return level_; }

 private:
  double between(const std::vector<float>& gains, int64_t place) const;

  std::shared_ptr<const LevelCourse> level_{};
  int64_t every_;
  std::vector<float> gains_, of_law_;
};

}  // namespace heathmist::causes
