#include "core/compare/causes/eq_fit.hpp"

#include <Eigen/Cholesky>
#include <algorithm>
#include <cmath>
#include <functional>
#include <numbers>

namespace heathmist::causes {

namespace {

constexpr double least_section_power = 1e-18;              // of a section
constexpr double floor_db = -45;                           // deeper is as good as gone
constexpr double most_off_octaves = 1.5, most_off_db = 6;  // that one step moves a number by
using Numbers = std::vector<double>;

/// A section as the numbers that are free: octaves, decibels, octaves of width.
Numbers numbers_of(const EqSection& s) {
  Numbers all{std::log2(s.hz)};
  if (!s.is_pass()) all.push_back(s.gain_db);
  if (s.order == 2) all.push_back(std::log2(s.q));
  return all;
}

EqSection section_of(const Numbers& numbers, EqSection s, double rate) {
  const double widest = s.kind == EqSection::Kind::bell ? 0.15 : 0.3;
  auto next = numbers.begin();
  s.hz = std::clamp(std::exp2(*next++), 8.0, 0.495 * rate);
  if (!s.is_pass()) s.gain_db = std::clamp(*next++, -40.0, 40.0);
  if (s.order == 2) s.q = std::clamp(std::exp2(*next++), widest, 40.0);
  return s;
}

/// The setting a step away: the flat part's number first, then those of each section.
EqSetting moved_by(const EqSetting& from, const Eigen::VectorXd& step, double rate) {
  EqSetting to = from;
  to.flat_db += std::clamp(step[0], -most_off_db, most_off_db);
  Eigen::Index next = 1;
  for (EqSection& s : to.sections) {
    Numbers numbers = numbers_of(s);
    for (size_t k = 0; k < numbers.size(); ++k) {
      const double most = k == 1 && !s.is_pass() ? most_off_db : most_off_octaves;
      numbers[k] += std::clamp(step[next++], -most, most);
    }
    s = section_of(numbers, s, rate);
  }
  return to;
}

}  // namespace

namespace {

/// |a + b z + c z^2|^2 on the unit circle, by the square of the sine of half the angle: exact near 0 Hz, where sums of
/// cosines are not (R. Bristow-Johnson, as his cookbook's notes have it).
struct PowerAt {
  double constant, linear, square;
  PowerAt(double a, double b, double c)
      : constant((a + b + c) * (a + b + c)), linear(-4 * (a * b + 4 * a * c + b * c)), square(16 * a * c) {}
  double operator()(double half_sine2) const { return constant + half_sine2 * (linear + half_sine2 * square); }
};

}  // namespace

EqFit::EqFit(const std::vector<ShapePoint>& points, double rate_hz) : points_(points), rate_(rate_hz) {
  for (const ShapePoint& p : points_) {
    weight_ += p.weight;
    const double half = std::sin(std::numbers::pi * p.hz / rate_hz);
    half_sine2_.push_back(half * half);
  }
}

void EqFit::times_power(const EqSection& section, std::vector<double>& power) const {
  for (const auto& b : section.biquads(rate_)) {
    const PowerAt above(b.b0, b.b1, b.b2), below(1, b.a1, b.a2);
    for (size_t n = 0; n < power.size(); ++n)
      power[n] *= std::max(least_section_power, above(half_sine2_[n]) / below(half_sine2_[n]));
  }
}

std::vector<double> EqFit::response_db(const EqSetting& setting) const {
  std::vector<double> response(points_.size(), 1);
  for (const EqSection& s : setting.sections) times_power(s, response);
  for (double& db : response) db = 10 * std::log10(db);
  return response;
}

std::vector<double> EqFit::left_of(const EqSetting& setting) const {
  auto left = response_db(setting);
  for (size_t n = 0; n < left.size(); ++n)
    left[n] = std::max(floor_db, points_[n].db - setting.flat_db) - std::max(floor_db, left[n]);
  return left;
}

double EqFit::rms_of(const std::vector<double>& left) const {
  double square = 0;
  for (size_t n = 0; n < left.size(); ++n) square += points_[n].weight * left[n] * left[n];
  return weight_ > 0 ? std::sqrt(square / weight_) : 0;
}

double EqFit::chi_square_of(const EqSetting& setting) const {
  constexpr double least_db = 0.1;
  const auto left = left_of(setting);
  double sum = 0;
  for (size_t n = 0; n < left.size(); ++n) sum += left[n] * left[n] / (least_db * least_db + points_[n].variance_db2);
  return sum;
}

double EqFit::error_of(const EqSetting& setting) const { return rms_of(left_of(setting)); }

/// How what is left falls as each number rises, by differences so small that the logarithm's own slope will do.
std::vector<std::vector<double>> EqFit::slopes_of(const EqSetting& setting) const {
  constexpr double by = 1e-5, db_of_share = 4.342944819032518;  // 10 / ln 10
  const auto whole = response_db(setting);
  std::vector<std::vector<double>> slopes(1);
  for (const ShapePoint& p : points_) slopes[0].push_back(p.db - setting.flat_db > floor_db);
  for (const EqSection& s : setting.sections) {
    const Numbers numbers = numbers_of(s);
    std::vector<double> here(points_.size(), 1);
    times_power(s, here);
    for (size_t k = 0; k < numbers.size(); ++k) {
      Numbers moved = numbers;
      moved[k] += by;
      std::vector<double> slope(points_.size(), 1);
      times_power(section_of(moved, s, rate_), slope);
      for (size_t n = 0; n < slope.size(); ++n)
        slope[n] = whole[n] < floor_db ? 0 : db_of_share * (slope[n] / here[n] - 1) / by;
      slopes.push_back(std::move(slope));
    }
  }
  return slopes;
}

double EqFit::refine(EqSetting& setting, int rounds) const {
  auto left = left_of(setting);
  double error = rms_of(left), damping = 1e-2;
  for (int round = 0; round < rounds; ++round) {
    Eigen::VectorXd weights(std::ssize(points_)), rest(std::ssize(points_));
    for (Eigen::Index n = 0; n < rest.size(); ++n) weights[n] = points_[size_t(n)].weight, rest[n] = left[size_t(n)];
    const auto columns = slopes_of(setting);
    Eigen::MatrixXd slopes(rest.size(), std::ssize(columns));
    for (size_t k = 0; k < columns.size(); ++k)
      slopes.col(Eigen::Index(k)) = Eigen::Map<const Eigen::VectorXd>(columns[k].data(), rest.size());
    const Eigen::MatrixXd normal = slopes.transpose() * weights.asDiagonal() * slopes;
    const Eigen::VectorXd toward = slopes.transpose() * weights.asDiagonal() * rest;
    bool better = false;
    for (int tries = 0; tries < 6 && !better; ++tries) {
      Eigen::MatrixXd damped = normal;
      damped.diagonal().array() += damping * (normal.diagonal().array() + 1e-6 * weight_);
      const EqSetting there = moved_by(setting, damped.ldlt().solve(toward), rate_);
      auto left_there = left_of(there);
      const double now = rms_of(left_there);
      better = now < error;
      damping *= better ? 0.2 : 6;
      if (!better) continue;
      const bool settled = now > error * (1 - 1e-4);
      setting = there, left = std::move(left_there), error = now;
      if (settled) return error;
    }
    if (!better) break;
  }
  return error;
}

}  // namespace heathmist::causes
