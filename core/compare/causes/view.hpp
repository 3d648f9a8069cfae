// What an estimate of a search looks at: the excerpt, and what some causes make of the master.
#pragma once
#include <mutex>
#include <optional>
#include <vector>

#include "core/compare/causes/search.hpp"

namespace heathmist::causes {

/// What is estimated from, with some causes put in: a model and the return; for what happens to the programme, both
/// without what was added. Made when it is first asked for.
class View {
 public:
  View(const Excerpt& excerpt, Attempts& attempts, std::vector<Kept> causes);
  const Attempts::Before& before() const { return before_; }
  /// Power left: all of it, and that of the odd pieces.
  std::pair<double, double> left() const;
  const Model& model() const;
  const Excerpt& excerpt_for(const Estimate& e) const { return is_dry(e) ? *dry_ : excerpt_; }
  const Model& model_for(const Estimate& e) const { return is_dry(e) ? dry_model_ : model(); }

 private:
  /// Where something was added.
  bool is_dry(const Estimate& e) const { return model(), e.stands == Stands::in_programme && dry_; }
  void make() const;
  Model made_with(const std::vector<Kept>& causes) const;

  const Excerpt& excerpt_;
  Attempts& attempts_;
  std::vector<Kept> causes_;
  Attempts::Before before_;
  mutable std::once_flag made_;
  mutable Model model_, dry_model_;
  mutable std::optional<Excerpt> dry_;
};

/// The excerpt with a gain, a filter or a curve that happened last taken off its return; nothing where that cannot be.
/// `before`: the model without it, which stands where a filter let next to nothing through.
std::optional<Excerpt> undone(Excerpt excerpt, const Found& last, const Planar& before);

}  // namespace heathmist::causes
