#include "core/probes/sweep_taps.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <numbers>

#include "core/probes/probe_body.hpp"

namespace heathmist {

namespace {

using Complex = std::complex<double>;
using std::numbers::pi;
constexpr double ring_s = 0.014;     // either way
constexpr double usual_s = 0.004;    // most ring no longer
constexpr double least_hz = 250;     // and so far at least
constexpr double told_of = 0.85;     // of the band that was looked at
constexpr double denser = 1.5;       // taps than the band asks for
constexpr double undecided = 1e-9;   // against what is known: so weakly a filter is taken to ring no longer than usual
constexpr double most_misfit = 0.3;  // of the return's RMS there: beyond it other components are as loud

/// Frames around the moment, and where the taps lie.
struct Plan {
  double reach_hz, step_s, every;
  int64_t first, rows;
  int side;  // taps either way
  int taps() const { return 2 * side + 1; }
  /// Not evenly, so that the picking has no mirror of its own.
  int64_t frame(int64_t row) const {
    const double turns = double(row) * std::numbers::phi;
    return first + int64_t((double(row) + turns - std::floor(turns)) * every);
  }
};

std::optional<Plan> plan_of(double hz, const TapsPlan& asked, const SweepBody& body, const ProbeScore& score) {
  const SweepLaw& law = *score.sweep;
  const double pace = law.hz_per_s(law.at_s(hz)), reach_hz = std::max(least_hz, asked.around_s * pace);
  if (hz - reach_hz <= law.low_hz || hz + reach_hz >= law.high_hz) return {};
  const double from_s = law.at_s(hz - reach_hz), until_s = law.at_s(hz + reach_hz), clear = probe_fade_s + ring_s;
  if (from_s < clear || until_s > law.seconds - clear) return {};
  const auto frame = [&](double s) { return int64_t(std::ceil((s + body.delay_s - body.first_s) * body.rate_hz)); };
  Plan p{reach_hz, 1 / (2 * denser * (reach_hz + pace * ring_s)), asked.every, frame(from_s), 0, 0};
  p.rows = int64_t(double(frame(until_s) - p.first) / p.every) - 1;
  p.side = int(std::ceil(ring_s / p.step_s));
  const bool decided = p.rows > 2 * p.taps();  // by as many samples as there are numbers to be told
  if (!decided || p.first < 0 || p.frame(p.rows) >= std::ssize(body.samples)) return {};
  return p;
}

/// A row a frame, two columns a tap: the sweep as it would come through that tap alone, and turned by a quarter.
Eigen::MatrixXd sweeps(const Plan& plan, const SweepBody& body, const ProbeScore& score) {
  Eigen::MatrixXd known(plan.rows, 2 * plan.taps());
  const double level = std::pow(10, score.level_dbfs / 20);
  for (int64_t n = 0; n < plan.rows; ++n)
    for (int k = 0; k < plan.taps(); ++k) {
      const double s =
          body.first_s + double(plan.frame(n)) / body.rate_hz - body.delay_s - (k - plan.side) * plan.step_s;
      const Complex a = std::polar(level, 2 * pi * std::remainder(score.sweep->cycles(s), 1.0));
      known(n, 2 * k) = a.real(), known(n, 2 * k + 1) = -a.imag();
    }
  return known;
}

}  // namespace

double LocalTaps::gain_at(double hz) const {
  Complex sum = 0;
  for (size_t k = 0; k < taps.size(); ++k)
    sum += taps[k] * std::polar(1.0, -2 * pi * std::remainder(hz * (first_s + double(k) * step_s), 1.0));
  return std::abs(sum);
}

/// Taps are asked to be small, those far from the middle more than those at it, by a weight that counts only for what
/// the samples leave undecided (Tikhonov).
std::optional<LocalTaps> taps_around(double hz, const TapsPlan& asked, const SweepBody& body, const ProbeScore& score) {
  const auto plan = plan_of(hz, asked, body, score);
  if (!plan) return {};
  const auto known = sweeps(*plan, body, score);
  Eigen::VectorXd came(plan->rows);
  for (int64_t n = 0; n < plan->rows; ++n) came[n] = body.samples[size_t(plan->frame(n))];
  const auto columns = known.cols();
  Eigen::VectorXd weight(columns);
  for (Eigen::Index k = 0; k < columns; ++k)
    weight[k] = undecided * known.col(k).norm() *
                (1 + std::pow(double(std::abs(k / 2 - plan->side)) * plan->step_s / usual_s, 4));
  Eigen::MatrixXd both(plan->rows + columns, columns);
  both << known, Eigen::MatrixXd(weight.asDiagonal());
  Eigen::VectorXd wanted = Eigen::VectorXd::Zero(both.rows());
  wanted.head(plan->rows) = came;
  const Eigen::VectorXd solved = both.householderQr().solve(wanted);
  if ((known * solved - came).norm() > most_misfit * came.norm()) return {};
  LocalTaps told{hz, told_of * plan->reach_hz, -plan->side * plan->step_s, plan->step_s, {}};
  for (Eigen::Index k = 0; k < columns; k += 2) told.taps.emplace_back(solved[k], solved[k + 1]);
  return told;
}

}  // namespace heathmist
