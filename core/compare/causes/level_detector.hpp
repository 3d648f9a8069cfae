// What a compressor measures the level with: a rectifier, and a follower with an attack and a release.
#pragma once
#include <span>
#include <vector>

#include "core/compare/causes/excerpt.hpp"

namespace heathmist::causes {

/// Follows up with one time constant and down with another (McNally, J. Audio Eng. Soc. 32, 1984, section 1): the
/// magnitude or the square of each sample, of the louder channel or of the channels' mean, or the decibels of the
/// greatest sample of each piece.
struct LevelDetector {
  enum class Of { magnitude, square, decibels } of = Of::decibels;
  bool of_mean = false;
  double attack_s = 0, release_s = 0.1;
};

struct DetectorTimes {
  double attack_s = 0, release_s = 0;
};

/// By what part of the way a follower moves in `every_s`.
double step_of(double time_s, double every_s);

/// The programme as a detector rectifies it, sample by sample; `of` is magnitude or square. Levels are dBFS of the
/// greatest |sample|.
class Rectified {
 public:
  Rectified(const Excerpt& excerpt, const Planar& model, LevelDetector::Of of, bool of_mean);
  /// The level of each piece by each of these times: its mean over the piece weighed by the model's energy, as that
  /// weighs in the piece's gain. Eight go side by side: one alone waits for itself.
  std::vector<std::vector<double>> by_pieces(int64_t piece, std::span<const DetectorTimes> times) const;
  std::vector<float> by_samples(const DetectorTimes& times) const;

 private:
  float start() const;
  double decibels(double level) const;
  double rate_hz_;
  bool square_;
  std::vector<float> values_, power_;
};

}  // namespace heathmist::causes
