#include "core/compare/causes/law_beside_filter.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <array>
#include <cmath>
#include <complex>
#include <optional>
#include <span>
#include <utility>

#include "core/dsp/fft.hpp"

namespace heathmist::causes {

namespace {

constexpr size_t knots = 10;
constexpr double law_block_s = 0.16;
constexpr double most_gain = 4;  // either way

/// Straight from knot to knot.
struct LawKnots {
  double low = 0, step = 1;
  /// The lower of two knots that a level stands between, and how much it has of the upper one.
  std::pair<size_t, double> at(double level) const {
    const double place = std::clamp((level - low) / step, 0.0, double(knots - 1));
    const auto k = std::min(size_t(place), knots - 2);
    return {k, place - double(k)};
  }
};

/// Over the levels that the model's energy has, but for a few thousandths at either end.
LawKnots knots_over(const Excerpt& e, const LevelCourse& level, const Planar& model) {
  constexpr double lowest_db = -100, a_db = 10, seldom = 0.002;
  std::array<double, 1201> energy{};
  double all = 0;
  for (int64_t n = 0; n < e.frames(); n += LevelCourse::every) {
    if (!e.told[size_t(n)]) continue;
    double own = 0;
    for (int p = 0; p < e.pairs(); ++p) own += std::pow(model.channel(p)[size_t(n)], 2);
    energy[size_t(std::clamp((level.at(n) - lowest_db) * a_db, 0.0, 1200.0))] += own, all += own;
  }
  size_t from = 0, until = energy.size() - 1;
  for (double sum = energy[from]; sum < seldom * all && from < until;) sum += energy[++from];
  for (double sum = energy[until]; sum < seldom * all && from < until;) sum += energy[--until];
  return {lowest_db + double(from) / a_db, std::max(1.0, double(until - from)) / a_db / double(knots - 1)};
}

using LawBins = std::vector<std::complex<double>>;
using OfKnots = Eigen::Matrix<std::complex<double>, int(knots), 1>;
using OfTwoKnots = Eigen::Matrix<std::complex<double>, int(knots), int(knots)>;

/// A pair's model as the sum of its parts at each knot, in spectra summed over blocks: the parts with one another, and
/// with the return.
class LawParts {
 public:
  explicit LawParts(size_t size) : window_(dsp::hann(size)), fft_(size), return_(fft_.bins()) {
    for (size_t k = 0; k < knots; ++k) {
      with_return_[k].resize(fft_.bins());
      for (size_t l = 0; l <= k; ++l) together_[k][l].resize(fft_.bins());
    }
  }
  void add(std::span<const double> model, std::span<const double> ret, const LevelCourse& level, const LawKnots& by,
           int64_t at) {
    take_apart(model, level, by, at);
    for (size_t n = 0; n < window_.size(); ++n) fft_.time()[n] = window_[n] * ret[size_t(at) + n];
    transform(return_);
    for (size_t k = 0; k < knots; ++k) {
      if (part_[k].empty()) continue;
      add_across(part_[k], return_, with_return_[k]);
      for (size_t l = 0; l <= k; ++l)
        if (!part_[l].empty()) add_across(part_[k], part_[l], together_[k][l]);
    }
  }
  /// Adds to the normal equations what each part, run through the filter that explains most by itself, is beyond what
  /// any filter makes of the whole model, and how much of that is in the return.
  void add_to(Eigen::MatrixXd& normal, Eigen::VectorXd& right) const {
    for (size_t n = 1; n < fft_.bins(); ++n) {
      OfTwoKnots parts;
      OfKnots with_return;
      for (size_t k = 0; k < knots; ++k) {
        with_return(long(k)) = with_return_[k][n];
        for (size_t l = 0; l <= k; ++l) {
          parts(long(k), long(l)) = together_[k][l][n];
          parts(long(l), long(k)) = std::conj(together_[k][l][n]);
        }
      }
      const double whole = parts.sum().real();
      if (!(whole > 0)) continue;
      const OfKnots across = parts.rowwise().sum();  // of each part with the whole
      const std::complex<double> h = with_return.sum() / whole;
      normal += std::norm(h) * (parts - across * across.adjoint() / whole).real();
      right += (std::conj(h) * (with_return - across * h)).real();
    }
  }

 private:
  void take_apart(std::span<const double> model, const LevelCourse& level, const LawKnots& by, int64_t at) {
    std::array<std::vector<double>, knots> time;
    for (size_t n = 0; n < window_.size(); ++n) {
      const auto [k, upper] = by.at(level.at(at + int64_t(n)));
      for (const size_t which : {k, k + 1}) {
        if (time[which].empty()) time[which].resize(window_.size());
        time[which][n] = (which == k ? 1 - upper : upper) * window_[n] * model[size_t(at) + n];
      }
    }
    for (size_t k = 0; k < knots; ++k) {
      part_[k].resize(time[k].empty() ? 0 : fft_.bins());
      if (time[k].empty()) continue;
      std::copy(time[k].begin(), time[k].end(), fft_.time().begin());
      transform(part_[k]);
    }
  }
  void transform(LawBins& into) {
    fft_.forward();
    std::copy(fft_.spectrum().begin(), fft_.spectrum().end(), into.begin());
  }
  /// sum += conj(a) b
  static void add_across(const LawBins& a, const LawBins& b, LawBins& sum) {
    for (size_t n = 0; n < sum.size(); ++n) sum[n] += std::conj(a[n]) * b[n];
  }

  std::vector<double> window_;
  dsp::RealFft<double> fft_;
  LawBins return_;
  std::array<LawBins, knots> part_, with_return_;
  std::array<std::array<LawBins, knots>, knots> together_;  // the lower triangle
};

/// By how much the gain at each knot is off.
Eigen::VectorXd law_off(const Excerpt& e, const LevelCourse& level, const Planar& model, const LawKnots& by) {
  constexpr double ridge = 1e-6;  // one gain at all levels is a filter's
  size_t size = 1024;
  while (double(size) < law_block_s * e.rate_hz) size *= 2;
  std::vector<std::optional<LawParts>> of_pairs(size_t(e.pairs()));
  each_pair(e.threads, e.pairs(), [&](int p) {
    LawParts& parts = of_pairs[size_t(p)].emplace(size);
    for (int64_t at = 0; at + int64_t(size) <= e.frames(); at += int64_t(size) / 2)
      if (e.tells_all(at, int64_t(size))) parts.add(model.channel(p), e.ret.channel(p), level, by, at);
  });
  Eigen::MatrixXd normal = Eigen::MatrixXd::Zero(knots, knots);
  Eigen::VectorXd right = Eigen::VectorXd::Zero(knots);
  for (const auto& parts : of_pairs) parts->add_to(normal, right);
  normal.diagonal().array() += ridge * normal.trace() / double(knots) + 1e-300;
  return normal.ldlt().solve(right);
}

}  // namespace

void put_in_law_beside_filter(const Excerpt& e, const LevelCourse& level, Planar& model) {
  constexpr int most_rounds = 5;
  constexpr double settled = 0.01;
  const LawKnots by = knots_over(e, level, model);
  for (int round = 0; round < most_rounds; ++round) {
    const Eigen::VectorXd off = law_off(e, level, model, by);
    for (int64_t n = 0; n < e.frames(); ++n) {
      const auto [k, upper] = by.at(level.at(n));
      const double gain = std::clamp(1 + std::lerp(off(long(k)), off(long(k) + 1), upper), 1 / most_gain, most_gain);
      for (int p = 0; p < e.pairs(); ++p) model.channel(p)[size_t(n)] *= gain;
    }
    if (off.cwiseAbs().maxCoeff() < settled) return;
  }
}

}  // namespace heathmist::causes
