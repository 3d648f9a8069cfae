#include "core/compare/causes/budget.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <string_view>
#include <utility>

#include "core/compare/causes/estimates.hpp"
#include "core/compare/causes/left_where.hpp"
#include "core/compare/causes/outline.hpp"

namespace heathmist {

namespace causes {

std::optional<double> relative_db(double power, double master_power) {
  if (!(power > 1e-20 * master_power) || !(master_power > 0)) return {};
  return 10 * std::log10(power / master_power);
}

namespace {

constexpr size_t most_causes = 6;
constexpr double nothing_left = 1e-12;  // of the master's power: the rest is arithmetic
constexpr double next_to_nothing = 1e-7;
constexpr double well_explained = 1e-6;  // of the master's power: no other cause is looked for beyond that
constexpr double second_db = 3;          // what a later cause of many numbers must take out
constexpr double second_from_db = -70;   // and what must be left for it: less is how well the first was known
constexpr double clicks_from_db = -100;  // ... and for clicks beside another: where peaks are not known better
constexpr double worth_again_db = 0.3;
constexpr int most_rounds = 8;          // two causes that hide one another come apart slowly
constexpr double most_let_go_db = 0.5;  // that a cause may have taken out and be let go
constexpr double simpler_db = 3;        // by which another set of causes must beat one that holds a gain free to move
constexpr double odd_share = 0.4, worse_share = 1e-3;  // of what is left, that odd pieces must hold to be asked
constexpr int64_t outline_samples = 3 << 18;           // frames by pairs; with twice as many all is searched at once
constexpr int most_workers = 4;                        // each holds a model of its own

struct Kept {
  Found found;
  const Estimate* of;
};

/// What is estimated from: a model and the return; for what happens to the programme, both without what was added.
struct View {
  Planar model;
  std::optional<Excerpt> dry{};
  Planar dry_model{};
  double before = 0, before_odd = 0;
};

/// What an estimate takes out, and by how much that is worth more than nothing.
struct Tried {
  std::optional<Kept> kept;
  double worth = 0, left = 0;
};

const Estimate& named(std::string_view code) {
  return *std::find_if(all().begin(), all().end(), [&](const Estimate& e) { return e.code == code; });
}

double db_of(double before, double after) { return 10 * std::log10(before / after); }

struct Search {
  const Excerpt& excerpt;
  const BudgetFacts& facts;
  const Job job;
  const Estimate* banned = nullptr;
  std::vector<Kept> kept{};

  double master_share(double share) const { return share * excerpt.master_power; }
  bool keeps(const Estimate& e) const {
    return std::any_of(kept.begin(), kept.end(), [&](const Kept& k) { return k.of == &e; });
  }
  Planar model() const { return model_without({}); }
  Planar model_without(std::optional<size_t> which) const {
    return model_of([&](size_t n) { return n != which; });
  }
  /// The causes that `these` says, in the order in which they happen.
  template <class These>
  Planar model_of(These these) const {
    Planar model = *excerpt.master;
    in_order(
        kept.size(), [&](size_t n) { return kept[n].of->stands; },
        [&](size_t n) {
          if (these(n)) kept[n].found.take_out(excerpt, model);
        });
    return model;
  }
  View view_without(std::optional<size_t> which) const {
    View v{model_without(which)};
    v.before = power_left(excerpt, v.model), v.before_odd = power_left(excerpt, v.model, true);
    const auto added = [&](size_t n) { return n != which && kept[n].of->stands == Stands::beside_it; };
    bool any = false;
    for (size_t n = 0; n < kept.size(); ++n) any |= added(n);
    if (!any) return v;
    v.dry = excerpt;
    v.dry_model = model_of([&](size_t n) { return n != which && !added(n); });
    for (int p = 0; p < excerpt.pairs(); ++p) {  // what they add where nothing is muted
      const auto with = v.model.channel(p), without = v.dry_model.channel(p), ret = v.dry->ret.channel(p);
      for (size_t n = 0; n < ret.size(); ++n) ret[n] -= with[n] - without[n];
    }
    return v;
  }
  double left() const { return power_left(excerpt, model()); }

  double least_db(const Estimate& e) const {
    if (kept.empty() && !facts.lossy) return e.least_db;
    return e.price_db > 0.6 ? std::max(second_db, e.least_db) : e.least_db;
  }

  std::optional<Found> estimated(const Estimate& e, const View& v) const {
    return e.stands == Stands::in_programme && v.dry ? e.estimate(*v.dry, v.dry_model) : e.estimate(excerpt, v.model);
  }

  /// Of two causes of a kind the second goes the other way.
  bool goes_the_same_way(const Estimate& e, const Cause& second) const {
    return e.beside && std::any_of(kept.begin(), kept.end(), [&](const Kept& k) {
             return k.of == &named(e.beside) && k.found.cause.values["direction"] == second.values["direction"];
           });
  }

  Tried tried(const Estimate& e, const View& v) const {
    auto found = estimated(e, v);
    if (!found || goes_the_same_way(e, found->cause)) return {};
    const bool dry = e.stands == Stands::in_programme && v.dry;
    Planar with = dry ? v.dry_model : v.model;
    found->take_out(excerpt, with);
    const Excerpt& of = dry ? *v.dry : excerpt;
    const double before = v.before, before_odd = v.before_odd;
    const double after = power_left(of, with), after_odd = power_left(of, with, true);
    const double floor = master_share(nothing_left * 0.1);
    double taken = db_of(before + floor, after + floor);
    // Where most of it happens in even pieces, the odd ones can only say that nothing got worse there.
    if (before_odd > odd_share * before)
      taken = std::min(taken, db_of(before_odd + floor, after_odd + floor));
    else if (after_odd > before_odd + worse_share * before)
      return {};
    if (taken < least_db(e)) return {};
    // Of two that leave next to nothing the simpler one is right, however little the other leaves.
    const double little = master_share(next_to_nothing);
    const double counts = before > 10 * little ? db_of(before + little, after + little) : taken;
    return {Kept{std::move(*found), &e}, std::min(taken, counts) - e.price_db, after};
  }

  /// Of those that are not kept yet, or are `also`, the one that is worth most; nothing where none is worth anything.
  Tried best(const View& v, const Estimate* also = nullptr) const {
    const bool little = !kept.empty() && v.before < master_share(std::pow(10, second_from_db / 10)),
               next_to_none = !kept.empty() && v.before < master_share(std::pow(10, clicks_from_db / 10));
    std::vector<const Estimate*> open;
    for (const Estimate& e : all())
      if (&e == also || (!keeps(e) && &e != banned && !(little && e.stands == Stands::in_programme) &&
                         !(next_to_none && &e == &named("clicks")) && (!e.beside || keeps(named(e.beside)))))
        open.push_back(&e);
    std::vector<Tried> found(open.size());
    for_each_segment(
        std::ssize(open), Job{job.stop, {}, job.threads}, [] { return 0; },
        [&](int, int64_t n) {  // the long ones stand last in the list, and are begun first
          const size_t at = open.size() - 1 - size_t(n);
          found[at] = tried(*open[at], v);
        });
    Tried best;
    for (Tried& t : found)
      if (t.worth > best.worth) best = std::move(t);
    return best;
  }

  /// Every cause once more, with all others taken out, until that makes no odds.
  void again() {
    double now = left();
    for (int round = 0; round < most_rounds && kept.size() > 1; ++round) {
      const double before = now;
      for (size_t n = 0; n < kept.size() && now > master_share(nothing_left); ++n) {
        job.check();
        auto found = estimated(*kept[n].of, view_without(n));
        if (!found || found->cause.code != kept[n].found.cause.code) continue;
        now = keep_if_better(n, {std::move(*found), kept[n].of}, now, worth_again_db);
      }
      if (now > before * std::pow(10, -worth_again_db / 10)) return;
    }
  }

  /// Whether, beside the others, another cause explains better what one was taken for; or a simpler one as well, once
  /// the others have been estimated beside it.
  void once_more_over_all() {
    for (size_t n = 0; n < kept.size() && kept.size() > 1; ++n) {
      simplify(n);
      const double before = left();
      if (before < master_share(well_explained)) continue;
      Tried other = best(view_without(n), kept[n].of);
      if (!other.kept || (other.kept->of == kept[n].of && other.kept->found.cause.code == kept[n].found.cause.code))
        continue;
      const double dearer = other.kept->of->price_db - kept[n].of->price_db;
      keep_if_better(n, std::move(*other.kept), before, worth_again_db + dearer);
    }
  }

  /// A cause that is not found any more now that the others are known was one of theirs.
  void let_go() {
    for (size_t n = 0; n < kept.size() && kept.size() > 1;) {
      const View without = view_without(n);
      Search other = *this;
      other.kept.erase(other.kept.begin() + long(n));
      if (tried(*kept[n].of, without).kept || other.left() > left() * std::pow(10, most_let_go_db / 10))
        ++n;
      else
        kept = std::move(other.kept), again(), n = 0;
    }
  }

  void simplify(size_t n) {
    if (kept[n].of->price_db < 1) return;
    const View without = view_without(n);
    for (const Estimate& e : all()) {
      if (e.price_db >= kept[n].of->price_db || keeps(e) || &e == banned) continue;
      Tried simple = tried(e, without);
      if (!simple.kept || simple.left > 100 * left()) continue;
      Search other = *this;
      other.kept[n] = std::move(*simple.kept);
      other.again();
      if (other.score_db() < score_db()) kept = std::move(other.kept);
    }
  }

  /// It must be better where it stands, not only behind all others. What is left then.
  double keep_if_better(size_t n, Kept other, double before, double by_db) {
    std::swap(kept[n], other);
    const double after = left();
    if (after <= before * std::pow(10, -by_db / 10)) return after;
    std::swap(kept[n], other);
    return before;
  }

  void run() {
    add_causes();
    once_more_over_all();
    let_go();
    name_dynamics();
  }

  /// What was found in an outline, estimated in all of it; and what the outline does not hold.
  void run_from(const std::vector<Kept>& outline) {
    double now = left();
    for (const Kept& k : outline) {
      auto found = estimated(*k.of, view_without({}));
      if (!found) continue;
      kept.push_back({std::move(*found), k.of});
      if (const double then = left(); then < now)
        now = then;
      else
        kept.pop_back();
    }
    again();
    const size_t known = kept.size();
    add_causes();
    if (kept.size() > known) let_go();
  }

  void add_causes() {
    View so_far = view_without({});
    while (kept.size() < most_causes && so_far.before > master_share(nothing_left)) {
      // The error of a word length is no offset and no noise, though it may look like both.
      if (facts.bits && *facts.bits < 24)
        if (const auto rest = cause_of_rest(excerpt, so_far.model, facts); rest && rest->code == "word_length") break;
      auto found = best(so_far);
      if (!found.kept) break;
      kept.push_back(std::move(*found.kept));
      again();
      job.report(0.7 * (1 - std::pow(0.6, double(kept.size()))));  // how many there are is not known before
      so_far = view_without({});
    }
  }

  /// Whether it was a limiter or a compressor shows in peaks that nothing else was added to.
  void name_dynamics() {
    constexpr double no_worse_db = -0.1;
    for (size_t n = 0; n < kept.size() && kept.size() > 1; ++n)
      if (kept[n].of == &named("dynamics"))
        if (auto found = estimated(*kept[n].of, view_without(n)))
          if (found->cause.code != kept[n].found.cause.code)
            keep_if_better(n, {std::move(*found), kept[n].of}, left(), no_worse_db);
  }

  /// What is left, and what the causes cost.
  double score_db() const {
    double price = 0;
    for (const Kept& k : kept) price += k.of->price_db;
    return db_of(left() + master_share(next_to_nothing), excerpt.master_power) + price;
  }
};

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
    const Cause& c = k.found.cause;
    return c.code == "eq" && c.values["channel_flat_db"].size() == 2 &&
           std::abs(c.values["channel_flat_db"][1].get<double>() - c.values["channel_flat_db"][0].get<double>()) >=
               least_apart_db;
  });
  if (apart == kept.end()) return;
  const auto flat = apart->found.cause.values["channel_flat_db"].get<std::array<double, 2>>();
  Cause c{.code = "channel_gain", .channels = {0, 1}};
  c.values = {{"gain_db", flat[1] - flat[0]}, {"channel_gains_db", flat}};
  apart->found.take_out = [eq = apart->found.take_out, back = gains({-flat[0], -flat[1]})](const Places& where,
                                                                                           Planar& m) {
    back(where, m);
    eq(where, m);
  };
  kept.insert(apart, Kept{Found{std::move(c), gains(flat)}, apart->of});
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

/// A gain that is free to move explains much that has a cause of its own, or two: the search without it is tried too,
/// and the one that starts from a fade.
Search searched(const Excerpt& excerpt, const BudgetFacts& facts, const Job& job) {
  Search search{excerpt, facts, Job{job.stop, job.progress, std::min(job.workers(), most_workers)}};
  search.run();
  job.report(0.7);
  const Estimate *ride = &named("gain_ride"), *dynamics = &named("dynamics"), *steps = &named("gain_step");
  const auto moves = std::find_if(search.kept.begin(), search.kept.end(), [&](const Kept& k) {
    return k.of == ride || k.of == dynamics || (k.of == steps && k.found.cause.values["count"].get<size_t>() > 1);
  });
  if (moves == search.kept.end()) return search;
  std::vector<Search> others(2, Search{excerpt, facts, Job{job.stop, {}, search.job.threads}, moves->of});
  if (Tried fade = others[1].tried(named("fade"), others[1].view_without({})); fade.kept)
    others[1].kept.push_back(std::move(*fade.kept)), others[1].banned = nullptr;
  else
    others.pop_back();
  for (Search& other : others) {
    other.run();
    if (other.score_db() < search.score_db() - simpler_db) search.kept = std::move(other.kept);
  }
  return search;
}

/// A long excerpt is searched in an outline of it first.
Search search_of(const Excerpt& excerpt, const BudgetFacts& facts, const Job& job) {
  if (excerpt.frames() * excerpt.pairs() < 2 * outline_samples) return searched(excerpt, facts, job);
  const Excerpt outline = outline_of(excerpt, outline_samples);
  const Search first = searched(outline, facts, job.part(0, 0.5));
  Search search{excerpt, facts, Job{job.stop, job.part(0.5, 1).progress, first.job.threads}};
  search.run_from(first.kept);
  return search;
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

Budget explained(const causes::Excerpt& excerpt, const BudgetFacts& facts, const Job& job) {
  using namespace causes;
  Budget budget;
  Search search = search_of(excerpt, facts, job);
  stand_apart(search.kept);
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
  for (size_t n = 0; n < search.kept.size(); ++n) {
    const Kept& kept = search.kept[n];
    if (kept.of->stands == Stands::in_programme && !of_the_rest.taken_db)
      of_the_rest.taken_db = relative_db(before, excerpt.master_power);
    model = search.model_of([&](size_t k) { return k <= n; });
    enter(kept.found.cause, power_left(excerpt, model));
    budget.layers.push_back({kept.of->stands, kept.found.take_out, kept.found.reach_s});
  }
  budget.remainder_db = relative_db(before, excerpt.master_power);
  std::optional<Cause> cut = word_length_alone(excerpt, facts);
  if (before > nothing_left * excerpt.master_power)
    if (auto rest = cause_of_rest(excerpt, model, of_the_rest);
        rest && (search.kept.empty() || rest->code != "noise" || budget.remainder_db.value_or(-999) > told_beside_db)) {
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
  Budget budget = explained(excerpt, facts, job.part(0, 0.7));
  if (facts.lossy || !facts.find_traces || budget.remainder_db.value_or(-999) < worth_a_look_db) return budget;
  const auto traces = facts.find_traces();
  if (!traces) return budget;
  BudgetFacts coded = facts;
  coded.lossy = true, coded.lossy_values = *traces;
  return explained(excerpt, coded, job.part(0.8, 1));
}

}  // namespace heathmist
