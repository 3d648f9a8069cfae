#include "core/compare/requantised.hpp"

#include <algorithm>
#include <cmath>
#include <numeric>
#include <tuple>

namespace heathmist {

namespace {

constexpr double most_steps = 64;     // an error beyond that is none of requantising, shaped or not
constexpr double half_a_step = 0.12;  // tolerance of the mean
constexpr double same_level_db = 0.003;
constexpr double shaped_tilt_db = 6;  // a spectrum that tilts more has been shaped

/// What a half step towards zero takes from the level: mean |x| / 2 over the mean square, and the former is at most its
/// root.
double most_by_truncation_db(double rms_steps) { return rms_steps > 1 ? -20 * std::log10(1 - 0.5 / rms_steps) : 0; }

double density(const Spectrum& s, double from, double to) {
  const auto low = size_t(double(s.power.size()) * from), high = size_t(double(s.power.size()) * to);
  double sum = 0;
  for (size_t k = std::max<size_t>(low, 2); k < high; ++k) sum += s.power[k];
  return sum / double(std::max<size_t>(1, high - low));
}

/// Much louder at one end of the band than at the other, and no louder in all than a loop makes it.
bool is_shaped(const Requantisation& r, const Spectrum& error) {
  auto power = error.power;
  const double sum = std::reduce(power.begin(), power.end());
  for (double& p : power) p *= r.variance_steps2 / std::max(1e-300, sum);
  return std::abs(r.tilt_db) > shaped_tilt_db && log_mean_density(power) < most_shaped_log_mean;
}

Dither dither_of(const Requantisation& r, const WordError& error, bool shaped) {
  const double variance = error.dither_variance(half_a_step);
  const auto near = [&](double expected) { return std::abs(variance - expected) < 0.12 * expected + 0.004; };
  const double reach = r.peak_steps - (r.truncated ? 0.5 : 0.0);
  if (shaped) return Dither::shaped;
  if (near(1.0 / 12) && reach < 0.51) return Dither::none;
  if (near(1.0 / 6) && reach < 1.01) return Dither::rectangular;
  if (near(1.0 / 4) && reach < 1.51) return Dither::triangular;
  return Dither::other;
}

}  // namespace

void WordErrorSums::add(const WordErrorSums& other) {
  sum_ += other.sum_, square_ += other.square_, reach_ = std::max(reach_, other.reach_), count_ += other.count_;
  with_sign_ += other.with_sign_, with_value_ += other.with_value_, size_ += other.size_, values_ += other.values_;
  of_signed_ += other.of_signed_, signed_ += other.signed_;
}

WordError WordErrorSums::moments() const {
  WordError m{.reach = reach_};
  if (count_ > 0) m.mean = sum_ / count_, m.variance = square_ / count_ - m.mean * m.mean;
  const double det = signed_ * values_ - size_ * size_;
  if (det <= 1e-3 * signed_ * values_) return m;  // values all of one size: a sign is a gain
  m.outwards = (with_sign_ * values_ - with_value_ * size_) / det;
  m.by_value = (with_value_ * signed_ - with_sign_ * size_) / det;
  m.upright_variance = (of_signed_ - m.outwards * with_sign_ - m.by_value * with_value_) / signed_;
  return m;
}

double log_mean_density(const std::vector<double>& power) {
  if (power.empty()) return 0;
  double sum = 0;
  for (const double p : power) sum += std::log(std::max(1e-300, p));
  return std::exp(sum / double(power.size())) * double(power.size());
}

const char* name_of(Dither dither) {
  static constexpr const char* names[] = {"none", "rectangular", "triangular", "shaped", "other"};
  return names[int(dither)];
}

std::optional<Requantisation> study_requantising(const Clip& master, const Clip& ret, const Fit& fit,
                                                 const ResidualSums& sums, int bits, const Job& job) {
  const bool whole = fit.delay_samples == std::round(fit.delay_samples) && fit.drift_ppm == 0;
  if (!whole || bits < 2 || fit.last - fit.first < 1000) return {};
  const double steps = std::ldexp(1.0, bits - 1);
  const bool at_level = std::abs(fit.gain_db) <= same_level_db;
  if (!at_level && std::abs(fit.gain_db) > most_by_truncation_db(std::sqrt(sums.master) * steps)) return {};
  if (!(sums.residual > 0) || sums.residual_peak * steps > most_steps) return {};
  constexpr int64_t segment = 1 << 18;
  std::vector<WordErrorSums> parts(size_t((fit.last - fit.first + segment - 1) / segment));
  Fit level = fit;
  level.gain_db = 0;  // the measured gain is the error's doing
  for_each_segment(
      int64_t(parts.size()), job,
      [&] {
        return std::tuple{ResidualReader(master, ret, level), AlignedMaster(master, level), Planar(), Planar()};
      },
      [&](auto& state, int64_t s) {
        auto& [residual, own, error, value] = state;
        const int64_t at = fit.first + s * segment, frames = std::min(segment, fit.last - at);
        residual.read(at, frames, error), own.read(at, frames, value);
        for (int p = 0; p < error.channels(); ++p) {
          const auto e = error.channel(p), x = value.channel(fit.pairs[size_t(p)].master);
          for (size_t n = 0; n < e.size(); ++n) parts[size_t(s)].add(e[n] * steps, x[n] * steps);
        }
      });
  WordErrorSums sum;
  for (const auto& part : parts) sum.add(part);
  const WordError error = sum.moments();
  Requantisation r;
  r.bits = bits;
  r.mean_steps = error.mean, r.variance_steps2 = error.variance, r.peak_steps = error.reach;
  r.towards_zero = error.is_towards_zero(half_a_step);
  r.truncated = error.is_truncated(half_a_step) || r.towards_zero;
  if (!at_level && !r.towards_zero) return {};
  const double top = density(sums.residual_spectrum, 0.75, 0.98), bottom = density(sums.residual_spectrum, 0.02, 0.25);
  r.tilt_db = top > 0 && bottom > 0 ? 10 * std::log10(top / bottom) : 0;
  r.dither = dither_of(r, error, is_shaped(r, sums.residual_spectrum));
  return r;
}

}  // namespace heathmist
