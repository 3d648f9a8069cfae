// The gain as a law of the level that a detector with an attack and a release sees.
#pragma once
#include <vector>

#include "core/compare/causes/level_detector.hpp"
#include "core/compare/causes/model.hpp"

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
  std::vector<double> gain_db{};
};
DynamicsTrace dynamics_trace(const Excerpt& excerpt, const Planar& model);

/// Levels of the model as a detector of pieces' decibels sees them, dBFS.
std::vector<float> decibels_by_pieces(const DynamicsTrace& trace, double attack_s, double release_s);

/// Mean gain over steps of the detected level: of 1 dB, or as wide as it takes for a thousandth of all pieces.
struct LevelLaw {
  std::vector<double> level_db{}, gain_db{}, weight{};
  double explained = 0;  ///< share of the gain's variance in dB that straight lines, one a step, explain
  LevelDetector detector;
};
/// Of the detector whose level explains most: of decibels by pieces first, sample by sample where those explain
/// `worth` of it.
LevelLaw best_level_law(const Excerpt& excerpt, const Model& model, const DynamicsTrace& trace, double worth);

}  // namespace heathmist::causes
