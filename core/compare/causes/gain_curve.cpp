#include "core/compare/causes/gain_curve.hpp"

#include <algorithm>
#include <cmath>

namespace heathmist::causes {

GainCurve gain_curve(const Excerpt& e, const Planar& model, int64_t piece, int pair) {
  GainCurve curve{piece, std::vector<GainPiece>(size_t((e.frames() + piece - 1) / piece)), 0};
  for (int p = 0; p < e.pairs(); ++p) {
    if (pair >= 0 && p != pair) continue;
    const auto m = model.channel(p), r = e.ret.channel(p);
    for (size_t k = 0; k < curve.pieces.size(); ++k)
      for (int64_t n = int64_t(k) * piece; n < std::min(e.frames(), (int64_t(k) + 1) * piece); ++n)
        if (e.told[size_t(n)]) {
          const double x = m[size_t(n)], y = r[size_t(n)];
          curve.pieces[k].mm += x * x, curve.pieces[k].mr += x * y, curve.pieces[k].rr += y * y;
        }
  }
  for (const auto& p : curve.pieces) curve.loudest = std::max(curve.loudest, p.mm);
  return curve;
}

double usual_gain(const GainCurve& curve) {
  std::vector<std::pair<double, double>> gains;  // dB, weight
  double all = 0;
  for (size_t n = 0; n < curve.pieces.size(); ++n)
    if (curve.tells(n) && curve.pieces[n].mr > 0) {
      const double weight = std::sqrt(curve.pieces[n].mm);
      gains.emplace_back(20 * std::log10(curve.pieces[n].gain()), weight);
      all += weight;
    }
  if (gains.empty()) return 1;
  std::sort(gains.begin(), gains.end());
  double best = -1, at = 0, inside = 0;
  for (size_t low = 0, high = 0; high < gains.size(); ++high) {  // the fullest window of 0.1 dB
    inside += gains[high].second;
    while (gains[high].first - gains[low].first > 0.1) inside -= gains[low++].second;
    if (inside > best) best = inside, at = 0.5 * (gains[low].first + gains[high].first);
  }
  double mm = 0, mr = 0;
  for (size_t n = 0; n < curve.pieces.size(); ++n)
    if (curve.tells(n) && curve.pieces[n].mr > 0 && std::abs(20 * std::log10(curve.pieces[n].gain()) - at) < 0.06)
      mm += curve.pieces[n].mm, mr += curve.pieces[n].mr;
  return mm > 0 ? mr / mm : 1;
}

}  // namespace heathmist::causes
