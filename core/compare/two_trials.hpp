// Two returns of one master beside each other: which of them leaves more, where, and for what causes.
#pragma once
#include <string>

#include "core/compare/null.hpp"

namespace heathmist {

/// columns x bands of dB: by how much more is left of the first than of the second; what is no number is not known in
/// one of them. On the columns and bands of the first.
struct DepthDifference {
  double first_s = 0, column_s = 0;  ///< in the master's time
  std::vector<double> band_edges_hz;
  std::vector<float> db;
  int bands() const { return int(band_edges_hz.size()) - 1; }
};

/// Levels under -120 dB against the master count as -120: nothing left is nothing left.
DepthDifference depth_difference(const DepthCells& first, const DepthCells& second);

/// What a cause takes out of either residual, in dB; nothing: it is not among that one's causes.
struct CauseOfTwo {
  std::string label;  ///< cause_label()
  std::optional<double> first_db, second_db;
};

/// All causes of both beyond the fit's own, what takes out most of either first.
std::vector<CauseOfTwo> causes_of_two(const NullReport& first, const NullReport& second);

/// The third octaves in which the residuals' levels lie farthest apart, as one band: from and to in Hz, and the
/// first's mean level over the second's there in dB. Nothing where they are within 1 dB everywhere.
struct FarthestApart {
  double low_hz = 0, high_hz = 0, db = 0;
  bool nearly_all = false;  ///< of the third octaves that are known
};
std::optional<FarthestApart> farthest_apart(const ResidualSums& first, const ResidualSums& second);

/// One sentence on both, and one on where; empty where there is nothing to add.
struct VerdictOfTwo {
  std::string text, detail;
};
/// `first_name` and `second_name` as they are called in it.
VerdictOfTwo verdict_of_two(const NullReport& first, const NullReport& second, const std::string& first_name,
                            const std::string& second_name);

}  // namespace heathmist
