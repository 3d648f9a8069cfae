// Where what is left lies: in octaves, and over time.
#pragma once
#include "core/compare/causes/cause.hpp"
#include "core/compare/causes/excerpt.hpp"

namespace heathmist::causes {

/// Levels against the master of what a model leaves.
struct LeftWhere {
  std::vector<double> by_octave_db, over_time_db;
};

/// The same bands and moments for every model of one excerpt.
class WhereItLies {
 public:
  explicit WhereItLies(const Excerpt& excerpt);
  LeftWhere of(const Planar& model) const;
  /// Fills a cause's by_octave and over_time.
  void tell(Cause& cause, const LeftWhere& before, const LeftWhere& after) const;

 private:
  /// Mean squares of a sound of the excerpt.
  struct Powers {
    std::vector<double> by_octave, over_time;
  };
  template <class Sound>
  Powers powers_of(Sound sound) const;

  const Excerpt& e_;
  int64_t piece_ = 1;             // frames of a moment
  std::vector<double> octaves_;   // middles, in Hz
  std::vector<int64_t> moments_;  // places that they start at
  Powers master_{};
};

}  // namespace heathmist::causes
