#include "core/compare/segments.hpp"

#include <algorithm>
#include <numeric>

namespace heathmist {

namespace {

/// Energy of the residual by segment, from the sums over short pieces.
std::vector<double> residual_of(const ResidualSums& sums, const Fit& fit, int rate_hz, int64_t count, int64_t frames) {
  std::vector<double> energy(size_t(count), 0.0);
  const int64_t piece = short_piece_frames(rate_hz);
  for (size_t n = 0; n < sums.short_pieces.mm.size(); ++n)
    energy[size_t(std::min<int64_t>(count - 1, int64_t(n) * piece / frames))] += residual_in_piece(sums, fit, n);
  return energy;
}

}  // namespace

double residual_in_piece(const ResidualSums& sums, const Fit& fit, size_t piece) {
  const auto& s = sums.short_pieces;
  const double g = fit.gain();
  return std::max(0.0, double(s.rr[piece]) / (g * g) - 2 * double(s.mr[piece]) / g + double(s.mm[piece]));
}

std::vector<Segment> segments_of(const ResidualSums& sums, const Fit& fit, int rate_hz, int64_t count, int64_t frames,
                                 int64_t most) {
  std::vector<Segment> chosen;
  if (count <= most) {
    for (int64_t n = 0; n < count; ++n) chosen.push_back({n, 1});
    return chosen;
  }
  const auto energy = residual_of(sums, fit, rate_hz, count, frames);
  std::vector<int64_t> by_energy(energy.size());
  std::iota(by_energy.begin(), by_energy.end(), 0);
  const auto strongest = by_energy.begin() + long(most / 3);
  std::partial_sort(by_energy.begin(), strongest, by_energy.end(), [&](int64_t a, int64_t b) {
    return std::pair(-energy[size_t(a)], a) < std::pair(-energy[size_t(b)], b);
  });
  for (auto n = by_energy.begin(); n != strongest; ++n) chosen.push_back({*n, 1});
  std::sort(strongest, by_energy.end());
  const auto left = by_energy.end() - strongest, even = most - most / 3;
  for (int64_t k = 0; k < even; ++k)
    chosen.push_back({*(strongest + (2 * k + 1) * left / (2 * even)), double(left) / double(even)});
  std::sort(chosen.begin(), chosen.end(), [](const Segment& a, const Segment& b) { return a.index < b.index; });
  return chosen;
}

}  // namespace heathmist
