#include "core/compare/causes/cause_set.hpp"

#include <algorithm>

namespace heathmist::causes {

bool CauseSet::keeps(const Estimate& e) const {
  return std::any_of(kept.begin(), kept.end(), [&](const Kept& k) { return k.of == &e; });
}

std::optional<size_t> CauseSet::place_of(const char* code) const {
  const auto k = std::find_if(kept.begin(), kept.end(), [&](const Kept& own) { return own.of == &named(code); });
  return k == kept.end() ? std::nullopt : std::optional(size_t(k - kept.begin()));
}

View CauseSet::view_without(std::optional<size_t> which) const {
  std::vector<Kept> causes;
  for (size_t n = 0; n < kept.size(); ++n)
    if (n != which) causes.push_back(kept[n]);
  return {excerpt, attempts, std::move(causes)};
}

CauseSet CauseSet::lawful() const {
  CauseSet with = *this;
  for (Kept& k : with.kept)
    if (k.found->by_law) k.found = k.found->by_law;
  return with;
}

FoundPtr CauseSet::estimated(const Estimate& e, const View& v, Model::Hears hears) const {
  return attempts.found(e, hears, v.before(), [&]() -> FoundPtr {
    const auto estimate_from = [&](const Model& model) {
      auto found = e.estimate(v.excerpt_for(e), model);
      return found ? std::make_shared<const Found>(std::move(*found)) : nullptr;
    };
    if (hears == Model::Hears::either) return estimate_from(v.model_for(e));
    Model model = Planar(v.model_for(e));
    model.moved = v.model_for(e).moved, model.hears = hears;
    return estimate_from(model);
  });
}

bool CauseSet::may_become(size_t n, const std::string& code) const {
  return code == kept[n].found->cause.code || kept[n].of == &named("channels");
}

}  // namespace heathmist::causes
