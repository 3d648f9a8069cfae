#include "core/compare/causes/search.hpp"

#include <algorithm>
#include <cmath>
#include <string_view>

#include "core/compare/causes/come_apart.hpp"
#include "core/compare/causes/hand_beside_law.hpp"
#include "core/compare/causes/moment_gains.hpp"
#include "core/compare/causes/outline.hpp"

namespace heathmist::causes {

namespace {

constexpr size_t most_causes = 6;
constexpr double next_to_nothing = 1e-7;
constexpr double second_db = 3;           // what a later cause of many numbers must take out
constexpr double offset_beside_db = 0.2;  // ... and an offset: what bends or moves the programme moves its own
constexpr double step_beside_db = 2;      // ... and a step: two numbers,
constexpr double plain_beside_db = 0.5;   // ... if it is not plain to see
constexpr double second_from_db = -70;    // and what must be left for it: less is how well the first was known
constexpr double clicks_from_db =
    -100;  // ... and for clicks beside another, or between samples: where peaks are not known better
constexpr int most_rounds = 8;
constexpr double most_let_go_db = 0.5;  // that a cause may have taken out and be let go
constexpr double simpler_db = 3;        // by which another set of causes must beat one that holds a gain free to move
constexpr double odd_share = 0.4, worse_share = 1e-3;  // of what is left, that odd pieces must hold to be asked
constexpr int64_t outline_samples = 3 << 18;  // frames by pairs at 48 kHz; up to twice as many are searched at once
constexpr int most_workers = 4;               // each holds a model of its own

/// What an estimate takes out, and by how much that is worth more than nothing.
struct Tried {
  std::optional<Kept> kept;
  double worth = 0, left = 0;
};

struct Search : CauseSet {
  const BudgetFacts& facts;
  const Job job;
  const Estimate* banned = nullptr;

  double least_db(const Estimate& e, const Found& found) const {
    if (kept.empty() && !facts.lossy) return e.least_db;
    if (&e == &named("dc")) return offset_beside_db;
    if (&e == &named("clip") && keeps(named("distortion"))) return second_db;  // the end of a curve is seldom seen
    if (&e == &named("gain_step")) return found.is_plain ? plain_beside_db : step_beside_db;
    return e.price_db > 0.6 ? std::max(second_db, e.least_db) : e.least_db;
  }

  /// Of two causes of a kind the second goes the other way.
  bool goes_the_same_way(const Estimate& e, const Cause& second) const {
    return e.beside && std::any_of(kept.begin(), kept.end(), [&](const Kept& k) {
             return k.of == &named(e.beside) && k.found->cause.values["direction"] == second.values["direction"];
           });
  }

  Attempts::Weight weighed(const Estimate& e, const Found& found, const View& v) const {
    Planar with = v.model_for(e);
    found.take_out(excerpt, with);
    const Excerpt& of = v.excerpt_for(e);
    auto [before, before_odd] = v.left();
    double after = power_left(of, with), after_odd = power_left(of, with, true);
    const double left = after;
    if (found.reach_s > 0 && of.stretches.size() > 1) {  // where all of what it repeats is in the excerpt
      const auto told = told_behind_seams(of, found.reach_s);
      const auto power = [&](const Planar& model, bool odd) { return power_left(of, model, odd, told); };
      before = power(v.model_for(e), false), before_odd = power(v.model_for(e), true);
      after = power(with, false), after_odd = power(with, true);
    }
    const double floor = master_share(nothing_left * 0.1);
    double taken = db_of(before + floor, after + floor);
    // Where most of it happens in even pieces, the odd ones can only say that nothing got worse there; and so where it
    // is of few moments, each of which stands out of what is left around it.
    const bool is_of_moments = &e == &named("clicks");
    if (before_odd > odd_share * before && !is_of_moments)
      taken = std::min(taken, db_of(before_odd + floor, after_odd + floor));
    else if (after_odd > before_odd + worse_share * before)
      return {};
    // Of two that leave next to nothing the simpler one is right, however little the other leaves.
    const double little = master_share(next_to_nothing);
    const double counts = before > 10 * little ? db_of(before + little, after + little) : taken;
    return {true, taken, std::min(taken, counts), left};
  }

  Attempts::Weight weight_of(const Estimate& e, const Found& found, const View& v) const {
    return attempts.weight(e, v.before(), [&] { return weighed(e, found, v); });
  }

  Tried tried(const Estimate& e, const View& v) const {
    const FoundPtr found = estimated(e, v);
    if (!found || goes_the_same_way(e, found->cause)) return {};
    const auto weight = weight_of(e, *found, v);
    if (!weight.holds || weight.taken_db < least_db(e, *found)) return {};
    return {Kept{found, &e}, weight.counts_db - (found->is_plain ? 0 : e.price_db), weight.left};
  }

  /// Of those that are not kept yet, or are `also`, the one that is worth most; nothing where none is worth anything.
  Tried best(const View& v, const Estimate* also = nullptr) const {
    const double before = v.left().first;
    const bool little = !kept.empty() && before < master_share(std::pow(10, second_from_db / 10)),
               next_to_none = (!kept.empty() || facts.is_between_samples) &&
                              before < master_share(std::pow(10, clicks_from_db / 10));
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
    const bool hand_and_law = has_hand_beside_law(*this);  // brought beside one another
    for (int round = 0; round < most_rounds; ++round) {
      const double before = now;
      for (size_t n = 0; n < kept.size() && now > master_share(nothing_left); ++n) {
        job.check();
        if (hand_and_law && (is_hand_on_gain(*kept[n].of) || kept[n].of == &named("dynamics"))) continue;
        const auto found = estimated(*kept[n].of, view_without(n));
        if (!found || found == kept[n].found || !may_become(n, found->cause.code)) continue;
        now = keep_if_better(n, {found, kept[n].of}, now, worth_again_db);
      }
      now = come_apart(*this, now, job);
      bring_hands_beside_law(*this, job);
      now = left();
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
      if (!other.kept || (other.kept->of == kept[n].of && other.kept->found->cause.code == kept[n].found->cause.code))
        continue;
      Search with = *this;
      with.kept[n] = std::move(*other.kept);
      const double dearer = with.kept[n].of->price_db - kept[n].of->price_db, after = with.left();
      if (after > before) continue;
      if (db_of(before, after) < worth_again_db + dearer) {  // it may be, once the others are estimated beside it
        with.again();
        if (with.score_db() > score_db() - worth_again_db) continue;
      }
      kept = std::move(with.kept);
    }
  }

  /// A cause that is not found any more now that the others are known was one of theirs; and so was a plain one, or
  /// an EQ beside an echo (in steady sounds an echo is one), that they do as well without, once they are estimated
  /// without it.
  void let_go() {
    for (size_t n = 0; n < kept.size() && kept.size() > 1;) {
      Search other = *this;
      other.kept.erase(other.kept.begin() + long(n));
      const double takes_db = db_of(other.left(), left());
      const bool is_found = bool(tried(*kept[n].of, view_without(n)).kept);
      const bool goes = !is_found && takes_db <= most_let_go_db,
                 is_echos = kept[n].of == &named("filter") && keeps(named("echo")),
                 may_go = (kept[n].of->price_db == 0 && takes_db < second_db) || is_echos;
      if (goes || may_go) other.again();
      if (goes || (may_go && other.score_db() < score_db() + worth_again_db))
        kept = std::move(other.kept), n = 0;
      else
        ++n;
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
    if (!kept.empty()) again();
    add_causes();
    once_more_over_all();
    let_go();
    name_dynamics();
  }

  /// What was found in an outline, estimated in all of it: a gain by level before a filter, whose estimate does worse
  /// without than the other way round, whichever happens first. And what the outline does not hold.
  void run_from(const std::vector<Kept>& outline) {
    double now = left();
    order_is_known = true;
    auto laws_first = outline;
    std::ranges::stable_sort(laws_first, {}, [](const Kept& k) {
      return is_hand_on_gain(*k.of) ? 0 : k.found->follows ? 1 : 2;
    });
    for (const Kept& k : laws_first) {
      const auto found = estimated(*k.of, view_without({}));
      if (!found) continue;
      kept.push_back({found, k.of});
      if (const double then = left(); then < now)
        now = then;
      else
        kept.pop_back();
    }
    std::ranges::stable_sort(
        kept, {}, [&](const Kept& k) { return std::ranges::find(outline, k.of, &Kept::of) - outline.begin(); });
    again();
    const size_t known = kept.size();
    add_causes();
    if (kept.size() > known) once_more_over_all();
    let_go();
  }

  void add_causes() {
    while (kept.size() < most_causes) {
      const View so_far = view_without({});
      if (so_far.left().first <= master_share(nothing_left)) break;
      // The error of a word length is no offset and no noise, though it may look like both.
      if (facts.bits && *facts.bits < 24)
        if (is_error_of_word_length(excerpt, so_far.model(), facts)) break;
      auto found = best(so_far);
      if (!found.kept) break;
      kept.push_back(std::move(*found.kept));
      again();
      job.report(0.7 * (1 - std::pow(0.6, double(kept.size()))));  // how many there are is not known before
    }
  }

  /// Whether it was a limiter or a compressor shows in peaks that nothing else was added to.
  void name_dynamics() {
    constexpr double no_worse_db = -0.1;
    for (size_t n = 0; n < kept.size() && kept.size() > 1; ++n)
      if (kept[n].of == &named("dynamics"))
        if (const auto found = estimated(*kept[n].of, view_without(n)))
          if (found->cause.code != kept[n].found->cause.code)
            keep_if_better(n, {found, kept[n].of}, left(), no_worse_db);
  }

  /// What is left, and what the causes cost.
  double score_db() const { return score_of_db(left()); }
  /// With the gain by level as its law has it, not as it comes back: one that is free to move explains anything.
  double score_by_law_db() const { return score_of_db(lawful().left()); }
  /// The one gain that moves is nearly all its law's.
  bool goes_by_law() const {
    constexpr double beyond_db = 3;
    return keeps(named("dynamics")) && !has_hand_beside_law(*this) && score_by_law_db() < score_db() + beyond_db;
  }
  double score_of_db(double power) const {
    double price = 0;
    for (const Kept& k : kept) price += k.of->price_db;
    return db_of(power + master_share(next_to_nothing), excerpt.master_power) + price;
  }
};

/// Goes on with another search from where that starts; `search` is the better one of both then. `by_db`: that it must
/// be better by where it comes to other causes.
void try_another(Search& search, Search other, double otherwise_db = simpler_db) {
  other.run();
  const bool is_same = search.kept.size() == other.kept.size() &&
                       std::ranges::all_of(search.kept, [&](const Kept& k) { return other.keeps(*k.of); });
  const double by_db = is_same ? 0 : otherwise_db;
  const bool both_follow = search.keeps(named("dynamics")) && other.keeps(named("dynamics"));
  const auto score = [&](const Search& s) { return both_follow ? s.score_by_law_db() : s.score_db(); };
  if (score(other) < score(search) - by_db) search.kept = std::move(other.kept);
}

/// Where a gain by level and a filter hide one another from the first, what is found first is neither: from the gain,
/// and from the filter as it is whatever the moments' gains.
void try_dynamics_with_filter(Search& search, const Search& fresh) {
  constexpr double may_be_law = 0.5, moves_db = 0.3;
  const Estimate &dynamics = named("dynamics"), &filter = named("filter");
  const View bare = fresh.view_without({});
  const FoundPtr law = fresh.estimated(dynamics, bare);
  if (law && law->follows && law->cause.values["follows"].get<double>() > may_be_law &&
      !(search.place_of("dynamics") == 0 && search.place_of("filter"))) {
    Search other = fresh;
    other.kept = {{law, &dynamics}};
    try_another(search, std::move(other));
  }
  if (is_well_known(search, search.left())) return;
  const MomentGains gains = moment_gains(search.excerpt, bare.model());
  if (gains.spread_db < moves_db) return;
  Model moved = Planar(bare.model());
  moved.moved = true;
  put_in(gains, moved);
  auto found = estimate_filter(search.excerpt, moved);
  if (!found) return;
  Search other = fresh;
  other.kept = {{std::make_shared<const Found>(std::move(*found)), &filter}};
  Tried beside = other.tried(dynamics, other.view_without({}));
  if (!beside.kept) return;
  other.kept.push_back(std::move(*beside.kept));
  try_another(search, std::move(other));
}

/// A curve beside a filter may take out little before both have come apart, or what follows the level in its place.
void try_curve_with_filter(Search& search, const Search& fresh) {
  constexpr double may_be_curve_db = 0.4;
  const Estimate& curve = named("distortion");
  if (!search.place_of("filter") || search.keeps(curve)) return;
  Search other = fresh;
  std::ranges::copy_if(search.kept, std::back_inserter(other.kept),
                       [](const Kept& k) { return k.of != &named("dynamics"); });
  const View v = other.view_without({});
  const FoundPtr bent = other.estimated(curve, v);
  if (!bent) return;
  const auto weight = other.weight_of(curve, *bent, v);
  if (weight.holds && weight.taken_db < may_be_curve_db) return;
  const bool is_one_more = other.kept.size() == search.kept.size();
  other.kept.push_back({bent, &curve});
  try_another(search, std::move(other), is_one_more ? second_db - curve.price_db : simpler_db);
}

/// A hand on the gain and the law beside it, which hears what was before the hand or what came behind it; nothing
/// where either is not found.
std::vector<Kept> hand_and_law(const Search& fresh, const Estimate& hand, Model::Hears hears) {
  const Estimate& dynamics = named("dynamics");
  const View bare = fresh.view_without({});
  const FoundPtr law = fresh.estimated(dynamics, bare);
  Search start = fresh;
  if (hears == Model::Hears::master) {
    if (!law || !law->by_law) return {};
    start.kept = {{law->by_law, &dynamics}};
    Tried found = start.tried(hand, start.view_without({}));
    if (!found.kept || is_how_a_detector_settles(found.kept->found->cause)) return {};
    start.kept = {std::move(*found.kept)};
  } else {
    const LevelCourse* heard = law ? law->follows.get() : nullptr;
    auto found = hand.estimate(without_law_behind_hand(fresh.excerpt, bare.model(), heard), bare.model());
    if (!found || is_how_a_detector_settles(found->cause)) return {};
    start.kept = {{std::make_shared<const Found>(std::move(*found)), &hand}};
  }
  const FoundPtr beside = start.estimated(dynamics, start.view_without({}), hears);
  if (!beside) return {};
  start.kept.push_back({beside, &dynamics});
  return std::move(start.kept);
}

/// Where a fade or steps and a gain by level hide one another from the first: from what leaves least by the law alone,
/// of those where that hears what was before the hand, and of those where it hears what came behind it.
void try_hand_and_law(Search& search, const Search& fresh) {
  for (const auto hears : {Model::Hears::master, Model::Hears::model}) {
    std::optional<Search> best;
    for (const char* hand : {"fade", "gain_step"}) {
      search.job.check();
      Search other = fresh;
      other.kept = hand_and_law(fresh, named(hand), hears);
      if (!other.kept.empty() && (!best || other.score_by_law_db() < best->score_by_law_db()))
        best.emplace(std::move(other));
    }
    if (best) try_another(search, std::move(*best));
  }
}

/// A gain that is free to move explains much that has a cause of its own, or two: the search without it is tried too,
/// and those that start from a fade, or from what a hand may have done before the level or behind it.
Search searched(const Excerpt& excerpt, const BudgetFacts& facts, Attempts& attempts, const Job& job) {
  Search search{{excerpt, attempts}, facts, Job{job.stop, job.progress, std::min(job.workers(), most_workers)}};
  search.run();
  job.report(0.7);
  const Search fresh{{excerpt, attempts}, facts, Job{job.stop, {}, search.job.threads}};
  if (search.left() > search.master_share(well_explained)) try_curve_with_filter(search, fresh);
  if (search.left() > search.master_share(well_explained)) try_dynamics_with_filter(search, fresh);
  const Estimate *ride = &named("gain_ride"), *dynamics = &named("dynamics"), *steps = &named("gain_step");
  const auto moves = std::find_if(search.kept.begin(), search.kept.end(), [&](const Kept& k) {
    return k.of == ride || k.of == dynamics || (k.of == steps && k.found->cause.values["count"].get<size_t>() > 1);
  });
  if (moves == search.kept.end()) return search;
  Search without = fresh;
  without.banned = moves->of;
  try_another(search, std::move(without));
  if (Tried fade = fresh.tried(named("fade"), fresh.view_without({})); fade.kept) {
    Search from_fade = fresh;
    from_fade.kept = {std::move(*fade.kept)};
    try_another(search, std::move(from_fade));
  }
  if (!search.goes_by_law()) try_hand_and_law(search, fresh);
  return search;
}

}  // namespace

Planar model_of(const Excerpt& excerpt, const std::vector<Kept>& causes, Attempts& attempts) {
  Attempts::Before steps;
  in_order(
      causes.size(),
      [&](size_t n) {
        return std::pair{causes[n].of->stands, n};
      },
      [&](size_t n) { steps.push_back(causes[n].found); });
  return attempts.model(*excerpt.master, steps,
                        [&](const Found& found, Planar& model) { found.take_out(excerpt, model); });
}

/// How late the latest of what they repeat comes, in seconds.
double latest_echo_s(const std::vector<Kept>& causes) {
  double latest = 0;
  for (const Kept& k : causes)
    if (k.found->cause.code == "echo") latest = std::max(latest, k.found->reach_s);
  return latest;
}

/// The search in an outline; where that holds an echo, once more behind the seams that it comes across.
Search searched_outline(const BudgetFacts& facts, Tries& tries, const Job& job) {
  Excerpt& outline = *tries.outline;
  Search first = searched(outline, facts, tries.of_outline, job.part(0, 0.5));
  const double echo_s = latest_echo_s(first.kept);
  auto told = told_behind_seams(outline, echo_s);
  if (echo_s == 0 || told == outline.told) return first;
  outline.told = std::move(told);
  weigh_master(outline);
  tries.of_outline.forget();
  return searched(outline, facts, tries.of_outline, job.part(0.5, 1));
}

/// Of an outline: as many seconds at any rate, for echoes and tails last as long.
int64_t outline_size(const Excerpt& e) { return outline_samples * std::max(1, e.rate_hz / 48000); }

/// A long excerpt is searched in an outline of it first.
std::vector<Kept> search_causes(const Excerpt& excerpt, const BudgetFacts& facts, Tries& tries, const Job& job) {
  if (excerpt.frames() * excerpt.pairs() <= 2 * outline_size(excerpt))
    return searched(excerpt, facts, tries.whole, job).kept;
  if (!tries.outline) tries.outline = outline_of(excerpt, outline_size(excerpt));
  const Search first = searched_outline(facts, tries, job.part(0, 0.5));
  Search search{{excerpt, tries.whole}, facts, Job{job.stop, job.part(0.5, 1).progress, first.job.threads}};
  search.run_from(first.kept);
  if (has_hand_beside_law(search))
    try_hand_and_law(search, {{excerpt, tries.whole}, facts, {job.stop, {}, first.job.threads}});
  return std::move(search.kept);
}

}  // namespace heathmist::causes
