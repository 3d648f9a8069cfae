#include "core/compare/causes/budget.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <string_view>
#include <utility>

#include "core/compare/causes/left_where.hpp"
#include "core/compare/causes/search.hpp"

namespace heathmist {

namespace causes {

std::optional<double> relative_db(double power, double master_power) {
  if (!(power > 1e-20 * master_power) || !(master_power > 0)) return {};
  return 10 * std::log10(power / master_power);
}

namespace {

constexpr double nothing_left = 1e-12;  // of the master's power: the rest is arithmetic
constexpr double least_apart_db = 0.03;

PutIn gains(std::array<double, 2> db) {
  return [db](const Places&, Planar& m) {
    for (int c = 0; c < 2; ++c)
      for (double& x : m.channel(c)) x *= std::pow(10, db[size_t(c)] / 20);
  };
}

/// Where the channels' flat parts lie apart, an EQ is a gain of one channel, and an EQ.
void stand_apart(std::vector<Kept>& kept) {
  const auto apart = std::find_if(kept.begin(), kept.end(), [](const Kept& k) {
    const Cause& c = k.found->cause;
    return c.code == "eq" && c.values.contains("channel_flat_db") && c.values["channel_flat_db"].size() == 2 &&
           std::abs(c.values["channel_flat_db"][1].get<double>() - c.values["channel_flat_db"][0].get<double>()) >=
               least_apart_db;
  });
  if (apart == kept.end()) return;
  const auto flat = apart->found->cause.values["channel_flat_db"].get<std::array<double, 2>>();
  Cause c{.code = "channel_gain", .channels = {0, 1}};
  c.values = {{"gain_db", flat[1] - flat[0]}, {"channel_gains_db", flat}};
  Found rest = *apart->found;
  rest.take_out = [eq = rest.take_out, back = gains({-flat[0], -flat[1]})](const Places& where, Planar& m) {
    back(where, m);
    eq(where, m);
  };
  apart->found = std::make_shared<const Found>(std::move(rest));
  kept.insert(apart, Kept{std::make_shared<const Found>(Found{std::move(c), gains(flat)}), apart->of});
}

/// The samples keep to a word length, though what is left beneath the other causes does not show how they were cut.
std::optional<Cause> word_length_alone(const Excerpt& e, const BudgetFacts& facts) {
  const auto bits = facts.bits ? facts.bits : facts.bits_elsewhere;
  if (!bits || *bits >= std::min(24, facts.master_bits)) return {};
  Cause c{.code = "word_length"};
  for (int p = 0; p < e.pairs(); ++p) c.channels.push_back(p);
  c.values = {{"bits", *bits}, {"truncated", nullptr}, {"dither", nullptr}};
  return c;
}

}  // namespace
}  // namespace causes

namespace {

constexpr double told_beside_db = -85;  // noise lower than that is nothing beside another cause

/// Levels that stand in the return are told as they stand there; the excerpt holds it at the master's level.
void tell_at_the_returns_level(Cause& cause, double gain_db) {
  static const std::map<std::string, const char*> levels{{"clip", "level_dbfs"}, {"limiter", "ceiling_dbfs"},
                                                         {"dc", "level_dbfs"},   {"hum", "level_dbfs"},
                                                         {"tone", "level_dbfs"}, {"clicks", "peak_dbfs"}};
  const auto level = levels.find(cause.code);
  if (level == levels.end()) return;
  const double gain = std::pow(10, gain_db / 20);
  const auto turn_up = [&](Json& values, const char* key) {
    if (values.contains(key) && values[key].is_number()) values[key] = values[key].get<double>() + gain_db;
  };
  turn_up(cause.values, level->second);
  if (cause.values.contains("lines"))
    for (Json& line : cause.values["lines"]) turn_up(line, level->second);
  for (const char* key : {"offset", "low", "high"})  // amplitudes
    if (cause.values.contains(key)) cause.values[key] = gain * cause.values[key].get<double>();
  if (cause.values.contains("offsets"))
    for (Json& offset : cause.values["offsets"]) offset = gain * offset.get<double>();
}

Budget explained(const causes::Excerpt& excerpt, const BudgetFacts& facts, causes::Tries& tries, const Job& job) {
  using namespace causes;
  Budget budget;
  auto found = search_causes(excerpt, facts, tries, job);
  stand_apart(found);
  Planar model = *excerpt.master;
  double before = power_left(excerpt, model);
  BudgetFacts of_the_rest = facts;
  const WhereItLies where(excerpt);
  LeftWhere here = where.of(model);
  const auto enter = [&](Cause cause, double after) {
    const LeftWhere then = where.of(model);
    where.tell(cause, here, then);
    here = then;
    cause.part = {CausePart::layer, budget.layers.size()};
    tell_at_the_returns_level(cause, facts.gain_db);
    cause.before_db = relative_db(before, excerpt.master_power);
    cause.after_db = relative_db(after, excerpt.master_power);
    budget.causes.push_back(std::move(cause));
    before = after;
  };
  for (size_t n = 0; n < found.size(); ++n) {
    const Kept& kept = found[n];
    if (kept.of->stands == Stands::in_programme && !of_the_rest.taken_db)
      of_the_rest.taken_db = relative_db(before, excerpt.master_power);
    model = model_of(excerpt, {found.begin(), found.begin() + long(n) + 1}, tries.whole);
    enter(kept.found->cause, power_left(excerpt, model));
    budget.layers.push_back({kept.of->stands, kept.found->take_out, kept.found->reach_s});
  }
  budget.remainder_db = relative_db(before, excerpt.master_power);
  std::optional<Cause> cut = word_length_alone(excerpt, facts);
  if (before > nothing_left * excerpt.master_power)
    if (auto rest = cause_of_rest(excerpt, model, of_the_rest);
        rest && (found.empty() || rest->code != "noise" || budget.remainder_db.value_or(-999) > told_beside_db)) {
      rest->part = {CausePart::rest};
      where.tell(*rest, here, where.of(excerpt.ret));
      rest->before_db = budget.remainder_db;
      if (rest->code == "word_length") cut.reset();
      budget.causes.push_back(std::move(*rest));
      budget.remainder_db = budget.causes.back().after_db;
    }
  if (cut && !facts.lossy) {
    cut->before_db = cut->after_db = budget.remainder_db;
    budget.causes.push_back(std::move(*cut));
  }
  return budget;
}

constexpr double worth_a_look_db = -75;  // a rest with no cause, from which on the traces of a coder are looked for

}  // namespace

Budget explain_away(const causes::Excerpt& excerpt, const BudgetFacts& facts, const Job& job) {
  causes::Tries tries;  // what a coder's traces change is what counts, not what is found
  Budget budget = explained(excerpt, facts, tries, job.part(0, 0.7));
  if (facts.lossy || !facts.find_traces || budget.remainder_db.value_or(-999) < worth_a_look_db) return budget;
  const auto traces = facts.find_traces();
  if (!traces) return budget;
  BudgetFacts coded = facts;
  coded.lossy = true, coded.lossy_values = *traces;
  return explained(excerpt, coded, tries, job.part(0.8, 1));
}

}  // namespace heathmist
