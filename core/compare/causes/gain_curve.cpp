#include "core/compare/causes/gain_curve.hpp"

#include <algorithm>
#include <cmath>

#include "core/dsp/median.hpp"

namespace heathmist::causes {

namespace {

/// Adds what the pieces hold of one pair; what lies far off their gain counts little.
void add_pair(GainCurve& curve, const Excerpt& e, const Planar& model, int pair) {
  const auto m = model.channel(pair), r = e.ret.channel(pair);
  std::vector<double> off;
  for (size_t k = 0; k < curve.pieces.size(); ++k) {
    const int64_t from = int64_t(k) * curve.piece, to = std::min(e.frames(), from + curve.piece);
    double mm = 0, mr = 0;
    for (int64_t n = from; n < to; ++n)
      if (e.told[size_t(n)]) mm += m[size_t(n)] * m[size_t(n)], mr += m[size_t(n)] * r[size_t(n)];
    if (!(mm > 0)) continue;
    off.clear();
    for (int64_t n = from; n < to; ++n)
      if (e.told[size_t(n)]) off.push_back(std::abs(r[size_t(n)] - mr / mm * m[size_t(n)]));
    const double usual = 3 * dsp::median(off) + 1e-12;
    size_t at = 0;
    for (int64_t n = from; n < to; ++n)
      if (e.told[size_t(n)]) {
        const double x = m[size_t(n)], y = r[size_t(n)], w = 1 / (1 + std::pow(off[at++] / usual, 2));
        curve.pieces[k].mm += w * x * x, curve.pieces[k].mr += w * x * y, curve.pieces[k].rr += w * y * y;
      }
  }
}

/// Middles are times; a piece that two stretches share says nothing of either.
void lay_in_time(GainCurve& curve, const Excerpt& e) {
  for (double& place : curve.middle)
    place = e.time_of(std::min(e.frames() - 1, int64_t(place))) + (place - std::floor(place));
}

GainCurve gain_curve(const Excerpt& e, const Planar& model, int64_t piece, int first, int last) {
  GainCurve curve{piece, std::vector<GainPiece>(size_t((e.frames() + piece - 1) / piece)), {}, 0};
  for (int p = first; p < last; ++p) add_pair(curve, e, model, p);
  for (size_t k = 0; k < curve.pieces.size(); ++k) {
    curve.middle.push_back((double(k) + 0.5) * double(piece));
    curve.loudest = std::max(curve.loudest, curve.pieces[k].mm);
  }
  return curve;
}

}  // namespace

GainCurve gain_curve(const Excerpt& e, const Planar& model, int64_t piece) {
  return gain_curve(e, model, piece, 0, e.pairs());
}

GainCurve gain_course(const Excerpt& e, const Planar& model, int pair) {
  GainCurve curve = gain_curve(e, model, piece_frames(e.rate_hz), pair, pair + 1);
  lay_in_time(curve, e);
  return curve;
}

GainCurve together(std::span<const GainCurve> pairs) {
  GainCurve sum = pairs.front();
  sum.loudest = 0;
  for (size_t k = 0; k < sum.pieces.size(); ++k) {
    for (const GainCurve& own : pairs.subspan(1))
      sum.pieces[k].mm += own.pieces[k].mm, sum.pieces[k].mr += own.pieces[k].mr, sum.pieces[k].rr += own.pieces[k].rr;
    sum.loudest = std::max(sum.loudest, sum.pieces[k].mm);
  }
  return sum;
}

double at_place_of_pieces(const std::vector<double>& of_pieces, int64_t piece, double place) {
  const double middle = std::clamp(place / double(piece) - 0.5, 0.0, double(of_pieces.size() - 1));
  const auto k = size_t(middle), next = std::min(k + 1, of_pieces.size() - 1);
  return std::lerp(of_pieces[k], of_pieces[next], middle - double(k));
}

double usual_gain(const GainCurve& curve, std::optional<double> beside) {
  std::vector<std::pair<double, double>> gains;  // dB, weight
  double all = 0;
  for (size_t n = 0; n < curve.pieces.size(); ++n)
    if (curve.tells(n) && curve.pieces[n].mr > 0) {
      if (beside && std::abs(20 * std::log10(curve.pieces[n].gain() / *beside)) < 0.3) continue;
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
