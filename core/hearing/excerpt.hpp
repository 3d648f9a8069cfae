// A stretch of a master as it is heard in a blind test, and what is brought to its loudness.
#pragma once
#include <filesystem>

#include "core/audio/clip.hpp"

namespace heathmist {

inline constexpr double least_excerpt_s = 0.5, longest_excerpt_s = 30;
inline constexpr double equal_within_lu = 0.05;
inline constexpr double full_scale = 0.999;  ///< of a sample; what lies between them is the converter's headroom

struct Excerpt {
  Planar sound;       ///< two channels
  int64_t first = 0;  ///< of the master
  double lufs = 0;    ///< integrated
  int64_t frames() const { return sound.frames(); }
};
/// Throws InputError with a sentence where it is too short, too long, outside, or silent.
Excerpt excerpt_of(const Clip& master, double from_s, double until_s, double longest_s = longest_excerpt_s);

/// Left and right; a single channel is both.
Planar two_sided(const Planar& sound);
double highest_sample(const Planar& sound);
void turn(Planar& sound, double gain);

struct LoudnessMatch {
  double gain_db = 0, lufs = 0;  ///< what it was turned by, and is now
};
/// Turns a sound until its integrated loudness is `to_lufs`, gates and all. Throws InputError that names `path` where
/// it is silent, or can't be brought within equal_within_lu.
LoudnessMatch match_loudness(Planar& sound, int rate_hz, const std::filesystem::path& path, double to_lufs);

}  // namespace heathmist
