#include "core/compare/causes/budget.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <numeric>
#include <set>
#include <span>
#include <string_view>
#include <utility>

#include "core/compare/causes/beside_coding.hpp"
#include "core/compare/causes/left_where.hpp"
#include "core/compare/causes/search.hpp"

namespace heathmist {

namespace causes {

std::optional<double> relative_db(double power, double master_power) {
  if (!(power > 1e-20 * master_power) || !(master_power > 0)) return {};
  return 10 * std::log10(power / master_power);
}

namespace {

constexpr double least_apart_db = 0.03, apart_beside_others_db = 0.15;  // of channels; beside coding, or mixing,
                                                                        // or what is louder in one bends it more

PutIn gains(std::array<double, 2> db) {
  return [db](const Places&, Planar& m) {
    for (int c = 0; c < 2; ++c)
      for (double& x : m.channel(c)) x *= std::pow(10, db[size_t(c)] / 20);
  };
}

/// Where the channels' flat parts lie apart, an EQ is a gain of one channel, and an EQ.
void stand_apart(std::vector<Kept>& kept, bool lossy) {
  const bool mixed = std::ranges::any_of(kept, [](const Kept& k) {
    return k.of == &named("channels") || k.of == &named("distortion") || k.found->follows;
  });
  const double least_db = lossy || mixed ? apart_beside_others_db : least_apart_db;
  const auto apart = std::find_if(kept.begin(), kept.end(), [&](const Kept& k) {
    const Cause& c = k.found->cause;
    return c.code == "eq" && c.values.contains("channel_flat_db") && c.values["channel_flat_db"].size() == 2 &&
           std::abs(c.values["channel_flat_db"][1].get<double>() - c.values["channel_flat_db"][0].get<double>()) >=
               least_db;
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

/// What fits many returns a little, and is named by nothing but how well it fits. An echo, a tail, a level that peaks
/// stand at, a silence have evidence of their own.
bool stands_by_its_fit(const Kept& kept) {
  static const std::set<std::string> codes{"channel_gain", "compressor", "crosstalk", "distortion", "eq",
                                           "expander",     "fade",       "gain_ride", "gain_step",  "limiter",
                                           "mono",         "phase",      "width"};
  return kept.of->stands == Stands::in_programme && codes.contains(kept.found->cause.code);
}

/// Little was taken out, and much is left.
bool take_hardly(double before, double after, double little_db, double much) {
  return after > before * std::pow(10, -little_db / 10) && after > much;
}

/// Where the causes took little of much, and what is left has no name, none of those that only fit is told.
void drop_what_hardly_fits(std::vector<Kept>& found, const Excerpt& e, const BudgetFacts& facts, Attempts& attempts) {
  constexpr double little_db = 4, much_db = -30;
  if (facts.lossy || std::none_of(found.begin(), found.end(), stands_by_its_fit)) return;
  const Planar model = model_of(e, found, attempts);
  const double before = power_left(e, *e.master), after = power_left(e, model);
  const bool hardly = take_hardly(before, after, little_db, e.master_power * std::pow(10, much_db / 10));
  if (hardly && !cause_of_rest(e, model, facts)) std::erase_if(found, stands_by_its_fit);
}

/// Faint echoes that take little out beside other causes, and leave what has no name, only follow what that is.
void drop_faint_echoes(std::vector<Kept>& found, const Excerpt& e, const BudgetFacts& facts, Attempts& attempts) {
  constexpr double faint_db = -25, little_db = 6, much_db = -60;
  const auto echo =
      std::find_if(found.begin(), found.end(), [](const Kept& k) { return k.found->cause.code == "echo"; });
  if (facts.lossy || found.size() < 2 || echo == found.end()) return;
  if (echo->found->cause.values["level_db"].get<double>() > faint_db) return;
  auto without = found;
  without.erase(without.begin() + (echo - found.begin()));
  const Planar model = model_of(e, found, attempts);
  const double after = power_left(e, model), before = power_left(e, model_of(e, without, attempts));
  const bool hardly = take_hardly(before, after, little_db, e.master_power * std::pow(10, much_db / 10));
  if (hardly && !cause_of_rest(e, model, facts)) found = std::move(without);
}

/// A change of the level that is over at once, as a share of the programme.
struct Edge {
  double from_s = 0, until_s = 0, change = 0;
};

/// Steps, and fades of a few milliseconds: of these the law's model error.
std::vector<Edge> edges_of(const std::vector<Kept>& found) {
  constexpr double at_once_s = 0.1, of_the_law = 0.1;
  std::vector<Edge> edges;
  for (const Kept& k : found) {
    const Cause& c = k.found->cause;
    if (c.code == "fade" && *c.until_s - *c.from_s < at_once_s) edges.push_back({*c.from_s, *c.until_s, of_the_law});
    if (c.code != "gain_step") continue;
    for (const Json& step : c.values["steps"]) {
      const double to = std::pow(10, step["to_db"].get<double>() / 20), s = step["at_s"].get<double>();
      edges.push_back({s, s, std::abs(to - std::pow(10, step["from_db"].get<double>() / 20))});
    }
  }
  return edges;
}

/// What a filter behind it can make of an edge of the level near a time, at the most: as much as the programme changed.
double made_of_edges(const std::vector<Edge>& edges, const Excerpt& e, double at_s) {
  constexpr double near_s = 0.003, around_s = 0.01;
  double most = 0;
  for (const Edge& edge : edges) {
    if (at_s < edge.from_s - near_s || at_s > edge.until_s + near_s) continue;
    const auto from = int64_t((edge.from_s - around_s) * e.rate_hz) - e.start,
               until = int64_t((edge.until_s + around_s) * e.rate_hz) - e.start;
    e.each_of(from, until, [&](int64_t at, int64_t, int64_t frames) {
      for (int p = 0; p < e.pairs(); ++p)
        for (const double x : e.master->channel(p).subspan(size_t(at), size_t(frames)))
          most = std::max(most, edge.change * std::abs(x));
    });
  }
  return most;
}

/// Clicks all of which stand at edges, and are no more than a filter behind those makes of them, were not added.
void drop_clicks_of_edges(std::vector<Kept>& found, const Excerpt& e) {
  const auto clicks =
      std::find_if(found.begin(), found.end(), [](const Kept& k) { return k.found->cause.code == "clicks"; });
  if (clicks == found.end()) return;
  const Json& v = clicks->found->cause.values;
  const double peak = std::pow(10, v["peak_dbfs"].get<double>() / 20);
  const Json& times = v["times_s"];
  const auto edges = edges_of(found);
  if (std::all_of(times.begin(), times.end(),
                  [&](const Json& t) { return peak < made_of_edges(edges, e, t.get<double>()); }))
    found.erase(clicks);
}

/// What is told of causes so that each takes out what it can: with some told before it, all in the order in which they
/// happen. What happens first may take out nothing as long as what follows on it is not known.
class TellingOrder {
 public:
  TellingOrder(const Excerpt& e, const std::vector<Kept>& found, Attempts& attempts)
      : e_(e), found_(found), attempts_(attempts), open_(found.size()) {
    std::iota(open_.begin(), open_.end(), size_t(0));
  }
  bool all_told() const { return open_.empty(); }
  /// The next one, of `found`; the model with it, and what that leaves.
  struct Next {
    size_t which = 0;
    Planar model{};
    double left = 0;
  };
  Next next(double left) {
    size_t at = 0;
    Next first = with(open_[0]);
    for (size_t other = 1; first.left > left && other < open_.size(); ++other)
      if (Next then = with(open_[other]); then.left <= left) at = other, first = std::move(then);
    told_.push_back(first.which), open_.erase(open_.begin() + long(at));
    return first;
  }

 private:
  Next with(size_t one_more) const {
    std::vector<size_t> all = told_;
    all.push_back(one_more);
    std::ranges::sort(all);
    std::vector<Kept> causes;
    for (const size_t n : all) causes.push_back(found_[n]);
    Planar model = model_of(e_, causes, attempts_);
    const double left = power_left(e_, model);
    return {one_more, std::move(model), left};
  }

  const Excerpt& e_;
  const std::vector<Kept>& found_;
  Attempts& attempts_;
  std::vector<size_t> open_, told_;
};

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

/// A curve behind an EQ is told by what comes to it where that turns nothing: what its flat part turns comes after
/// both.
void tell_behind_flat_parts(Cause& curve, std::span<const causes::Kept> before) {
  double flat_db = 0;
  for (const causes::Kept& k : before)
    if (k.found->cause.values.contains("flat_db")) flat_db += k.found->cause.values["flat_db"].get<double>();
  curve.values["at_dbfs"] = curve.values["at_dbfs"].get<double>() - flat_db;
  for (Json& point : curve.values["curve"])
    for (Json& level : point) level = level.get<double>() * std::pow(10, -flat_db / 20);
}

Budget explained(const causes::Excerpt& excerpt, const BudgetFacts& facts, causes::Tries& tries, const Job& job) {
  using namespace causes;
  Budget budget;
  auto found = search_causes(excerpt, facts, tries, job);
  drop_what_hardly_fits(found, excerpt, facts, tries.whole);
  drop_faint_echoes(found, excerpt, facts, tries.whole);
  drop_clicks_of_edges(found, excerpt);
  stand_apart(found, facts.lossy);
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
  for (TellingOrder order(excerpt, found, tries.whole); !order.all_told();) {
    auto [turn, made, after] = order.next(before);
    model = std::move(made);
    const Kept& kept = found[turn];
    of_the_rest.gain_follows |= is_of_dynamics(kept.found->cause);
    if (kept.of->stands == Stands::in_programme && !of_the_rest.taken_db)
      of_the_rest.taken_db = relative_db(before, excerpt.master_power);
    Cause cause = facts.lossy ? told_beside_coding(*kept.found, facts.return_band_hz) : kept.found->cause;
    if (cause.code == "distortion") tell_behind_flat_parts(cause, std::span(found).first(turn));
    if (cause.code == "lossy") {  // but the level that it left as it was is told
      budget.level_db += cause.values["flat_db"].get<double>();
      continue;
    }
    enter(std::move(cause), after);
    budget.layers.push_back({kept.of->stands, kept.found->take_out, kept.found->reach_s, turn});
  }
  of_the_rest.fit_is_plain = facts.fit_is_plain && found.empty();
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

/// The latest echo, in seconds: so long behind a seam of the excerpt what comes back is of what it does not hold.
double latest_echo_s(const Budget& budget) {
  double latest = 0;
  for (const Cause& c : budget.causes)
    if (c.code == "echo") latest = std::max(latest, budget.layers[c.part.number].reach_s);
  return latest;
}

Budget explained_with_traces(const causes::Excerpt& excerpt, const BudgetFacts& facts, const Job& job) {
  causes::Tries tries;  // what a coder's traces change is what counts, not what is found
  Budget budget = explained(excerpt, facts, tries, job.part(0, 0.7));
  // Of notes that are steady what a coder left away and put in is as unlike the programme as another one would be.
  const bool is_unlike = !budget.causes.empty() && budget.causes.back().code == "other_programme";
  const bool is_open = is_unlike || budget.remainder_db.value_or(-999) >= worth_a_look_db;
  if (facts.lossy || !facts.find_traces || !is_open) return budget;
  const auto traces = facts.find_traces();
  if (!traces) return budget;
  BudgetFacts coded = facts;
  coded.lossy = true, coded.lossy_values = *traces;
  return explained(excerpt, coded, tries, job.part(0.8, 1));
}

}  // namespace

Budget explain_away(const causes::Excerpt& excerpt, const BudgetFacts& facts, const Job& job) {
  Budget budget = explained_with_traces(excerpt, facts, job.part(0, 0.6));
  const double echo_s = latest_echo_s(budget);
  if (excerpt.whole || echo_s == 0) return budget;
  causes::Excerpt behind = excerpt;
  leave_out_seams(behind, echo_s);
  if (behind.told == excerpt.told) return budget;
  weigh_master(behind);
  return explained_with_traces(behind, facts, job.part(0.6, 1));
}

}  // namespace heathmist
