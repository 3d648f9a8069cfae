#include "core/delivery/reach.hpp"

#include <algorithm>
#include <cmath>

#include "core/compare/dynamics.hpp"
#include "core/compare/json.hpp"
#include "core/compare/null.hpp"
#include "core/printable.hpp"

namespace heathmist {

namespace {

constexpr double within_lu = 0.05, reaches_within_lu = 0.1, most_gain_db = 30, usual_ceiling_dbtp = -1;
constexpr int most_reach_tries = 8, most_ceilings = 4;
constexpr double move_db = 0.5, goes_no_further = 0.1;

/// What is done before the gain and the limiter.
struct Kind {
  std::string name;
  std::vector<Stage> before;
  bool limits = true;
};

std::vector<Kind> kinds_for(double lufs) {
  const auto compressor = [&](double under, double ratio) {
    return Stage{"compressor", {{"threshold_dbfs", std::clamp(lufs - under, -80.0, 0.0)}, {"ratio", ratio}}};
  };
  return {{"level alone", {}, false},
          {"limiter", {}},
          {"compressor 1.5 : 1, then limiter", {compressor(0, 1.5)}},
          {"compressor 2 : 1, then limiter", {compressor(4, 2)}},
          {"compressor 4 : 1, then limiter", {compressor(8, 4)}}};
}

Chain chain_of(const Kind& kind, double gain_db, double ceiling_dbtp) {
  Chain chain{kind.name, kind.before, 1};
  chain.stages.push_back({"gain", {{"gain_db", gain_db}}});
  if (kind.limits) chain.stages.push_back({"limiter", {{"ceiling_dbtp", ceiling_dbtp}}});
  return chain;
}

/// A chain, and what came of it.
struct Tried {
  Chain chain;
  std::shared_ptr<const Clip> ret;
  Loudness loudness;
};

struct Search {
  const Outlet& outlet;
  std::shared_ptr<const Clip> master;
  const Grant& grant;
  double target, limit;
  Loudness before;

  Tried tried(Chain chain, const Job& job) const {
    Tried t{std::move(chain), {}, {}};
    t.ret = pass(master, t.chain, job.part(0, 0.6), {grant}).ret;
    t.loudness = measure_loudness(*t.ret, {}, job.part(0.6, 1));
    return t;
  }

  /// With the gain at which the return is as loud as it should be, or as loud as it gets.
  Tried with_gain(const Kind& kind, double ceiling, const Job& job) const {
    double gain = target - *before.integrated_lufs, last_gain = 0, last = 0;
    if (!kind.limits && before.true_peak_dbtp) gain = std::min(gain, limit - *before.true_peak_dbtp);
    for (int n = 0;; ++n) {
      const Job part = job.part(double(n) / most_reach_tries, (n + 1.0) / most_reach_tries);
      Tried t = tried(chain_of(kind, gain, ceiling), part);
      const double lufs = t.loudness.integrated_lufs.value_or(-300), lacks = target - lufs;
      // by the slope of the last two (secant): a dB of gain is a dB of loudness, or less where the limiter takes it
      const double slope = n > 0 && gain != last_gain ? (lufs - last) / (gain - last_gain) : 1;
      if (!kind.limits || std::abs(lacks) < within_lu || (lacks > 0 && slope < goes_no_further) ||
          n + 1 == most_reach_tries)
        return t;
      last_gain = gain, last = lufs;
      gain = std::clamp(gain + lacks / std::clamp(slope, goes_no_further, 1.2), -most_gain_db, most_gain_db);
    }
  }

  /// As it is heard: behind the outlet's encode, where there is one.
  std::optional<double> peak_of(const Tried& t, const Job& job) const {
    if (!outlet.encode) return t.loudness.true_peak_dbtp;
    return measure_loudness(*pass(t.ret, *outlet.encode, job.part(0, 0.6), {grant}).ret, {}, job.part(0.6, 1))
        .true_peak_dbtp;
  }

  Way way(const Kind& kind, const Job& job) const {
    double ceiling = limit;
    Tried t;
    std::optional<double> peak;
    for (int n = 0; n < most_ceilings; ++n) {
      const Job part = job.part(0.8 * n / most_ceilings, 0.8 * (n + 1) / most_ceilings);
      t = with_gain(kind, ceiling, part.part(0, 0.8));
      peak = peak_of(t, part.part(0.8, 1));
      const double over = peak.value_or(-300) - limit;
      if (over <= 0.005 || !kind.limits) break;
      ceiling -= over + 0.02;
    }
    Way w;
    w.name = kind.name, w.chain = t.chain;
    w.loudness_lufs = t.loudness.integrated_lufs, w.true_peak_dbtp = peak, w.plr_db = t.loudness.plr_db;
    if (t.loudness.range) w.range_lu = t.loudness.range->lu();
    w.reaches = w.loudness_lufs && std::abs(*w.loudness_lufs - target) < reaches_within_lu &&
                peak.value_or(-300) <= limit + 0.05;
    compare(t.ret, w, job.part(0.8, 1));
    return w;
  }

  /// Both equally loud.
  void compare(const std::shared_ptr<const Clip>& ret, Way& w, const Job& job) const {
    NullOptions options;
    options.fit.delay_samples = 0, options.fit.drift = false;
    options.fit.gain_db = w.loudness_lufs.value_or(0) - *before.integrated_lufs;
    const auto report = null_test(*master, *ret, {master, ret}, options, job);
    w.residual_relative_db = report.residual_relative_db();
    const auto trace = gain_trace(report.sums, report.fit, master->format().sample_rate_hz);
    std::vector<float> heard;
    for (const float db : trace.db)
      if (std::isfinite(db)) heard.push_back(db);
    if (heard.empty()) return;
    std::vector<float> sorted = heard;
    const auto usual = sorted.begin() + std::ptrdiff_t(sorted.size() * 9 / 10);
    std::nth_element(sorted.begin(), usual, sorted.end());
    int moves = 0;
    bool under = false;
    for (const float db : heard) {
      const bool now = db < *usual - float(move_db);
      moves += now && !under;
      under = now;
    }
    w.moves_a_minute = 60 * moves / (trace.piece_s * double(heard.size()));
  }
};

}  // namespace

Reach ways_to(const Outlet& outlet, std::shared_ptr<const Clip> master, const Job& job, const Grant& grant,
              const std::function<void(const Way&)>& told) {
  Reach reach;
  reach.target_lufs = outlet.target_lufs;
  reach.ceiling_dbtp = outlet.max_true_peak_dbtp.value_or(usual_ceiling_dbtp);
  Search search{
      outlet, master, grant, reach.target_lufs, reach.ceiling_dbtp, measure_loudness(*master, {}, job.part(0, 0.05))};
  if (!search.before.integrated_lufs)
    throw InputError(master->path(), "it is silent: there is no loudness to bring to the target; choose another file");
  const auto kinds = kinds_for(*search.before.integrated_lufs);
  for (size_t n = 0; n < kinds.size(); ++n) {
    const double from = 0.05 + 0.95 * double(n) / double(kinds.size());
    reach.ways.push_back(search.way(kinds[n], job.part(from, from + 0.95 / double(kinds.size()))));
    if (told) told(reach.ways.back());
  }
  const auto cost = [&](size_t n) { return reach.ways[n].residual_relative_db.value_or(-300); };
  for (size_t n = 0; n < reach.ways.size(); ++n)
    if (reach.ways[n].reaches && (!reach.best || cost(n) < cost(*reach.best))) reach.best = n;
  return reach;
}

Json way_json(const Way& w) {
  return {{"name", w.name},
          {"chain", chain_json(w.chain)},
          {"loudness_lufs", number_or_null(w.loudness_lufs)},
          {"true_peak_dbtp", number_or_null(w.true_peak_dbtp)},
          {"plr_db", number_or_null(w.plr_db)},
          {"range_lu", number_or_null(w.range_lu)},
          {"residual_relative_db", number_or_null(w.residual_relative_db)},
          {"moves_a_minute", w.moves_a_minute},
          {"reaches", w.reaches}};
}

}  // namespace heathmist
