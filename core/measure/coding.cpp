#include "core/measure/coding.hpp"

#include <algorithm>
#include <cmath>
#include <numeric>

#include "core/dsp/noise.hpp"
#include "core/measure/coders.hpp"
#include "core/measure/spectrum.hpp"

namespace heathmist {

namespace {

constexpr size_t first_blocks = 6, all_blocks = 48;  // an offset is chosen on the first and judged on the others
constexpr size_t best_kept = 10;
constexpr size_t must_agree = 2;      // blocks that must show it: a coder's short blocks, and its dense ones, do not
constexpr double least_depth_db = 5;  // of the second clearest block
constexpr double least_mean_db = 0.8, over_deviation = 8;  // or all blocks show it a little: the mean against its error
constexpr double over_chance = 3;                          // times what the second clearest shows the other way
constexpr double from_hz = 2500, to_hz = 15500;
constexpr double nothing = 3e-13;  // power of a coefficient that writing to 24 bits leaves

/// Pieces of the clip, loud and without sudden starts, as mid and side.
struct Piece {
  int64_t first = 0;
  std::vector<std::vector<double>> channels;
};

std::vector<Piece> pieces_of(const Clip& clip, int64_t frames, int count) {
  const auto& f = clip.format();
  const auto reader = clip.reader();
  Planar block;
  struct Place {
    int64_t first;
    double worth;
  };
  std::vector<Place> places;
  dsp::Noise chance(17);
  const int64_t room = f.frames - frames;
  if (room < 0) return {};
  const int64_t tried = std::clamp<int64_t>(room / frames, 1, 4 * count);
  for (int64_t n = 0; n < tried; ++n) {
    // at uneven places: evenly spaced ones meet a steady tone in one phase
    const int64_t first = std::min(room, int64_t((double(n) + chance.uniform()) * double(room) / double(tried)));
    reader->read(first, frames, block);
    std::array<double, 8> parts{};
    for (int c = 0; c < block.channels(); ++c)
      for (int64_t k = 1; k < frames; ++k) {  // of the treble
        const double d = block.channel(c)[size_t(k)] - block.channel(c)[size_t(k - 1)];
        parts[size_t(k * 8 / frames)] += d * d;
      }
    const double least = *std::min_element(parts.begin(), parts.end()),
                 most = *std::max_element(parts.begin(), parts.end());
    if (least > 0) places.push_back({first, 10 * std::log10(least) - 10 * std::log10(most / least)});
  }
  std::sort(places.begin(), places.end(), [](const Place& a, const Place& b) { return a.worth > b.worth; });
  if (places.size() > size_t(count)) places.resize(size_t(count));
  std::vector<Piece> pieces;
  for (const Place& p : places) {
    reader->read(p.first, frames, block);
    Piece piece{p.first, {}};
    const auto left = block.channel(0);
    if (block.channels() == 1) {
      piece.channels.emplace_back(left.begin(), left.end());
    } else {
      const auto right = block.channel(1);
      std::vector<double> mid(static_cast<size_t>(frames)), side(static_cast<size_t>(frames));
      for (size_t k = 0; k < size_t(frames); ++k)
        mid[k] = 0.5 * (left[k] + right[k]), side[k] = 0.5 * (left[k] - right[k]);
      piece.channels = {std::move(mid), std::move(side)};
    }
    pieces.push_back(std::move(piece));
  }
  return pieces;
}

struct Band {
  size_t low, high;
};

/// Mean of the logarithms of the coefficients' powers: small where many are nothing.
double score(CoderTransform& t, const Piece& piece, int64_t at, Band band, std::vector<double>& out) {
  double sum = 0;
  for (const auto& x : piece.channels) {
    t.forward(std::span(x).subspan(size_t(at), t.reach), out);
    for (size_t k = band.low; k < band.high; ++k) sum += std::log10(out[k] * out[k] + nothing);
  }
  return 10 * sum / double((band.high - band.low) * piece.channels.size());
}

/// Share of the coefficients that are more than nothing: clear of the valley in their distribution.
double filled(CoderTransform& t, const std::vector<Piece>& pieces, int64_t offset, std::vector<double>& out) {
  std::vector<double> db;
  for (const Piece& p : pieces) {
    const int64_t hop = int64_t(t.hop), at = ((offset - p.first) % hop + hop) % hop;
    for (const auto& x : p.channels) {
      t.forward(std::span(x).subspan(size_t(at), t.reach), out);
      for (size_t k = 0; k < t.hop; ++k) db.push_back(10 * std::log10(out[k] * out[k] + 1e-16));
    }
  }
  std::sort(db.begin(), db.end());
  double widest = 0, valley = db.front();  // the widest gap among the deciles
  for (size_t n = 1; n < 40; ++n) {
    const double low = db[db.size() * (n - 1) / 40], high = db[db.size() * n / 40];
    if (high - low > widest && low > -150) widest = high - low, valley = 0.5 * (low + high);
  }
  return double(db.end() - std::lower_bound(db.begin(), db.end(), valley)) / double(db.size());
}

struct Tried {
  int64_t offset;
  double score;
};

std::optional<CodingTrace> try_transform(const Clip& clip, CoderTransform& t, double top_hz, const Job& job) {
  const int rate = clip.format().sample_rate_hz;
  if (t.family == "opus" && rate != 48000) return {};  // which it always comes back at
  const auto hop = int64_t(t.hop);
  const auto pieces = pieces_of(clip, hop + int64_t(t.reach), int(all_blocks));
  if (pieces.size() < first_blocks + 6) return {};
  const double bin_hz = rate / 2.0 / double(hop);
  const Band band{size_t(from_hz / bin_hz),
                  size_t(std::min({to_hz, std::max(6000.0, 0.94 * top_hz), 0.47 * rate}) / bin_hz)};
  if (band.high < band.low + 20) return {};
  std::vector<double> out(t.hop);
  std::vector<Tried> all;
  all.reserve(t.hop);
  for (int64_t offset = 0; offset < hop; ++offset) {
    if (offset % 64 == 0) job.check();
    double sum = 0;
    for (size_t n = 0; n < first_blocks; ++n) {
      const int64_t at = ((offset - pieces[n].first) % hop + hop) % hop;
      sum += score(t, pieces[n], at, band, out);
    }
    all.push_back({offset, sum});
  }
  std::sort(all.begin(), all.end(), [](const Tried& a, const Tried& b) { return a.score < b.score; });
  all.resize(std::min(best_kept, all.size()));
  CodingTrace best;
  for (const Tried& tried : all) {
    std::vector<double> depths;
    for (size_t n = first_blocks; n < pieces.size(); ++n) {
      const auto at = [&](int64_t offset) { return ((offset - pieces[n].first) % hop + hop) % hop; };
      double elsewhere = 0;
      for (int k = 1; k <= 6; ++k) elsewhere += score(t, pieces[n], at(tried.offset + k * hop / 7), band, out) / 6;
      depths.push_back(elsewhere - score(t, pieces[n], at(tried.offset), band, out));
    }
    const double count = double(depths.size()), mean = std::reduce(depths.begin(), depths.end()) / count;
    double variance = 0;
    for (const double d : depths) variance += (d - mean) * (d - mean) / (count - 1);
    const bool steady = mean > least_mean_db && mean > over_deviation * std::sqrt(variance / count);
    std::sort(depths.rbegin(), depths.rend());
    const double depth = depths[must_agree - 1], chance = std::max(0.0, -depths[depths.size() - must_agree]);
    if (depth > best.depth_db && ((depth > least_depth_db && depth > over_chance * chance) || steady))
      best = {t.family,
              0,
              tried.offset,
              {},
              depth,
              double(std::count_if(depths.begin(), depths.end(), [=](double d) { return d > 0.5 * depth; })) /
                  double(depths.size())};
  }
  if (best.depth_db <= 0) return {};
  best.confidence = 1 - 0.5 * std::exp(-best.depth_db / 8);
  const double bits = 3.6;  // that a coefficient which is more than nothing takes, side data included
  if (t.family != "opus")   // whose coefficients are never nothing: noise is put in
    best.about_kbps = filled(t, pieces, best.frame_offset, out) * rate * clip.format().channels * bits / 1000;
  return best;
}

}  // namespace

Json coding_json(const CodingTrace& trace) {
  return {{"family", trace.family},
          {"confidence", trace.confidence},
          {"about_kbps", trace.about_kbps ? Json(std::round(*trace.about_kbps)) : Json(nullptr)},
          {"frame_offset", trace.frame_offset}};
}

std::optional<CodingTrace> find_coding(const Clip& clip, const Job& job) {
  const auto top = bandwidth_hz(average_spectrum(clip, 8192, 0, -1, 100, job.part(0, 0.1)));
  if (!top) return {};
  auto transforms = coder_transforms();
  std::vector<std::optional<CodingTrace>> found(transforms.size());
  for_each_segment(
      int64_t(transforms.size()), job.part(0.1, 1), [] { return 0; },
      [&](int, int64_t n) {
        found[size_t(n)] = try_transform(clip, *transforms[size_t(n)], *top, Job{job.stop, {}, 1});
      });
  std::optional<CodingTrace> best;
  for (auto& f : found)
    if (f && (!best || f->depth_db > best->depth_db)) best = f;
  return best;
}

}  // namespace heathmist
