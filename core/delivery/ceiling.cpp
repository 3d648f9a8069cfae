#include "core/delivery/ceiling.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numeric>

#include "core/audio/fingerprint.hpp"
#include "core/audio/kept.hpp"
#include "core/compare/json.hpp"
#include "core/rules.hpp"
#include "core/stages/permission.hpp"
#include "core/stages/returns.hpp"

namespace heathmist {

namespace {

constexpr double farthest_db = 24;
constexpr int most_tries = 16;
constexpr size_t most_moments = 10;
constexpr double silent_dbtp = -200;
constexpr double around_db = 0.2;  // under an answer, in which it must hold
constexpr int64_t offsets[] = {0, 211, 577, 1031};
constexpr int most_neighbours = 12, most_moves = 12;

struct Searcher {
  std::shared_ptr<const Clip> master;
  const Chain& chain;
  const CeilingOptions& options;
  Job job;
  const Grant& grant;
  CeilingAnswer answer{};

  /// How much of the work is probably done after so many tries: nobody knows how many it will take.
  static double share_after(size_t tries) { return 1 - std::pow(0.75, double(tries)); }
  double lowest() const { return -farthest_db; }
  double highest() const { return options.limiter ? 0 : farthest_db; }

  CeilingPoint encode(double set_db, bool keep_moments, int64_t offset_samples = 0) {
    Chain whole = chain;
    const Stage before =
        options.limiter ? Stage{"limiter", {{"ceiling_dbtp", set_db}}} : Stage{"gain", {{"gain_db", set_db}}};
    if (options.limiter || set_db != 0) whole.stages.insert(whole.stages.begin(), before);
    if (offset_samples != 0)
      whole.stages.insert(whole.stages.begin(), Stage{"delay", {{"delay_samples", double(offset_samples)}}});
    const Job part = job.part(share_after(answer.points.size()), share_after(answer.points.size() + 1));
    const auto made = pass(master, whole, part.part(0, 0.8), {grant});
    const auto peaks = true_peaks(*made.ret, options.limit_dbtp, part.part(0.8, 1));
    if (keep_moments) {
      answer.worst = peaks.overs;
      std::stable_sort(answer.worst.begin(), answer.worst.end(),
                       [](const Over& a, const Over& b) { return a.dbtp > b.dbtp; });
      if (answer.worst.size() > most_moments) answer.worst.resize(most_moments);
    }
    return {set_db, peaks.dbtp.value_or(silent_dbtp), int64_t(peaks.overs.size()), offset_samples};
  }

  bool holds(const CeilingPoint& p) const { return p.true_peak_dbtp <= options.limit_dbtp; }

  /// Tries what lies around an answer; the first that is over brings the answer down under itself, and all begins anew.
  void confirm() {
    for (int move = 0; answer.set_db && move < most_moves; ++move) {
      const double top = *answer.set_db;
      std::optional<CeilingPoint> over;
      int tried = 0;
      for (const CeilingPoint& p : answer.points) {
        if (p.set_db > top + 1e-9 || p.set_db < top - around_db - 1e-9) continue;
        ++tried;
        if (!holds(p) && (!over || p.set_db < over->set_db)) over = p;
      }
      for (int n = 0; !over && tried < most_neighbours; ++n, ++tried) {
        const double set_db = std::max(lowest(), top - around_db * double(n % 5) / 4);
        const CeilingPoint p = encode(set_db, false, offsets[size_t(n) % std::size(offsets)] + 64 * (n / 4));
        answer.points.push_back(p);
        if (!holds(p)) over = p;
      }
      if (!over) return tell(top);
      const double lower = over->set_db - std::max(options.tolerance_db, over->true_peak_dbtp - options.limit_dbtp);
      if (lower < lowest())
        answer.set_db.reset();
      else
        answer.set_db = lower;
    }
    answer.set_db.reset();  // it never came to rest
  }

  void tell(double top) {
    double highest_peak = -1e9;
    for (const CeilingPoint& p : answer.points)
      if (p.set_db <= top + 1e-9 && p.set_db >= top - around_db - 1e-9)
        ++answer.neighbours, highest_peak = std::max(highest_peak, p.true_peak_dbtp);
    answer.margin_db = options.limit_dbtp - highest_peak;
    answer.risk_at_most = 1 - std::pow(0.05, 1.0 / answer.neighbours);  // none of n: Clopper and Pearson, one side
    for (const CeilingPoint& p : answer.points) {
      const bool broken_below = std::any_of(answer.points.begin(), answer.points.end(),
                                            [&](const CeilingPoint& q) { return q.set_db < p.set_db && !holds(q); });
      if (p.set_db > top && holds(p) && broken_below) answer.lucky.push_back(p);
    }
  }

  /// Closes in from both sides: the next try is where a straight line would meet the limit, or the middle.
  void search() {
    std::optional<CeilingPoint> good, bad;
    double next = 0;
    for (int tries = 0; tries < most_tries; ++tries) {
      const CeilingPoint point = encode(next, tries == 0);
      answer.points.push_back(point);
      const bool holds = point.true_peak_dbtp <= options.limit_dbtp;
      if (holds)
        good = point;
      else
        bad = point;
      if (point.true_peak_dbtp <= silent_dbtp) break;
      if ((holds && next >= highest()) || (!holds && next <= lowest())) break;
      if (good && bad && bad->set_db - good->set_db <= options.tolerance_db) break;
      const double room = options.limit_dbtp - point.true_peak_dbtp, least = 0.8 * options.tolerance_db;
      next = point.set_db + (holds ? std::max(room - 0.4 * options.tolerance_db, least)
                                   : std::min(room - 0.4 * options.tolerance_db, -least));
      if (good && bad && (next <= good->set_db + 0.2 * least || next >= bad->set_db - 0.2 * least))
        next = (good->set_db + bad->set_db) / 2;
      next = std::clamp(next, lowest(), highest());
    }
    if (good) answer.set_db = good->set_db;
    const bool chaotic = std::any_of(chain.stages.begin(), chain.stages.end(), [](const Stage& s) {
      return s.on && (s.type == "codec" || s.type == "external" || s.type == "lv2");
    });
    if (chaotic && good && good->true_peak_dbtp > silent_dbtp) confirm();
    std::sort(answer.points.begin(), answer.points.end(),
              [](const auto& a, const auto& b) { return a.set_db < b.set_db; });
  }
};

}  // namespace

std::optional<double> Ceiling::for_all_db() const {
  std::optional<double> least;
  for (const auto& a : answers) {
    if (!a.failure.empty() || a.points.empty()) continue;
    if (!a.set_db) return {};
    least = std::min(least.value_or(*a.set_db), *a.set_db);
  }
  return least;
}

namespace {

/// What an answer is kept under; empty: it is not.
std::string name_of(const std::string& print, const Chain& chain, const CeilingOptions& o) {
  constexpr int kept_version = 1;
  if (print.empty() || !disarmed_stages(chain, grant_nothing).empty()) return {};
  return fmt::format("{}-{}-{}-{}-{}-{}-{}.ceiling", print, chain_fingerprint(chain), o.limit_dbtp,
                     o.limiter ? "l" : "g", o.tolerance_db, kept_version, rules_fingerprint);
}

Json pack(const std::vector<CeilingPoint>& points) {
  Json all = Json::array();
  for (const auto& p : points) all.push_back({p.set_db, p.true_peak_dbtp, p.overs, p.offset_samples});
  return all;
}

std::vector<CeilingPoint> unpack_points(const Json& json) {
  std::vector<CeilingPoint> all;
  for (const Json& p : json) all.push_back({p.at(0), p.at(1), p.at(2), p.at(3)});
  return all;
}

Json pack(const CeilingAnswer& a) {
  Json worst = Json::array();
  for (const Over& o : a.worst) worst.push_back({o.at_s, o.dbtp, o.channel});
  return {{"answer", {number_or_null(a.set_db), number_or_null(a.margin_db), number_or_null(a.risk_at_most)}},
          {"neighbours", a.neighbours},
          {"points", pack(a.points)},
          {"lucky", pack(a.lucky)},
          {"worst", worst}};
}

CeilingAnswer unpack_answer(const Json& json) {
  CeilingAnswer a;
  const Json& answer = json.at("answer");
  a.set_db = number_from(answer.at(0)), a.margin_db = number_from(answer.at(1)),
  a.risk_at_most = number_from(answer.at(2));
  a.neighbours = json.at("neighbours");
  a.points = unpack_points(json.at("points")), a.lucky = unpack_points(json.at("lucky"));
  for (const Json& o : json.at("worst")) a.worst.push_back({o.at(0), o.at(1), o.at(2)});
  return a;
}

}  // namespace

std::optional<CeilingAnswer> kept_ceiling(const std::filesystem::path& master, const Chain& chain,
                                          const CeilingOptions& options) {
  auto answer = kept_value(name_of(fingerprint(master), chain, options), unpack_answer);
  if (answer) answer->name = title_of(chain);
  return answer;
}

namespace {

/// `print`: what the answers are kept under; empty: they are not.
Ceiling search_ceiling(const std::shared_ptr<const Clip>& master, const std::string& print,
                       const std::vector<Chain>& chains, const CeilingOptions& options, const Job& job,
                       const std::function<void(size_t, const CeilingAnswer&)>& done, const Grant& grant) {
  Ceiling ceiling{options, std::vector<CeilingAnswer>(chains.size())};
  std::mutex lock;
  std::vector<double> shares(chains.size());
  auto progress = [&](size_t chain, double share) {
    std::scoped_lock held(lock);
    shares[chain] = std::max(shares[chain], share);
    job.report(std::accumulate(shares.begin(), shares.end(), 0.0) / double(shares.size()));
  };
  for_each_segment(
      int64_t(chains.size()), Job{job.stop, {}, job.threads}, [] { return 0; },
      [&](int, int64_t n) {
        const Chain& chain = chains[size_t(n)];
        const auto name = name_of(print, chain, options);
        Searcher searcher{master, chain, options,
                          Job{job.stop, [&, n](double share) { progress(size_t(n), share); }, 1}, grant};
        searcher.answer.name = title_of(chain);
        try {
          searcher.search();
        } catch (const ChainError& error) {
          searcher.answer.failure = error.what();
        }
        progress(size_t(n), 1);
        const bool changed = name != name_of(print, chain, options);  // what it reads, while it was searched
        if (searcher.answer.failure.empty() && !changed) keep_value(name, pack(searcher.answer));
        std::scoped_lock held(lock);
        ceiling.answers[size_t(n)] = searcher.answer;
        if (done) done(size_t(n), searcher.answer);
      });
  return ceiling;
}

}  // namespace

Ceiling find_ceiling(std::shared_ptr<const Clip> master, const std::vector<Chain>& chains,
                     const CeilingOptions& options, const Job& job,
                     const std::function<void(size_t, const CeilingAnswer&)>& done, const Grant& grant) {
  return search_ceiling(master, {}, chains, options, job, done, grant);
}

Ceiling find_ceiling(const std::filesystem::path& master, const std::vector<Chain>& chains,
                     const CeilingOptions& options, const Job& job,
                     const std::function<void(size_t, const CeilingAnswer&)>& done, const Grant& grant) {
  std::string print = fingerprint(master);
  const auto clip = Clip::open(master, Job{job.stop, {}, job.threads});
  if (fingerprint(master) != print) print.clear();  // it changed while it was opened
  return search_ceiling(clip, print, chains, options, job, done, grant);
}

std::vector<CeilingSpread> spread_of(const CeilingAnswer& answer) {
  constexpr double together_db = 0.06;
  std::vector<CeilingSpread> all;
  for (size_t n = 0; n < answer.points.size();) {
    CeilingSpread some{0, 1e9, -1e9};
    size_t end = n;
    for (; end < answer.points.size() && answer.points[end].set_db - answer.points[n].set_db < together_db; ++end) {
      const CeilingPoint& p = answer.points[end];
      some.set_db += p.set_db;
      some.low_dbtp = std::min(some.low_dbtp, p.true_peak_dbtp),
      some.high_dbtp = std::max(some.high_dbtp, p.true_peak_dbtp);
    }
    some.set_db /= double(end - n);
    all.push_back(some);
    n = end;
  }
  return all;
}

Json ceiling_json(const Ceiling& ceiling) {
  Json answers = Json::array();
  for (const auto& a : ceiling.answers) {
    Json points = Json::array(), worst = Json::array(), lucky = Json::array();
    for (const auto& p : a.lucky)
      lucky.push_back({{ceiling.options.limiter ? "ceiling_dbtp" : "gain_db", p.set_db},
                       {"true_peak_dbtp", p.true_peak_dbtp},
                       {"offset_samples", p.offset_samples}});
    for (const auto& p : a.points)
      points.push_back({{ceiling.options.limiter ? "ceiling_dbtp" : "gain_db", p.set_db},
                        {"true_peak_dbtp", p.true_peak_dbtp > silent_dbtp ? Json(p.true_peak_dbtp) : Json(nullptr)},
                        {"overs", p.overs},
                        {"offset_samples", p.offset_samples}});
    for (const auto& o : a.worst) worst.push_back({{"at_s", o.at_s}, {"dbtp", o.dbtp}, {"channel", o.channel}});
    answers.push_back({{"chain", a.name},
                       {ceiling.options.limiter ? "ceiling_dbtp" : "gain_db", number_or_null(a.set_db)},
                       {"neighbours", a.neighbours},
                       {"margin_db", number_or_null(a.margin_db)},
                       {"risk_at_most", number_or_null(a.risk_at_most)},
                       {"confidence", a.risk_at_most ? Json(0.95) : Json(nullptr)},
                       {"lucky", lucky},
                       {"points", points},
                       {"worst", worst},
                       {"failure", a.failure.empty() ? Json(nullptr) : Json(a.failure)}});
  }
  return {{"limit_dbtp", ceiling.options.limit_dbtp},
          {"for_all_db", number_or_null(ceiling.for_all_db())},
          {"answers", answers}};
}

}  // namespace heathmist
