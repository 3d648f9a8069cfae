#include "core/compare/requantised.hpp"

#include <algorithm>
#include <cmath>

namespace heathmist {

namespace {

constexpr double most_steps = 64;     // an error beyond that is none of requantising, shaped or not
constexpr double half_a_step = 0.12;  // tolerance of the mean
constexpr double shaped_tilt_db = 6;  // a spectrum that tilts more has been shaped

struct Moments {
  double sum = 0, square = 0, peak = 0, count = 0;
};

double density(const Spectrum& s, double from, double to) {
  const auto low = size_t(double(s.power.size()) * from), high = size_t(double(s.power.size()) * to);
  double sum = 0;
  for (size_t k = std::max<size_t>(low, 2); k < high; ++k) sum += s.power[k];
  return sum / double(std::max<size_t>(1, high - low));
}

Dither dither_of(const Requantisation& r) {
  auto near = [&](double variance) { return std::abs(r.variance_steps2 - variance) < 0.12 * variance + 0.004; };
  const double reach = r.peak_steps - std::abs(r.truncated ? 0.5 : 0.0);
  if (std::abs(r.tilt_db) > shaped_tilt_db) return Dither::shaped;
  if (near(1.0 / 12) && reach < 0.51) return Dither::none;
  if (near(1.0 / 6) && reach < 1.01) return Dither::rectangular;
  if (near(1.0 / 4) && reach < 1.51) return Dither::triangular;
  return Dither::other;
}

}  // namespace

const char* name_of(Dither dither) {
  static constexpr const char* names[] = {"none", "rectangular", "triangular", "shaped", "other"};
  return names[int(dither)];
}

std::optional<Requantisation> study_requantising(const Clip& master, const Clip& ret, const Fit& fit,
                                                 const ResidualSums& sums, int bits, const Job& job) {
  const bool whole = fit.delay_samples == std::round(fit.delay_samples) && fit.drift_ppm == 0;
  if (!whole || std::abs(fit.gain_db) > 0.003 || bits < 2 || fit.last - fit.first < 1000) return {};
  const double steps = std::ldexp(1.0, bits - 1);
  if (!(sums.residual > 0) || sums.residual_peak * steps > most_steps) return {};
  constexpr int64_t segment = 1 << 18;
  std::vector<Moments> parts(size_t((fit.last - fit.first + segment - 1) / segment));
  Fit level = fit;
  level.gain_db = 0;  // the measured gain is the error's doing
  for_each_segment(
      int64_t(parts.size()), job,
      [&] {
        return std::pair{ResidualReader(master, ret, level), Planar()};
      },
      [&](auto& state, int64_t s) {
        auto& [residual, block] = state;
        const int64_t at = fit.first + s * segment, frames = std::min(segment, fit.last - at);
        residual.read(at, frames, block);
        Moments& m = parts[size_t(s)];
        for (int p = 0; p < block.channels(); ++p)
          for (const double v : block.channel(p)) {
            const double e = v * steps;
            m.sum += e, m.square += e * e, m.peak = std::max(m.peak, std::abs(e)), m.count += 1;
          }
      });
  Moments all;
  for (const auto& m : parts)
    all.sum += m.sum, all.square += m.square, all.count += m.count, all.peak = std::max(all.peak, m.peak);
  Requantisation r;
  r.bits = bits;
  r.mean_steps = all.sum / all.count;
  r.variance_steps2 = all.square / all.count - r.mean_steps * r.mean_steps;
  r.peak_steps = all.peak;
  r.truncated = std::abs(std::abs(r.mean_steps) - 0.5) < half_a_step;
  const double top = density(sums.residual_spectrum, 0.75, 0.98), bottom = density(sums.residual_spectrum, 0.02, 0.25);
  r.tilt_db = top > 0 && bottom > 0 ? 10 * std::log10(top / bottom) : 0;
  r.dither = dither_of(r);
  return r;
}

}  // namespace heathmist
