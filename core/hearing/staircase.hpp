// An adaptive staircase: the difference gets smaller while it is heard and greater when it is not, and so finds the
// one that is heard so often (transformed up-down method: Levitt, JASA 49, 1971).
//
// Its rungs are numbered from the greatest difference, 0, to the least. A course is made of the answers alone, so that
// taking one back is leaving it out.
#pragma once
#include <cstddef>
#include <optional>
#include <span>
#include <vector>

namespace heathmist {

struct StaircaseRule {
  int right_to_go_down = 2;  ///< 1, 2 or 3 in a row: finds 50, 70.7 or 79.4 %
  size_t rungs = 20, start = 0;
  std::vector<size_t> strides{8, 4, 2, 1};  ///< rungs at a time; the next one after every second reversal
  int reversals = 8;                        ///< at the last stride, until it is done; an even number
  size_t most_answers = 120;                ///< it ends there in any case
  bool operator==(const StaircaseRule&) const = default;
};
/// The share of right answers that a rule settles at: 0.5^(1 / right_to_go_down).
double target_share(const StaircaseRule& rule);

struct StaircaseCourse {
  std::vector<size_t> rungs;      ///< of each answer, and of the one that is next
  std::vector<size_t> reversals;  ///< answers after which the direction changed
  bool done = false;
  std::optional<double> rung;  ///< mean of the reversals at the last stride; none: it is not done
  double spread = 0;           ///< standard deviation of them, rungs
  /// It is done, and at least half of those reversals lie at an end, or it ran against it: what is sought lies there or
  /// beyond.
  bool at_easy_end = false, at_hard_end = false;
};
/// Answers behind its end do not count. Throws std::invalid_argument for a rule that is none.
StaircaseCourse staircase(const StaircaseRule& rule, const std::vector<bool>& right);

/// The value at a rung, straight between the values of the rungs about it.
double value_at(std::span<const double> values, double rung);

}  // namespace heathmist
