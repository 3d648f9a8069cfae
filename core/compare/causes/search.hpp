// The search for causes in an excerpt: best first, then all once more, until nothing takes out more.
#pragma once
#include "core/compare/causes/attempts.hpp"
#include "core/compare/causes/budget.hpp"
#include "core/job.hpp"

namespace heathmist::causes {

/// A cause that was found, and by what.
struct Kept {
  FoundPtr found;
  const Estimate* of;
};

/// What was tried of an excerpt, and of the outline that a long one is searched in first; for a search that comes
/// after.
struct Tries {
  Attempts whole;
  std::optional<Excerpt> outline{};
  Attempts of_outline;
};

/// The causes, in the order in which they were found. Of `facts` it takes whether the return is lossy, and its word
/// length. `tries` belongs to the excerpt.
std::vector<Kept> search_causes(const Excerpt& excerpt, const BudgetFacts& facts, Tries& tries, const Job& job);

/// The master with these causes put in, in the order in which they happen. `attempts` belongs to the excerpt.
Planar model_of(const Excerpt& excerpt, const std::vector<Kept>& causes, Attempts& attempts);

}  // namespace heathmist::causes
