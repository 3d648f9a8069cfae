// Causes that are kept together: what a search has so far, or one way in which they may lie otherwise.
#pragma once
#include <cmath>
#include <optional>
#include <string>
#include <vector>

#include "core/compare/causes/view.hpp"

namespace heathmist::causes {

inline constexpr double well_explained = 1e-6;  ///< of the master's power: no other cause is looked for beyond that
inline constexpr double worth_again_db = 0.3;   ///< that another look must take out

inline double db_of(double before, double after) { return 10 * std::log10(before / after); }

struct CauseSet {
  const Excerpt& excerpt;
  Attempts& attempts;
  std::vector<Kept> kept{};
  bool order_is_known = false;       ///< of what was kept in an outline
  Attempts::Before settled{};        ///< where those that hide one another had come apart as far as they do
  Attempts::Before hands_settled{};  ///< where a hand on the gain and a law had

  double master_share(double share) const { return share * excerpt.master_power; }
  bool keeps(const Estimate& e) const;
  /// Among `kept`; nothing where it is not.
  std::optional<size_t> place_of(const char* code) const;
  View view_without(std::optional<size_t> which) const;
  double left() const { return view_without({}).left().first; }
  /// With a gain by level as its law makes it by itself.
  CauseSet lawful() const;
  FoundPtr estimated(const Estimate& e, const View& view, Model::Hears hears = Model::Hears::either) const;
  /// A gain that moves stays what it was taken for; what mixes channels may have another name as it is known better.
  bool may_become(size_t n, const std::string& code) const;
};

}  // namespace heathmist::causes
