#include "core/compare/causes/budget.hpp"

#include <algorithm>
#include <cmath>

namespace heathmist {

namespace causes {

std::optional<double> relative_db(double power, double master_power) {
  if (!(power > 1e-20 * master_power) || !(master_power > 0)) return {};
  return 10 * std::log10(power / master_power);
}

namespace {

constexpr size_t most_causes = 6;
constexpr double nothing_left = 1e-12;  // of the master's power: the rest is arithmetic
constexpr double second_db = 3;         // what a later cause of many numbers must take out
constexpr double second_from_db = -70;  // and what must be left for it: less is how well the first was known
constexpr double worth_again_db = 0.5;

struct Kept {
  Found found;
  const Estimate* of;
};

struct Search {
  const Excerpt& excerpt;
  const BudgetFacts& facts;
  const Job& job;
  std::vector<Kept> kept{};

  Planar model_without(std::optional<size_t> which) const {
    Planar model = excerpt.master;
    for (size_t n = 0; n < kept.size(); ++n)
      if (n != which) kept[n].found.take_out(model);
    return model;
  }

  double least_db(const Estimate& e) const {
    if (kept.empty() && !facts.lossy) return e.least_db;
    return e.price_db > 0.6 ? std::max(second_db, e.least_db) : e.least_db;
  }

  /// The cause that takes most out of what is left, less its price; nothing where none takes enough.
  std::optional<Kept> best(const Planar& model) {
    const double before = power_left(excerpt, model), before_odd = power_left(excerpt, model, true);
    const bool little = !kept.empty() && relative_db(before, excerpt.master_power).value_or(-999) < second_from_db;
    std::optional<Kept> best;
    double most = 0;
    for (const Estimate& e : all()) {
      job.check();
      if (std::any_of(kept.begin(), kept.end(), [&](const Kept& k) { return k.of == &e; })) continue;
      if (little && e.structural) continue;
      auto found = e.estimate(excerpt, model);
      if (!found) continue;
      Planar tried = model;
      found->take_out(tried);
      const double after = power_left(excerpt, tried), after_odd = power_left(excerpt, tried, true);
      const double floor = nothing_left * 0.1 * excerpt.master_power;
      const double taken = std::min(10 * std::log10((before + floor) / (after + floor)),
                                    10 * std::log10((before_odd + floor) / (after_odd + floor)));
      if (taken < least_db(e) || taken - e.price_db <= most) continue;
      most = taken - e.price_db, best = Kept{std::move(*found), &e};
    }
    return best;
  }

  /// Every cause once more, with all others taken out.
  void again() {
    if (kept.size() < 2) return;
    for (size_t n = 0; n < kept.size(); ++n) {
      const double before = power_left(excerpt, model_without({}));
      if (before < nothing_left * excerpt.master_power) return;
      const Planar without = model_without(n);
      auto found = kept[n].of->estimate(excerpt, without);
      if (!found || found->cause.code != kept[n].found.cause.code) continue;
      Found was = std::move(kept[n].found);
      kept[n].found = std::move(*found);
      // It must be better where it stands, not only behind all others.
      if (power_left(excerpt, model_without({})) > before * std::pow(10, -worth_again_db / 10))
        kept[n].found = std::move(was);
    }
  }
};

}  // namespace
}  // namespace causes

namespace {

constexpr double told_beside_db = -85;  // noise lower than that is nothing beside another cause

Budget explained(const causes::Excerpt& excerpt, const BudgetFacts& facts, const Job& job) {
  using namespace causes;
  Budget budget;
  Search search{excerpt, facts, job};
  Planar model = excerpt.master;
  budget.residual_db = relative_db(power_left(excerpt, model), excerpt.master_power);
  while (search.kept.size() < most_causes && power_left(excerpt, model) > nothing_left * excerpt.master_power) {
    // The error of a word length is no offset and no noise, though it may look like both.
    if (facts.bits && *facts.bits < 24)
      if (const auto rest = cause_of_rest(excerpt, model, facts); rest && rest->code == "word_length") break;
    auto found = search.best(model);
    if (!found) break;
    search.kept.push_back(std::move(*found));
    search.again();
    model = search.model_without({});
  }
  model = excerpt.master;
  double before = power_left(excerpt, model);
  for (Kept& kept : search.kept) {
    kept.found.take_out(model);
    const double after = power_left(excerpt, model);
    Cause cause = std::move(kept.found.cause);
    cause.before_db = relative_db(before, excerpt.master_power);
    cause.after_db = relative_db(after, excerpt.master_power);
    budget.causes.push_back(std::move(cause));
    before = after;
  }
  budget.remainder_db = relative_db(before, excerpt.master_power);
  if (before > nothing_left * excerpt.master_power)
    if (auto rest = cause_of_rest(excerpt, model, facts);
        rest && (search.kept.empty() || rest->code != "noise" || budget.remainder_db.value_or(-999) > told_beside_db)) {
      rest->before_db = budget.remainder_db;
      budget.causes.push_back(std::move(*rest));
      budget.remainder_db = budget.causes.back().after_db;
    }
  return budget;
}

constexpr double worth_a_look_db = -75;  // a rest with no cause, from which on the traces of a coder are looked for

}  // namespace

Budget explain_away(const causes::Excerpt& excerpt, const BudgetFacts& facts, const Job& job) {
  Budget budget = explained(excerpt, facts, job);
  if (facts.lossy || !facts.find_traces || budget.remainder_db.value_or(-999) < worth_a_look_db) return budget;
  const auto traces = facts.find_traces();
  if (!traces) return budget;
  BudgetFacts coded = facts;
  coded.lossy = true, coded.lossy_values = *traces;
  return explained(excerpt, coded, job);
}

}  // namespace heathmist
