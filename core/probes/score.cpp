#include "core/probes/score.hpp"

#include <algorithm>
#include <cmath>

namespace heathmist {

namespace {
double amplitude(double db) { return std::isinf(db) ? 0 : std::pow(10, db / 20); }
}  // namespace

double GainScore::amplitude_at(double s) const {
  if (points.empty()) return 1;
  const auto after =
      std::upper_bound(points.begin(), points.end(), s, [](double t, const GainPoint& p) { return t < p.at_s; });
  if (after == points.begin()) return amplitude(points.front().db);
  const GainPoint& a = *std::prev(after);
  if (after == points.end()) return amplitude(a.db);
  const GainPoint& b = *after;
  const double way = (s - a.at_s) / (b.at_s - a.at_s);
  if (std::isinf(a.db) || std::isinf(b.db)) return amplitude(a.db) + way * (amplitude(b.db) - amplitude(a.db));
  return amplitude(a.db + way * (b.db - a.db));
}

double position_at(const std::vector<PanMove>& moves, double s) {
  for (const PanMove& m : moves)
    if (s >= m.from_s && s < m.until_s)
      return m.to ? m.position + (*m.to - m.position) * (s - m.from_s) / (m.until_s - m.from_s) : m.position;
  return 0;
}

}  // namespace heathmist
