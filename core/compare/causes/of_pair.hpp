// The whole budget of a pair: what the fit took out, what breaks, and what of the rest is explained away.
#pragma once
#include "core/compare/causes/budget.hpp"
#include "core/compare/continuity.hpp"
#include "core/compare/null.hpp"

namespace heathmist {

struct PairBudget {
  std::vector<Cause> causes;
  Layers layers;
};

/// `report` holds the fit and its sums; `breaks` where the return does not run through. Sentences are filled in.
PairBudget causes_of_pair(const Comparable& pair, const NullReport& report, const Continuity& breaks,
                          const BudgetFacts& facts, const Job& job = {});

/// The word length that all samples of a return keep to: as the survey says for integers, tried for floating point.
/// Nothing where it is longer than 24 bits, or there is nothing but silence.
std::optional<int> word_length_of(const Clip& ret, const Levels& levels);
/// The shortest one, of 6 to 20 bits, whose steps samples lie near, as they do when they are dithered again at 24 bits.
std::optional<int> word_length_beneath(const Clip& clip);

/// The one word, by the causes (docs/numerics.md, "Kinds by causes").
Kind kind_by_causes(const std::vector<Cause>& causes, const NullReport& report);
/// Filters, the end of the band and gains of channels are all that was found, and much is left: something did more than
/// they can.
bool is_more_than_linear(const std::vector<Cause>& causes, const NullReport& report);

namespace causes {
/// One plain sentence on a cause, without levels before and after.
std::string sentence_of(const Cause& cause);
}  // namespace causes

}  // namespace heathmist
