#include <cmath>

#include "core/audio/scratch.hpp"
#include "core/compare/explain.hpp"
#include "core/probes/bus_readings.hpp"

namespace heathmist {

namespace {

constexpr double as_good_as_none_db = -130;  // nothing that has a name

/// What the reading tells by itself.
bool is_told(const Cause& cause) {
  for (const char* code : {"delay", "drift", "gain", "swap", "polarity", "swap_and_polarity", "dc"})
    if (cause.code == code) return true;
  return false;
}

struct Nulled {
  std::shared_ptr<const Clip> own;
  Comparable pair;
  NullReport report;
  double left_db() const { return report.residual_relative_db().value_or(-400); }
};

/// `fit`: the probe lies where it lay at another word length.
Nulled null_with(const Clip& ret, const Planar& own, int rate_hz, const std::optional<Fit>& fit, const Job& job) {
  Nulled n;
  n.own = made_clip(own, rate_hz, "probe");
  const std::shared_ptr<const Clip> borrowed(std::shared_ptr<const Clip>{}, &ret);  // for as long as this takes
  n.pair = comparable(n.own, borrowed, job.part(0, 0.3));
  n.report = null_test(*n.own, ret, n.pair, {{}, fit}, job.part(0.3, 1));
  return n;
}

}  // namespace

std::vector<Cause> causes_of_transit(const Clip& ret, const ProbeScore& score, const Planar& ideal, const Job& job) {
  std::optional<Nulled> best;
  double begun = 0;
  for (const ProbeWord word : {ProbeWord::pcm24, ProbeWord::pcm16, ProbeWord::float32}) {
    const auto fit = best ? std::optional(best->report.fit) : std::nullopt;
    auto nulled = null_with(ret, as_written(ideal, score, word), score.rate_hz, fit, job.part(begun, begun + 0.2));
    begun += 0.2;
    if (!best || nulled.left_db() < best->left_db() - 0.1) best = std::move(nulled);
    if (best->left_db() < as_good_as_none_db) return {};
  }
  explain(*best->own, ret, best->pair, best->report, {}, job.part(0.6, 1));
  std::vector<Cause> others;
  for (Cause& cause : best->report.causes)
    if (!is_told(cause)) others.push_back(std::move(cause));
  return others;
}

}  // namespace heathmist
