#include "core/compare/causes/eq_phase.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <optional>

namespace heathmist::causes {

namespace {

using Complex = std::complex<double>;
using Kind = EqSection::Kind;

constexpr double gone_db = -30;  // from the flat part: whose phase is not known

/// Points whose phase tells, and what of it a setting explains.
struct Phases {
  std::vector<ShapePoint> points;
  std::vector<Complex> response;
  double weight = 0, by_chance = 0;  // sums over the points: of squared phase that how well they are known leaves
};

Phases phases_of(const EqSetting& setting, const std::vector<ShapePoint>& points, double rate) {
  Phases all;
  for (const ShapePoint& p : points) {
    if (p.db - setting.flat_db < gone_db || p.weight < least_weight) continue;
    Complex h = 1;
    for (const EqSection& s : setting.sections) h *= s.response(p.hz, rate);
    constexpr double db2_a_radian2 = 75.4,
                     any = std::numbers::pi * std::numbers::pi / 3;  // of a phase that is not known
    all.points.push_back(p), all.response.push_back(h);
    all.weight += p.weight, all.by_chance += p.weight * std::min(any, p.variance_db2 / db2_a_radian2);
  }
  return all;
}

/// Squared phase that a response leaves of the measured, at the delay that leaves least of it, or `enough` and more.
double phase_left(const Phases& phases, double rate, double enough = 1e300) {
  constexpr double farthest = 4, step = 0.05;
  double best = enough;
  for (double late = -farthest; late <= farthest; late += step) {
    double sum = 0;
    for (size_t n = 0; n < phases.points.size() && sum < best; ++n) {
      const ShapePoint& p = phases.points[n];
      const Complex delay = std::polar(1.0, 2 * std::numbers::pi * p.hz / rate * late);
      sum += p.weight * std::pow(std::arg(p.h * std::conj(phases.response[n]) * delay), 2);
    }
    best = std::min(best, sum);
  }
  return best;
}

Phases times(Phases phases, const EqSection& section, double rate) {
  for (size_t n = 0; n < phases.points.size(); ++n) phases.response[n] *= section.response(phases.points[n].hz, rate);
  return phases;
}

bool only_takes_treble(const EqSection& s) {
  constexpr double treble_hz = 800;
  return s.hz > treble_hz && !s.is_pass() && s.gain_db < 0 && s.kind != Kind::low_shelf;
}

}  // namespace

PhaseJudged judge_phase(const EqSetting& setting, const std::vector<ShapePoint>& points, double rate) {
  PhaseJudged judged;
  const Phases phases = phases_of(setting, points, rate);
  if (!(phases.weight > 0)) return judged;
  double own = 0, predicted = 0;
  for (size_t n = 0; n < phases.points.size(); ++n) {
    const ShapePoint& p = phases.points[n];
    own += p.weight * std::pow(std::arg(p.h), 2), predicted += p.weight * std::pow(std::arg(phases.response[n]), 2);
  }
  const double left = phase_left(phases, rate);
  judged.left_deg = std::sqrt(std::min(own, left) / phases.weight) * 180 / std::numbers::pi;
  judged.linear = !setting.sections.empty() && own < 0.25 * predicted && own < left;
  for (size_t k = 0; k < setting.sections.size(); ++k) {
    if (!only_takes_treble(setting.sections[k])) continue;
    EqSetting without = setting;
    without.sections.erase(without.sections.begin() + long(k));
    if (phase_left(phases_of(without, points, rate), rate, left) < left) judged.level_alone.push_back(k);
  }
  return judged;
}

std::vector<EqSection> passes_by_phase(const EqSetting& setting, const std::vector<ShapePoint>& points, double rate) {
  constexpr double worth_deg = 1, explains_all_but = 0.15, lowest_hz = 10, highest_hz = 120, step_octaves = 1.0 / 6,
                   clearly_better = 0.5, next_to_nothing = 0.01;
  if (std::any_of(setting.sections.begin(), setting.sections.end(),
                  [](const EqSection& s) { return s.kind == Kind::high_pass; }))
    return {};
  const Phases phases = phases_of(setting, points, rate);
  const double more = phase_left(phases, rate) - phases.by_chance;
  if (more < phases.weight * std::pow(worth_deg * std::numbers::pi / 180, 2)) return {};
  std::vector<std::pair<double, EqSection>> found;
  for (const int order : {2, 4, 1}) {
    double least = phases.by_chance + explains_all_but * more;
    std::optional<EqSection> best;
    const auto try_between = [&](double low_hz, double high_hz, double step) {
      for (double hz = low_hz; hz < high_hz; hz *= std::exp2(step)) {
        const EqSection pass{Kind::high_pass, hz, 0, std::numbers::sqrt2 / 2, order};
        if (const double left = phase_left(times(phases, pass, rate), rate, least); left < least)
          least = left, best = pass;
      }
    };
    try_between(lowest_hz, highest_hz, step_octaves);
    if (best) try_between(best->hz * std::exp2(-step_octaves), best->hz * std::exp2(step_octaves), step_octaves / 8);
    if (best) found.emplace_back((order == 2 ? clearly_better : 1) * (least + next_to_nothing * more), *best);
  }
  std::stable_sort(found.begin(), found.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
  std::vector<EqSection> passes;
  for (const auto& [left, pass] : found) passes.push_back(pass);
  return passes;
}

}  // namespace heathmist::causes
