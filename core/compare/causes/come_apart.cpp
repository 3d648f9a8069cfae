#include "core/compare/causes/come_apart.hpp"

#include <algorithm>

#include "core/compare/causes/law_beside_filter.hpp"
#include "core/compare/causes/moment_gains.hpp"

namespace heathmist::causes {

namespace {

constexpr double well_known_db = -45;  // of the master

/// A filter, and what hides it, among the causes kept.
struct Pair {
  size_t filter = 0, other = 0;
};
using Apart = std::optional<CauseSet>;

/// Of two that happen one after the other, the first from the return with the second undone, then that behind it.
Apart one_after_the_other(const CauseSet& causes, size_t first, size_t second) {
  const auto [lower, upper] = std::minmax(first, second);
  CauseSet with = causes;
  with.kept[lower] = causes.kept[first], with.kept[upper] = causes.kept[second];
  CauseSet others = with;
  others.kept.erase(others.kept.begin() + long(upper));
  const View v = others.view_without(lower);
  const Estimate& e = *causes.kept[first].of;
  const auto was = undone(v.excerpt_for(e), *causes.kept[second].found, others.view_without({}).model_for(e));
  if (!was) return {};
  auto found = e.estimate(*was, v.model_for(e));
  if (!found || !with.may_become(lower, found->cause.code)) return {};
  with.kept[lower].found = std::make_shared<const Found>(std::move(*found));
  with.kept[upper].found = with.estimated(*causes.kept[second].of, with.view_without(upper));
  return with.kept[upper].found ? Apart(std::move(with)) : std::nullopt;
}
Apart filter_first(const CauseSet& causes, const Pair& p) { return one_after_the_other(causes, p.filter, p.other); }
Apart other_first(const CauseSet& causes, const Pair& p) { return one_after_the_other(causes, p.other, p.filter); }

/// The filter that is best with whichever gains `put_in` puts into the model; and the law beside it.
template <class PutIn>
Apart filter_whichever(const CauseSet& causes, const Pair& p, PutIn put_in) {
  const View v = causes.view_without(p.filter);
  const Excerpt& of = v.excerpt_for(*causes.kept[p.filter].of);
  Model model = Planar(v.model_for(*causes.kept[p.filter].of));
  model.moved = true;
  put_in(of, model);
  auto found = estimate_filter(of, model);
  if (!found || !causes.may_become(p.filter, found->cause.code)) return {};
  CauseSet with = causes;
  with.kept[p.filter].found = std::make_shared<const Found>(std::move(*found));
  with.kept[p.other].found = with.estimated(*causes.kept[p.other].of, with.view_without(p.other));
  return with.kept[p.other].found ? Apart(std::move(with)) : std::nullopt;
}
Apart whichever_law(const CauseSet& causes, const Pair& p) {
  const auto& level = *causes.kept[p.other].found->follows;
  return filter_whichever(causes, p, [&](const Excerpt& of, Model& m) { put_in_law_beside_filter(of, level, m); });
}
Apart whichever_gains(const CauseSet& causes, const Pair& p) {
  return filter_whichever(causes, p, [](const Excerpt& of, Model& m) { put_in(moment_gains(of, m), m); });
}

using Way = Apart (*)(const CauseSet&, const Pair&);

bool is_curve(const CauseSet& causes, const Pair& p) { return causes.kept[p.other].of == &named("distortion"); }

/// Of a gain, that it follows a level; of both, that they can be undone.
bool are_such(const CauseSet& causes, const Pair& p) {
  return causes.kept[p.filter].found->runs && (is_curve(causes, p) || causes.kept[p.other].found->follows);
}

std::vector<Way> ways_apart(const CauseSet& causes, const Pair& p) {
  if (is_curve(causes, p)) return {filter_first, other_first};
  if (causes.order_is_known) return {whichever_law, p.filter < p.other ? filter_first : other_first};
  return {whichever_law, whichever_gains, filter_first, other_first};
}

std::optional<Pair> pair_of(const CauseSet& causes, const char* other) {
  const auto filter = causes.place_of("filter"), place = causes.place_of(other);
  return filter && place ? std::optional(Pair{*filter, *place}) : std::nullopt;
}

double come_apart(CauseSet& causes, const char* other, double now, const Job& job) {
  constexpr int most_rounds = 8;
  constexpr double fast_db = 1.5, far_off_db = 2.5;  // from what is left: not tried again
  std::vector<Way> ways = ways_apart(causes, *pair_of(causes, other));
  for (int round = 0; round < most_rounds && now > causes.master_share(well_explained); ++round) {
    const double before = now;
    std::vector<Way> still;
    for (const Way way : ways) {
      job.check();
      const Pair p = *pair_of(causes, other);  // they may change places
      const bool waits = way == whichever_gains && (db_of(before, now) > fast_db || is_well_known(causes, now));
      const auto with = waits || !are_such(causes, p) ? std::nullopt : way(causes, p);
      const double then = with ? with->left() : now;
      if (round == 0 || db_of(then, now) <= far_off_db) still.push_back(way);
      if (then < now) causes.kept = with->kept, now = then;
    }
    ways = std::move(still);
    if (db_of(before, now) < worth_again_db) break;
  }
  return now;
}

}  // namespace

bool is_well_known(const CauseSet& causes, double left) {
  return left < causes.master_share(std::pow(10, well_known_db / 10));
}

double come_apart(CauseSet& causes, double left, const Job& job) {
  if (causes.view_without({}).before() == causes.settled) return left;
  for (const char* other : {"dynamics", "distortion"})
    if (pair_of(causes, other)) left = come_apart(causes, other, left, job);
  causes.settled = causes.view_without({}).before();
  return left;
}

}  // namespace heathmist::causes
