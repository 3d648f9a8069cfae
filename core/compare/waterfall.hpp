// The budget as it is drawn: from the residual down to the remainder, one step a cause.
#pragma once
#include <string>
#include <vector>

#include "core/compare/null.hpp"

namespace heathmist {

/// From the level that was left before a cause to the level that is left after it, in dBr (against the master).
struct BudgetStep {
  std::string label;  ///< two words at most
  std::string text;   ///< the cause's sentence
  double from_db = 0, to_db = 0;
  bool cause = true;                             ///< else the residual (from nothing up) or the remainder
  std::optional<double> from_s{};                ///< where the cause begins, in the master's time, if it has a place
  CausePart part{};                              ///< what is heard of it (audition.hpp)
  std::vector<LeftAt> by_octave{}, over_time{};  ///< of a cause, where that is known
};

/// Whether moments lie between these of which nothing is known.
bool has_gaps(const std::vector<LeftAt>& over_time);

constexpr double budget_bottom_db = -140;  ///< less than that is drawn as nothing

/// The residual, every cause beyond the fit's own, and the remainder; empty where nothing is known of causes, or
/// nothing is left over to explain.
std::vector<BudgetStep> budget_steps(const NullReport& report);

/// A cause in two words at most: "channel delay", "EQ".
std::string cause_label(const std::string& code);

/// The causes that take out most, greatest first, by their labels: "fade, EQ, word length". Empty where none is known.
std::string top_causes(const NullReport& report, size_t most = 3);

}  // namespace heathmist
