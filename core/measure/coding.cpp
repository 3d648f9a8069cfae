#include "core/measure/coding.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <numeric>

#include "core/dsp/noise.hpp"
#include "core/measure/bandwidth.hpp"
#include "core/measure/coders.hpp"

namespace heathmist {

namespace {

constexpr size_t first_blocks = 6, all_blocks = 48;  // an offset is chosen on the first and judged on the others
// Where the treble is loudest it is dense, too, so that few coefficients are nothing. Of a coder that has few offsets
// to choose from they are chosen on as many blocks of every loudness as well.
constexpr size_t blocks_of_all = 6;
constexpr size_t best_kept = 6, best_of_grid = 2;
// An offset is held against those so near that the programme is the same, far enough for every phase to turn.
constexpr std::array beside{5, 13, 29};
constexpr size_t must_agree = 3;      // blocks that must show it: a coder's short blocks, and its dense ones, do not
constexpr double least_depth_db = 4;  // of the third clearest block
constexpr double least_mean_db = 0.25,
                 over_deviation = 5;  // or all blocks show it a little: the mean against its error
constexpr double clear_depth_db = 8, most_kbps = 400;
constexpr double over_chance = 3;  // times what the third clearest shows the other way, and how far the blocks scatter
                                   // at the other offsets: of beats between silences they do by themselves
constexpr double from_hz = 2500, to_hz = 15500;
constexpr double no_coefficient = 3e-13;  // power of a coefficient that writing to 24 bits leaves

/// Pieces of the clip, loud and without sudden starts; of stereo its mid and side where asked for.
struct Piece {
  int64_t first = 0;
  std::vector<std::vector<double>> channels;
};

std::vector<Piece> pieces_of(const Clip& clip, int64_t frames, int count, bool mid_side) {
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
    } else if (const auto right = block.channel(1); !mid_side) {
      piece.channels = {{left.begin(), left.end()}, {right.begin(), right.end()}};
    } else {
      std::vector<double> mid(static_cast<size_t>(frames)), side(static_cast<size_t>(frames));
      for (size_t k = 0; k < size_t(frames); ++k)
        mid[k] = 0.5 * (left[k] + right[k]), side[k] = 0.5 * (left[k] - right[k]);
      piece.channels = {std::move(mid), std::move(side)};
    }
    pieces.push_back(std::move(piece));
  }
  return pieces;
}

struct CodedBand {
  size_t low, high;
};

/// Mean of the logarithms of the coefficients' powers against the logarithm of their mean, in dB: small where many are
/// nothing beside others; where a steady tone's phase makes all of them small, as ever.
double score(CoderTransform& t, size_t at, CodedBand band, std::vector<double>& out) {
  t.forward(at, out);
  double sum = 0, product = 1, power = 0;
  for (size_t k = band.low; k < band.high; ++k) {
    product *= out[k] * out[k] + no_coefficient, power += out[k] * out[k] + no_coefficient;
    if ((k - band.low) % 8 == 7) sum += std::log10(product), product = 1;  // eight at a time: logarithms are slow
  }
  const auto count = double(band.high - band.low);
  return 10 * (sum + std::log10(product)) / count - 10 * std::log10(power / count);
}

/// Places of a piece at which a block of a grid starts.
size_t on_grid(int64_t offset, const Piece& piece, int64_t hop) {
  return size_t(((offset - piece.first) % hop + hop) % hop);
}

/// The least score of the places at which a block of the grid may start, from an offset on, and that place: short
/// blocks that come between shift the long ones behind them.
std::pair<double, size_t> best_place(CoderTransform& t, int64_t offset, const Piece& piece, CodedBand band,
                                     std::vector<double>& out) {
  std::pair<double, size_t> best{1e300, 0};
  for (size_t by = 0; by < t.hop; by += t.grid) {
    const size_t at = on_grid(offset + int64_t(by), piece, int64_t(t.hop));
    best = std::min(best, {score(t, at, band, out), at});
  }
  return best;
}

constexpr double over_rounding = 16;

/// Power of a coefficient of what rounding to 16 bits adds: no coder's steps are as fine, and what decoders and windows
/// that are not quite its own leave of nothing lies under that.
double rounding_in(CoderTransform& t) {
  dsp::Noise chance(23);
  std::vector<double> noise(t.reach), out(t.size);
  for (double& v : noise) v = (chance.uniform() - 0.5) * std::ldexp(1.0, -15);
  t.take(noise);
  t.forward(0, out);
  return std::inner_product(out.begin(), out.end(), out.begin(), 0.0) / double(out.size());
}

/// Share of the coefficients that are more than what rounding makes of nothing, in the half of the blocks with fewest.
double filled(CoderTransform& t, const std::vector<Piece>& pieces, int64_t offset, std::vector<double>& out) {
  const double least = over_rounding * rounding_in(t);
  std::vector<double> shares;
  for (const Piece& p : pieces) {
    double count = 0;
    for (const auto& x : p.channels) {
      t.take(x);
      t.forward(on_grid(offset, p, int64_t(t.hop)), out);
      count += double(std::count_if(out.begin(), out.end(), [&](double v) { return v * v > least; }));
    }
    shares.push_back(count / double(p.channels.size() * t.size));
  }
  std::sort(shares.begin(), shares.end());  // short blocks, and others of another kind, show all as filled
  return std::reduce(shares.begin(), shares.begin() + long(shares.size() / 2 + 1)) / double(shares.size() / 2 + 1);
}

/// Bits that a block of integers, each a multiple of a step that its neighbours share, takes: of every coefficient that
/// is more than nothing the logarithm of its size in steps, its sign and its place.
double bits_by_size(std::span<const double> block, double nothing_power) {
  constexpr size_t alike = 16;
  constexpr double sign_and_place = 1.5, floor_curve = 120,
                   of_least = 1.6;  // the least of a dense group is no single step
  double bits = floor_curve;
  for (size_t at = 0; at < block.size(); at += alike) {
    const auto group = block.subspan(at, std::min(alike, block.size() - at));
    double step = 1e300;
    for (const double v : group)
      if (v * v > nothing_power) step = std::min(step, std::abs(v));
    for (const double v : group)
      if (v * v > nothing_power) bits += sign_and_place + of_least * std::log2(std::abs(v) / step);
  }
  return bits;
}

/// Of the blocks that lie on the grid best, in bits a second and channel.
double bits_on_grid(CoderTransform& t, const std::vector<Piece>& pieces, int64_t offset, int rate_hz, CodedBand band,
                    std::vector<double>& out) {
  const double least = over_rounding * rounding_in(t);
  double bits = 0, blocks = 0;
  for (const Piece& p : pieces)
    for (const auto& x : p.channels) {
      t.take(x);
      t.forward(best_place(t, offset, p, band, out).second, out);
      bits += bits_by_size(out, least), blocks += 1;
    }
  return bits / blocks / double(t.hop) * rate_hz;
}

/// Bits a second and channel.
double bits_a_second(CoderTransform& t, const std::vector<Piece>& pieces, int64_t offset, int rate_hz, CodedBand band,
                     std::vector<double>& out) {
  if (t.grid < t.hop) return bits_on_grid(t, pieces, offset, rate_hz, band, out);
  // that a coefficient which is more than nothing takes, side data included: by encodes of six programmes
  const double usual_bits = t.family == "mp3" ? 5.5 : 5.2;
  double bits = 0, blocks = 0;
  for (const Piece& p : pieces)
    for (const auto& x : p.channels) {
      t.take(x);
      t.forward(on_grid(offset, p, int64_t(t.hop)), out);
      const auto here = t.bits_of(out);
      if (!here) return filled(t, pieces, offset, out) * rate_hz * usual_bits;
      bits += *here, blocks += 1;
    }
  return bits / blocks / double(t.size) * rate_hz;
}

/// Of pieces in the order of their worth, behind the first ones some of every worth, and then the others.
std::vector<Piece> with_some_of_all(std::vector<Piece> pieces) {
  const size_t step = std::max<size_t>(1, (pieces.size() - first_blocks) / blocks_of_all);
  std::vector<Piece> chosen, others;
  for (size_t n = 0; n < pieces.size(); ++n) {
    const bool of_all = n >= first_blocks && (n - first_blocks) % step == step - 1;
    (n < first_blocks || (of_all && chosen.size() < first_blocks + blocks_of_all) ? chosen : others)
        .push_back(std::move(pieces[n]));
  }
  std::move(others.begin(), others.end(), std::back_inserter(chosen));
  return chosen;
}

struct Tried {
  int64_t offset;  ///< on the grid
  double score;
  int64_t frame_offset;  ///< of most blocks
};

/// Every offset of the grid, by what the blocks of the first pieces score there, the best ones first.
std::vector<Tried> offsets_by_score(CoderTransform& t, std::span<const Piece> pieces, CodedBand band, const Job& job) {
  const size_t phases = t.hop / t.grid;
  std::vector<double> out(t.size), sum(t.hop, 0.0), least(t.grid, 0.0);
  for (const Piece& p : pieces)
    for (const auto& x : p.channels) {
      job.check();
      t.take(x);
      for (size_t offset = 0; offset < t.grid; ++offset) {
        double best = 1e300;
        for (size_t k = 0; k < phases; ++k) {
          const size_t at = offset + k * t.grid;
          const double now = score(t, on_grid(int64_t(at), p, int64_t(t.hop)), band, out);
          sum[at] += now, best = std::min(best, now);
        }
        least[offset] += best;
      }
    }
  std::vector<Tried> all;
  for (size_t offset = 0; offset < t.grid; ++offset) {
    size_t frame = offset;
    for (size_t at = offset; at < t.hop; at += t.grid)
      if (sum[at] < sum[frame]) frame = at;
    all.push_back({int64_t(offset), least[offset], int64_t(frame)});
  }
  std::sort(all.begin(), all.end(), [](const Tried& a, const Tried& b) { return a.score < b.score; });
  return all;
}

/// The best ones by the first pieces; on a grid by some of every loudness, too.
std::vector<Tried> likely_offsets(CoderTransform& t, std::span<const Piece> pieces, CodedBand band, const Job& job) {
  auto likely = offsets_by_score(t, pieces.first(first_blocks), band, job);
  likely.resize(std::min(t.grid == t.hop ? best_kept : best_of_grid, likely.size()));
  if (t.grid == t.hop) return likely;
  const auto other = offsets_by_score(t, pieces.subspan(first_blocks, blocks_of_all), band, job).front();
  if (std::none_of(likely.begin(), likely.end(), [&](const Tried& x) { return x.offset == other.offset; }))
    likely.back() = other;
  return likely;
}

double variance_of(const std::vector<double>& v) {
  const double mean = std::reduce(v.begin(), v.end()) / double(v.size());
  double sum = 0;
  for (const double x : v) sum += (x - mean) * (x - mean);
  return sum / double(v.size() - 1);
}

std::optional<CodingTrace> try_transform(const Clip& clip, CoderTransform& t, double top_hz, const Job& job) {
  const int rate = clip.format().sample_rate_hz;
  if (t.family == "opus" && rate != 48000) return {};  // which it always comes back at
  const auto hop = int64_t(t.hop);
  auto pieces = pieces_of(clip, hop + int64_t(t.reach), int(all_blocks), t.mid_side);
  const size_t chosen_on = first_blocks + (t.grid == t.hop ? 0 : blocks_of_all);
  if (pieces.size() < chosen_on + 6) return {};
  if (t.grid < t.hop) pieces = with_some_of_all(std::move(pieces));
  const double bin_hz = rate / 2.0 / double(t.size);
  const CodedBand band{size_t(from_hz / bin_hz),
                       size_t(std::min({to_hz, std::max(6000.0, 0.94 * top_hz), 0.47 * rate}) / bin_hz)};
  if (band.high < band.low + 20) return {};
  std::vector<double> out(t.size);
  const auto all = likely_offsets(t, pieces, band, job);
  std::vector<std::vector<double>> depths_of(all.size());  // [offset][piece]: by how much it is smaller there
  for (size_t n = chosen_on; n < pieces.size(); ++n) {
    for (auto& depths : depths_of) depths.push_back(0);
    for (const auto& x : pieces[n].channels) {
      t.take(x);
      for (size_t k = 0; k < all.size(); ++k) {
        const auto score_at = [&](int by) { return best_place(t, all[k].offset + by, pieces[n], band, out).first; };
        double before = 0, after = 0;
        for (const int by : beside) before += score_at(-by), after += score_at(by);
        // on either side: a sudden start is one block's and not the next one's
        depths_of[k].back() +=
            (std::min(before, after) / double(beside.size()) - score_at(0)) / double(pieces[n].channels.size());
      }
    }
  }
  CodingTrace best;
  std::vector<double> variances;
  for (const auto& depths : depths_of) variances.push_back(variance_of(depths));
  for (size_t k = 0; k < all.size(); ++k) {
    auto& depths = depths_of[k];
    const double count = double(depths.size()), mean = std::reduce(depths.begin(), depths.end()) / count,
                 variance = variances[k], elsewhere = std::reduce(variances.begin(), variances.end()) - variance;
    const double scatter = all.size() > 1 ? std::sqrt(elsewhere / double(all.size() - 1)) : 0;
    // Opus fills its nothings with noise: no block stands out, all are a little smaller.
    const bool steady = mean > least_mean_db && mean > over_deviation * std::sqrt(variance / count);
    std::sort(depths.rbegin(), depths.rend());
    const double depth = depths[must_agree - 1], chance = std::max(0.0, -depths[depths.size() - must_agree]);
    if (depth > best.depth_db &&
        ((t.family != "opus" && depth > least_depth_db && depth > over_chance * std::max(chance, scatter)) || steady))
      best = {t.family,
              0,
              all[k].frame_offset,
              {},
              depth,
              double(std::count_if(depths.begin(), depths.end(), [=](double d) { return d > 0.5 * depth; })) /
                  double(depths.size())};
  }
  if (best.depth_db <= 0) return {};
  best.confidence = 1 - 0.5 * std::exp(-best.depth_db / 8);
  if (t.family != "opus")  // whose coefficients are never nothing: noise is put in
    best.about_kbps =
        bits_a_second(t, pieces, best.frame_offset, rate, band, out) * std::min(2, clip.format().channels) / 1000;
  // The window of another coder on the same grid shows a little of it, and all coefficients as filled.
  if (best.depth_db < clear_depth_db && best.about_kbps.value_or(0) > most_kbps) return {};
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
  const auto top = bandwidth_of(clip, job.part(0, 0.1), 100);
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

Json lossy_origin_json(const Clip& clip, const Job& job) {
  const auto trace = clip.format().lossy ? std::nullopt : find_coding(clip, job);
  return trace ? coding_json(*trace) : Json(nullptr);
}

}  // namespace heathmist
