// What a compressor measures the level with: a rectifier, and a follower with an attack and a release.
#pragma once
#include <span>
#include <vector>

#include "core/compare/causes/excerpt.hpp"

namespace heathmist::causes {

/// Follows up with one time constant and down with another (McNally, J. Audio Eng. Soc. 32, 1984, section 1): the
/// magnitude or the square of each sample, of the louder channel or of the channels' mean, or the decibels of the
/// greatest sample of each piece. What stands before another cause hears the master, and what stands behind it the
/// model.
struct LevelDetector {
  enum class Of { magnitude, square, decibels } of = Of::decibels;
  bool of_mean = false, of_master = false;
  double attack_s = 0, release_s = 0.1;
};

struct DetectorTimes {
  double attack_s = 0, release_s = 0;
};

/// A detected level over the places of an excerpt, dBFS: of every fourth of them.
struct LevelCourse {
  static constexpr int64_t every = 4;
  std::vector<float> dbfs{};
  double at(int64_t place) const { return double(dbfs[size_t(place / every)]); }
};

/// By what part of the way a follower moves in `every_s`.
double step_of(double time_s, double every_s);

/// The programme as a detector of magnitudes or squares rectifies it, sample by sample; its times are not looked at.
/// Levels are dBFS of the greatest |sample|.
class Rectified {
 public:
  Rectified(const Excerpt& excerpt, const Planar& model, const LevelDetector& detector);
  /// The level of each piece by each of these times: its mean over the piece weighed by the model's energy, as that
  /// weighs in the piece's gain. Many cost little more than one.
  std::vector<std::vector<float>> by_pieces(int64_t piece, std::span<const DetectorTimes> times) const;
  std::vector<float> by_samples(const DetectorTimes& times) const;

 private:
  float start() const;
  float decibels(float level) const;
  double rate_hz_;
  bool square_;
  std::vector<float> values_, power_;
};

}  // namespace heathmist::causes
