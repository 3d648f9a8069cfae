#include "core/compare/causes/of_pair.hpp"

#include <algorithm>
#include <cmath>
#include <utility>

#include "core/compare/causes/excerpt.hpp"

namespace heathmist {

using namespace causes;

namespace {

constexpr int64_t most_samples = 3 << 20;      // frames by pairs that are held in memory
constexpr double channel_delay_least = 0.004;  // samples
constexpr double by_a_filter = 0.3;            // samples
constexpr double channel_delay_db = 0.5;       // what it must take out
constexpr double jumps_take_db = 3;            // what undoing them must take out,
constexpr double jumps_take_there_db = 12;     // ... or where that moves the return
constexpr double least_gain_db = 0.003;        // that is told
constexpr double within_another_db = 0.03;     // ... beside another cause that moves the level
constexpr double least_delay = 0.002;          // samples; likewise
constexpr int64_t level_frames = 1 << 18;      // of a stretch of a long pair that the fit's own causes are weighed on,
constexpr int64_t parts_of_a_stretch = 32;     // ... of a longer one in so many parts, evenly spread

/// Power of return - master under another fit against the master's: over all of an excerpt that is whole, else over
/// parts of its stretches.
double power_under(const Comparable& pair, const Fit& fit, const Excerpt& e) {
  AlignedMaster reader(*pair.master, fit);
  AlignedReturn laid(*pair.ret, fit);
  Planar m, r;
  std::vector<double> left;
  double sum = 0, of = 0;
  const auto add = [&](int64_t at, int64_t frames) {
    reader.read(at, frames, m);
    laid.read(at, frames, r);
    left.resize(size_t(frames));
    for (const auto& p : fit.pairs) {
      take_residual(m.channel(p.master), r.channel(p.ret), p, fit.gain(), left);
      for (const double v : left) sum += v * v;
      for (const double x : m.channel(p.master)) of += x * x;
    }
  };
  for (const Stretch& s : e.stretches) {
    if (e.whole || s.frames <= level_frames) {
      for (int64_t done = 0; done < s.frames; done += level_frames)
        add(s.first + done, std::min(level_frames, s.frames - done));
      continue;
    }
    const int64_t frames = level_frames / parts_of_a_stretch;
    for (int64_t part = 0; part < parts_of_a_stretch; ++part)
      add(s.first + part * (s.frames - frames) / (parts_of_a_stretch - 1), frames);
  }
  return of > 0 ? sum / of : 0;
}

std::vector<int> all_channels(const NullReport& r) {
  std::vector<int> all;
  for (size_t p = 0; p < r.fit.pairs.size(); ++p) all.push_back(int(p));
  return all;
}

/// What the fit itself has taken out, one after the other. `more_db`: gain that the causes found beyond the fit's.
std::vector<Cause> causes_of_fit(const Comparable& pair, const NullReport& report, const Excerpt& e, double more_db) {
  struct Step {
    Cause cause;
    Fit fit;
  };
  const Fit& f = report.fit;
  Fit so_far = f;
  so_far.delay_samples = 0, so_far.drift_ppm = 0, so_far.gain_db = 0;
  so_far.pairs = plain_pairs(report.master.channels, report.ret.channels);
  const Fit bare = so_far;
  std::vector<Step> steps;
  const auto add = [&](const char* code, Json values, std::vector<int> channels) {
    Cause c{.code = code, .channels = std::move(channels), .values = std::move(values)};
    steps.push_back({std::move(c), so_far});
  };
  if (f.delay_samples != 0) {
    so_far.delay_samples = f.delay_samples;
    if (std::abs(f.delay_samples) >= least_delay)
      add("delay",
          {{"delay_samples", f.delay_samples}, {"delay_ms", 1000 * f.delay_samples / report.master.sample_rate_hz}},
          all_channels(report));
  }
  if (f.drift_ppm != 0) {
    so_far.drift_ppm = f.drift_ppm;
    add("drift", {{"drift_ppm", f.drift_ppm}}, all_channels(report));
  }
  if (f.swapped()) {
    so_far.pairs = f.pairs;
    for (auto& p : so_far.pairs) p.inverted = false;
    Json map = Json::array();
    for (const auto& p : f.pairs) map.push_back({p.master, p.ret});
    add("swap", {{"map", map}}, all_channels(report));
  }
  std::vector<int> inverted;
  for (size_t p = 0; p < f.pairs.size(); ++p)
    if (f.pairs[p].inverted) inverted.push_back(int(p));
  if (!inverted.empty()) {
    so_far.pairs = f.pairs;
    add("polarity", {{"polarity", f.polarity()}}, inverted);
  }
  if (std::abs(f.gain_db + more_db) >= least_gain_db) {
    so_far.gain_db = f.gain_db;
    add("gain", {{"gain_db", f.gain_db + more_db}}, all_channels(report));
  }
  if (steps.empty()) return {};
  double before = power_under(pair, bare, e);
  std::vector<Cause> told;
  for (Step& s : steps) {
    const double after = power_under(pair, s.fit, e);
    s.cause.before_db = relative_db(before, 1), s.cause.after_db = relative_db(after, 1);
    told.push_back(std::move(s.cause));
    before = after;
  }
  return told;
}

/// Small jumps to and fro that come to nothing in all: what a speed that moves looks like from break to break.
bool may_be_wow(const Continuity& breaks, double rate_hz) {
  constexpr double most_jump_s = 0.003, comes_to_nothing = 0.35;
  constexpr size_t least_jumps = 4;
  double sum = 0, all = 0, most = 0;
  size_t count = 0;
  for (const Break& b : breaks.breaks) {
    if (b.kind == BreakKind::dropout) continue;
    sum += b.jump_samples, all += std::abs(b.jump_samples), most = std::max(most, std::abs(b.jump_samples)), ++count;
  }
  return count >= least_jumps && most < most_jump_s * rate_hz && std::abs(sum) < comes_to_nothing * all;
}

/// So little that notes which a filter turns, each by its own phase, look like it.
bool may_be_phase(const Continuity& breaks, double rate_hz) {
  constexpr double most_jump_s = 0.003;
  return std::all_of(breaks.breaks.begin(), breaks.breaks.end(),
                     [&](const Break& b) { return std::abs(b.jump_samples) < most_jump_s * rate_hz; });
}

/// By how much the one leaves less than the other of the same stretches, in dB, where they are not the same and both
/// may be read: what is skipped takes nothing out by being gone.
double takes_out_db(const Excerpt& one, const Excerpt& other) {
  double left = 0, left_other = 0;
  for (size_t n = 0; n < size_t(one.frames()); ++n) {
    bool same = true;
    for (int p = 0; p < one.pairs(); ++p) same = same && one.ret.channel(p)[n] == other.ret.channel(p)[n];
    if (same || !one.told[n] || !other.told[n]) continue;
    for (int p = 0; p < one.pairs(); ++p) {
      const double m = one.master->channel(p)[n];
      left += std::pow(one.ret.channel(p)[n] - m, 2), left_other += std::pow(other.ret.channel(p)[n] - m, 2);
    }
  }
  return left_other > 0 ? -10 * std::log10(std::max(left / left_other, 1e-20)) : 0;
}

bool tells(const Budget& budget, const char* code) {
  return std::any_of(budget.causes.begin(), budget.causes.end(), [&](const Cause& c) { return c.code == code; });
}

Cause cause_of(const Break& b, const NullReport& report) {
  Cause c;
  c.channels = all_channels(report);
  c.from_s = b.at_s, c.until_s = b.at_s + b.length_s;
  c.values = {{"at_s", b.at_s}, {"length_s", b.length_s}};
  c.code = b.kind == BreakKind::skip ? "splice" : b.repeats ? "repeat" : "insert";
  c.values["jump_samples"] = b.jump_samples;
  return c;
}

/// The level that a cause gives to what it leaves as it was: an EQ its flat part, a change of width the mid (or what is
/// left), a fold the sum, a copy the copied side, dynamics what they do not turn down, clipping what lies under it, a
/// fade its plateau, steps the first part that lasts, an echo the direct sound, truncation what is more than its half
/// step, an offset what the fit's gain leaned on it.
double level_within_db(const Cause& c) {
  const Json& v = c.values;
  if (c.code == "eq") return v["flat_db"].get<double>();
  if (c.code == "band_limit") return v.value("flat_db", 0.0);
  if (c.code == "width") return v[v.contains("only_side_db") ? "only_side_db" : "mid_db"].get<double>();
  if (c.code == "crosstalk" || c.code == "echo") return v["direct_db"].get<double>();
  if (c.code == "clip") return v["under_it_db"].get<double>();
  if (c.code == "fade") return v["plateau_db"].get<double>();
  if (c.code == "gain_step") return v["level_db"].get<double>();
  if (c.code == "word_length" || c.code == "dc") return v.value("level_db", 0.0);
  if (is_of_dynamics(c)) return v["makeup_db"].get<double>();
  if ((c.code != "mono" && c.code != "copied_channel") || !v.contains("matrix")) return 0;
  const double in_left = v["matrix"][0][0].get<double>(), of_right = v["matrix"][0][1].get<double>();
  return 20 * std::log10(std::max({1e-9, std::abs(in_left + of_right), std::abs(in_left - of_right)}));
}
double level_within_db(const std::vector<Cause>& causes) {
  double sum = 0;
  for (const Cause& c : causes) sum += level_within_db(c);
  return sum;
}

/// The gain that holds beyond the fit's, with the excerpt turned down by it. So little that leaves more is none, and so
/// little that no sample keeps to it and next to nothing is taken out: a tone that was added leans on it.
double turned_to_held_gain(Excerpt& e) {
  constexpr double least_db = 0.01, leaning_db = 0.025, must_leave = 0.9;
  const auto [db, fine] = held_gain(e);
  const double before = power_left(e, *e.master);
  if (db == 0) return 0;
  turn_down(e, db);
  const bool firm = comes_back_as_sent(e);
  const bool surely = fine && std::abs(db) > (firm ? least_db : leaning_db);
  if (surely || power_left(e, *e.master) < (firm ? 1 : must_leave) * before) return db;
  turn_down(e, -db);
  return 0;
}

/// A gain is told with what other causes found of it, and not where it comes to nothing, is little and takes nothing
/// out, or leaves more than all of the programme and nothing after it makes up for that.
void tell_gain(std::vector<Cause>& told, double more_db, double left_in_the_end_db) {
  constexpr double little_db = 0.1, made_up_db = -20, worth_db = 0.1;
  const auto gain = std::find_if(told.begin(), told.end(), [](const Cause& c) { return c.code == "gain"; });
  if (gain == told.end()) return;
  const double db = gain->values["gain_db"].get<double>() + more_db;
  const bool takes = gain->after_db.value_or(-999) < gain->before_db.value_or(-999) - worth_db;
  if (std::abs(db) < (more_db == 0 ? least_gain_db : within_another_db) ||
      (!takes && (std::abs(db) < little_db || (gain->after_db.value_or(-999) > 0 && left_in_the_end_db > made_up_db))))
    told.erase(gain);
  else
    gain->values["gain_db"] = db;
}

/// The gain that is left once a speed that moves is taken out: what is laid by one delay alone tells it badly. 0 where
/// the speed does not move.
double gain_beside_wow(const Excerpt& e, const Budget& budget) {
  constexpr double least_db = 0.01, well_followed = 0.3;
  const auto wow =
      std::find_if(budget.causes.begin(), budget.causes.end(), [](const Cause& c) { return c.code == "wow"; });
  if (wow == budget.causes.end() || wow->part.what != CausePart::layer) return 0;
  Planar model = *e.master;
  budget.layers[wow->part.number].put_in(e, model);
  GainPiece sum;
  for (int p = 0; p < e.pairs(); ++p)
    for (size_t n = 0; n < size_t(e.frames()); ++n)
      if (e.told[n]) sum.add(model.channel(p)[n], e.ret.channel(p)[n]);
  if (!(sum.mr > 0) || sum.mr * sum.mr < well_followed * sum.mm * sum.rr) return 0;
  const double db = 20 * std::log10(sum.gain());
  return std::abs(db) > least_db ? db : 0;
}

/// To the gain of the fit, or as one of its own behind what else the fit took out.
void add_gain(std::vector<Cause>& told, double db, const NullReport& report) {
  auto at = std::find_if(told.begin(), told.end(), [](const Cause& c) { return c.code == "gain"; });
  if (at == told.end()) {
    at = std::find_if(told.begin(), told.end(), [](const Cause& c) { return !c.is_of_the_fit(); });
    Cause gain{.code = "gain", .channels = all_channels(report), .values = {{"gain_db", 0.0}}};
    gain.before_db = gain.after_db = at == told.begin() ? report.residual_relative_db() : std::prev(at)->after_db;
    at = told.insert(at, std::move(gain));
  }
  const double all_db = at->values["gain_db"].get<double>() + db;
  at->values["gain_db"] = std::abs(all_db) < within_another_db ? 0 : all_db;
}

bool return_is_one(const Excerpt& e) {
  const auto first = e.ret.channel(0);
  for (int p = 1; p < e.pairs(); ++p)
    if (!std::equal(first.begin(), first.end(), e.ret.channel(p).begin())) return false;
  return true;
}

/// A mono master that comes back in all channels, which are one and the same.
std::optional<Cause> mono_in_all(const NullReport& report, const Excerpt& e) {
  if (report.master.channels != 1 || report.ret.channels < 2 || !return_is_one(e)) return {};
  Cause c{.code = "copied_channel", .channels = all_channels(report), .values = {{"from", 0}, {"of_mono", true}}};
  c.before_db = c.after_db = relative_db(power_left(e, *e.master), e.master_power);
  return c;
}

/// The budget starts from the residual as the whole pair leaves it. Levels that were read on stretches of a long one
/// are all moved by what these lie apart from it; of a whole one only a gain known better than the fit's lies between.
void start_from_the_residual(std::vector<Cause>& told, const NullReport& report, bool whole) {
  const auto first = std::find_if(told.begin(), told.end(), [](const Cause& c) { return !c.is_of_the_fit(); });
  const auto residual = report.residual_relative_db();
  if (first == told.end() || !first->before_db || !residual) return;
  const double moved = *residual - *first->before_db;
  const bool again = std::all_of(told.begin(), first, [](const Cause& c) { return c.after_db.has_value(); });
  if (first != told.begin() && again) std::prev(first)->after_db = *residual - (whole ? 0 : moved);
  first->before_db = *residual - (whole ? 0 : moved);
  if (whole) return;
  for (Cause& c : told)
    for (auto* db : {&c.before_db, &c.after_db})
      if (*db) **db += moved;
}

/// The fit's delay is that of most of a return that jumps: its start may lie elsewhere.
void tell_where_it_starts(std::vector<Cause>& told, double head_samples) {
  const auto delay = std::find_if(told.begin(), told.end(), [](const Cause& c) { return c.code == "delay"; });
  if (head_samples != 0 && delay != told.end())
    delay->values["at_start_samples"] = delay->values["delay_samples"].get<double>() + head_samples;
}

/// The excerpt with its jumps undone, where that takes out something.
bool lay_without_jumps(const Comparable& pair, const NullReport& report, const Continuity& breaks, double more_db,
                       Excerpt& e, std::vector<Cause>& told, const Job& job) {
  Excerpt laid =
      take_excerpt(*pair.master, *pair.ret, report.fit, report.sums, breaks, {false, true}, most_samples, job);
  turn_down(laid, more_db);
  const auto before = relative_db(power_left(e, *e.master), e.master_power),
             after = relative_db(power_left(laid, *laid.master), laid.master_power);
  const double there = takes_out_db(laid, e), of_all = before.value_or(-200) - after.value_or(-200);
  if (there <= jumps_take_there_db && std::min(there, of_all) <= jumps_take_db) return false;
  for (const Break& b : breaks.breaks) {
    if (b.kind == BreakKind::dropout) continue;
    told.push_back(cause_of(b, report));
    told.back().part = {CausePart::jumps};
    told.back().before_db = before, told.back().after_db = after;
  }
  tell_where_it_starts(told, breaks.head_samples);
  e = std::move(laid);
  return true;
}

/// By how many samples the channels lie apart at most.
double apart_samples(const Fit& fit) {
  double apart = 0;
  for (const auto& p : fit.pairs) apart = std::max(apart, std::abs(p.delay_samples - fit.pairs[0].delay_samples));
  return apart;
}

/// The excerpt with every channel laid by its own delay, where that takes out something.
bool lay_by_channel(const Comparable& pair, const NullReport& report, const Continuity& breaks, bool jumps,
                    double more_db, Excerpt& e, std::vector<Cause>& told, const Job& job) {
  const auto& pairs = report.fit.pairs;
  const double apart = apart_samples(report.fit);
  if (pairs.size() < 2 || apart < channel_delay_least || apart > 2000 || return_is_one(e)) return false;
  double together = 0;  // what all are late by: where that is more, and little, it is a filter's phase
  for (const auto& p : pairs) together += (p.delay_samples - report.fit.delay_samples) / double(pairs.size());
  if (apart < by_a_filter && std::abs(together) > apart) return false;
  Excerpt own =
      take_excerpt(*pair.master, *pair.ret, report.fit, report.sums, breaks, {true, jumps}, most_samples, job);
  turn_down(own, more_db);
  const auto before = relative_db(power_left(e, *e.master), e.master_power),
             after = relative_db(power_left(own, *own.master), own.master_power);
  if (!before || before.value() - after.value_or(-200) < channel_delay_db) return false;
  Cause c{.code = "channel_delay", .before_db = before, .after_db = after};
  c.part = {CausePart::own_delays};
  Json delays = Json::array();
  size_t most = 1;
  for (size_t p = 0; p < pairs.size(); ++p) {
    const double late = pairs[p].delay_samples - pairs[0].delay_samples;
    delays.push_back(late);
    if (p > 0 && std::abs(late) > channel_delay_least) c.channels.push_back(int(p));
    if (std::abs(late) > std::abs(pairs[most].delay_samples - pairs[0].delay_samples)) most = p;
  }
  const double late = pairs[most].delay_samples - pairs[0].delay_samples;
  c.values = {
      {"delay_samples", late}, {"delay_ms", 1000 * late / report.master.sample_rate_hz}, {"delays_samples", delays}};
  told.push_back(std::move(c));
  e = std::move(own);
  return true;
}

/// What the layers leave, the rest with or without a name.
double left_beneath(const Budget& budget) {
  const bool named = !budget.causes.empty() && budget.causes.back().part.what == CausePart::rest;
  return (named ? budget.causes.back().before_db : budget.remainder_db).value_or(-200);
}

/// Where what is left is next to all of the programme, what the layers took out tells nothing; what the samples
/// themselves say stays.
void drop_what_explains_nothing(Budget& budget, std::optional<double> residual_db) {
  constexpr double next_to_all_db = -5;
  if (budget.remainder_db.value_or(-200) <= next_to_all_db) return;
  std::erase_if(budget.causes, [](const Cause& c) { return c.part.what == CausePart::layer; });
  budget.layers.clear();
  for (Cause& c : budget.causes) c.before_db = c.after_db = residual_db;
}

/// Channels that lie so little apart may have been turned by a filter of the sides, which then leaves no more where all
/// of them are laid alike. A filter of each channel takes a delay of its own with it and tells nothing of that.
bool are_turned_as_sides(const Budget& laid_alike, const Budget& by_own_delays) {
  const bool of_the_sides = std::any_of(laid_alike.causes.begin(), laid_alike.causes.end(),
                                        [](const Cause& c) { return c.values.contains("of"); });
  return of_the_sides && left_beneath(laid_alike) <= left_beneath(by_own_delays);
}

}  // namespace

PairBudget causes_of_pair(const Comparable& pair, const NullReport& report, const Continuity& breaks,
                          const BudgetFacts& facts, const Job& job) {
  PairBudget whole;
  std::vector<Cause>& told = whole.causes;
  if (report.identical || !report.fit.trusted || report.fit.last <= report.fit.first) return whole;
  bool jumps = std::any_of(breaks.breaks.begin(), breaks.breaks.end(),
                           [](const Break& b) { return b.kind != BreakKind::dropout; });
  Excerpt plain = take_excerpt(*pair.master, *pair.ret, report.fit, report.sums, breaks, {}, most_samples, job);
  plain.path = facts.path;
  double more_db = turned_to_held_gain(plain);
  told = causes_of_fit(pair, report, plain, more_db);
  if (auto copied = mono_in_all(report, plain)) told.push_back(std::move(*copied));
  if (!(report.sums.residual > 0)) {
    for (auto& c : told) c.text = sentence_of(c);
    return whole;
  }
  BudgetFacts at_that_gain = facts;
  at_that_gain.gain_db += more_db;
  std::optional<Budget> in_one_piece;
  if (jumps && (may_be_wow(breaks, plain.rate_hz) || may_be_phase(breaks, plain.rate_hz))) {
    in_one_piece = explain_away(plain, at_that_gain, job.part(0, 0.5));
    jumps = !tells(*in_one_piece, "wow") || !may_be_wow(breaks, plain.rate_hz);
  }
  if (jumps) jumps = lay_without_jumps(pair, report, breaks, more_db, plain, told, job);
  if (jumps) whole.layers.jumps = breaks;
  whole.layers.gain_db = more_db;
  whole.layers.own_delays = lay_by_channel(pair, report, breaks, jumps, more_db, plain, told, job);
  at_that_gain.fit_is_plain = facts.fit_is_plain && !jumps && !whole.layers.own_delays;
  auto budget = in_one_piece && !jumps && !whole.layers.own_delays
                    ? std::move(*in_one_piece)
                    : explain_away(plain, at_that_gain, job.part(in_one_piece ? 0.5 : 0, 1));
  if (jumps && in_one_piece && left_beneath(*in_one_piece) <= left_beneath(budget)) {
    budget = std::move(*in_one_piece), whole.layers.jumps = {}, whole.layers.own_delays = false;
    std::erase_if(told, [](const Cause& c) { return c.part.what == CausePart::jumps || c.code == "channel_delay"; });
    for (Cause& c : told) c.values.erase("at_start_samples");
  } else if (const double db = gain_beside_wow(plain, budget); db != 0) {
    turn_down(plain, db);
    add_gain(told, db, report);
    more_db += db, at_that_gain.gain_db += db, whole.layers.gain_db = more_db;
    budget = explain_away(plain, at_that_gain, Job{job.stop, {}, job.threads});
  }
  if (whole.layers.own_delays && apart_samples(report.fit) < by_a_filter && tells(budget, "eq")) {
    plain = take_excerpt(*pair.master, *pair.ret, report.fit, report.sums, breaks, {false, jumps}, most_samples, job);
    turn_down(plain, more_db);
    auto alike = explain_away(plain, at_that_gain, Job{job.stop, {}, job.threads});
    if (are_turned_as_sides(alike, budget)) {
      budget = std::move(alike), whole.layers.own_delays = false;
      std::erase_if(told, [](const Cause& c) { return c.code == "channel_delay"; });
    }
  }
  drop_what_explains_nothing(budget, report.residual_relative_db());
  const Cause* last = !budget.causes.empty() ? &budget.causes.back() : !told.empty() ? &told.back() : nullptr;
  tell_gain(told, level_within_db(budget.causes) + budget.level_db, last ? last->after_db.value_or(-999) : 0);
  for (auto& c : budget.causes) told.push_back(std::move(c));
  whole.layers.layers = std::move(budget.layers);
  start_from_the_residual(told, report, plain.whole);
  for (auto& c : told) c.text = sentence_of(c);
  return whole;
}

}  // namespace heathmist
