#include "core/compare/dynamics.hpp"

#include <algorithm>
#include <cmath>

namespace heathmist {

namespace {

constexpr int64_t segment_frames = 1 << 18;
constexpr double top_share = 0.7;
constexpr size_t most_places = 100;
constexpr double top_level_share =
    0.994;  // 0.05 dB: a clipper leaves its tops at one level, slow waves of few bits anywhere
constexpr int64_t least_runs = 4;

struct Top {
  int64_t at;
  double level;
};
using Tops = std::vector<Top>;

void tops_of(std::span<const double> x, int64_t first, double least, Tops& tops) {
  for (size_t n = 1; n + 3 < x.size();) {
    const double v = x[n];
    if (std::abs(v) < least || v != x[n + 1] || v != x[n + 2]) {
      ++n;
      continue;
    }
    size_t end = n + 3;
    while (end < x.size() && x[end] == v) ++end;
    const double sign = v > 0 ? 1 : -1;
    if (x[n - 1] != v && end < x.size() && sign * x[n - 1] < std::abs(v) && sign * x[end] < std::abs(v)) {
      tops.push_back({first + int64_t(n), std::abs(v)});
    }
    n = end;
  }
}

}  // namespace

FlatTops find_flat_tops(const Clip& clip, double peak, const Job& job) {
  const auto& f = clip.format();
  FlatTops found;
  if (peak <= 0) return found;
  std::vector<Tops> parts(size_t((f.frames + segment_frames - 1) / segment_frames));
  for_each_segment(
      int64_t(parts.size()), job,
      [&] {
        return std::pair{clip.reader(), Planar()};
      },
      [&](auto& state, int64_t s) {
        auto& [reader, block] = state;
        const int64_t first = s * segment_frames - 1;  // one sample before, some after: a run belongs where it starts
        reader->read(first, segment_frames + 1 + 256, block);
        for (int c = 0; c < f.channels; ++c) tops_of(block.channel(c), first, peak * top_share, parts[size_t(s)]);
        Tops& part = parts[size_t(s)];
        std::erase_if(part, [&](const Top& top) { return top.at >= (s + 1) * segment_frames; });
        std::sort(part.begin(), part.end(), [](const Top& a, const Top& b) { return a.at < b.at; });
      });
  double level = 0;
  int64_t all = 0;
  for (const Tops& part : parts)
    for (const Top& top : part) level = std::max(level, top.level), ++all;
  for (const Tops& part : parts)
    for (const Top& top : part) {
      if (top.level < top_level_share * level) continue;
      ++found.runs;
      if (found.at_s.size() < most_places) found.at_s.push_back(double(top.at) / f.sample_rate_hz);
    }
  if (found.runs < least_runs || 2 * found.runs < all) return {};
  found.level_dbfs = 20 * std::log10(level);
  return found;
}

GainTrace gain_trace(const ResidualSums& sums, const Fit& fit, int sample_rate_hz) {
  GainTrace trace;
  const auto& s = sums.short_pieces;
  trace.first_s = double(sums.first) / sample_rate_hz;
  trace.piece_s = double(short_piece_frames(sample_rate_hz)) / sample_rate_hz;
  std::vector<float> known;
  float most = 0;
  for (const float mm : s.mm) most = std::max(most, mm);
  for (size_t n = 0; n < s.mm.size(); ++n) {
    const bool tells = s.mm[n] > 1e-6f * most && s.mr[n] > 0;
    trace.db.push_back(tells ? float(20 * std::log10(double(s.mr[n]) / double(s.mm[n])) - fit.gain_db) : NAN);
    if (tells) known.push_back(trace.db.back());
  }
  if (known.empty()) return trace;
  const auto place = known.begin() + long(double(known.size() - 1) * 0.9);
  std::nth_element(known.begin(), place, known.end());
  const double usual = double(*place);
  double sum = 0, weight = 0;
  for (size_t n = 0; n < trace.db.size(); ++n) {
    if (std::isnan(trace.db[n])) continue;
    const double reduction = std::min(0.0, double(trace.db[n]) - usual);
    sum += reduction * double(s.mm[n]), weight += double(s.mm[n]);
    if (s.mm[n] > 1e-3f * most && reduction < trace.deepest_db)
      trace.deepest_db = reduction, trace.deepest_at_s = trace.first_s + double(n) * trace.piece_s;
  }
  trace.average_db = weight > 0 ? sum / weight : 0;
  return trace;
}

}  // namespace heathmist
