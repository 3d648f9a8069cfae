#include "core/compare/causes/outline.hpp"

#include <algorithm>
#include <cmath>

#include "core/compare/causes/gain_curve.hpp"

namespace heathmist::causes {

namespace {

/// Where in a stretch most of the residual lies, in steps of half a part.
int64_t loudest_part(const Excerpt& e, const Stretch& s, int64_t frames) {
  int64_t best = 0;
  double most = -1;
  for (int64_t from = 0; from + frames <= s.frames; from += std::max<int64_t>(1, frames / 2)) {
    double power = 0;
    for (int p = 0; p < e.pairs(); ++p)
      for (int64_t n = s.at + from; n < s.at + from + frames; n += 4)
        if (e.told[size_t(n)]) power += std::pow(e.ret.channel(p)[size_t(n)] - e.master->channel(p)[size_t(n)], 2);
    if (power > most) most = power, best = from;
  }
  return best;
}

/// A whole pair in as many stretches as a long one has.
std::vector<Stretch> in_stretches(const Excerpt& e) {
  if (e.stretches.size() > 1) return e.stretches;
  std::vector<Stretch> all;
  for (int64_t n = 0; n < stretches_of_a_long_one; ++n) {
    const int64_t from = n * e.frames() / stretches_of_a_long_one, to = (n + 1) * e.frames() / stretches_of_a_long_one;
    all.push_back({e.stretches.front().first + from, from, to - from});
  }
  return all;
}

}  // namespace

Excerpt outline_of(const Excerpt& e, int64_t most_samples) {
  Excerpt out;
  out.start = e.start, out.rate_hz = e.rate_hz, out.threads = e.threads, out.gain_db = e.gain_db, out.whole = false;
  out.path = e.path, out.course = e.course, out.course_piece = e.course_piece;
  if (e.whole) {
    out.course_piece = piece_frames(e.rate_hz);
    out.course = gain_curve(e, *e.master, out.course_piece).pieces;
  }
  const auto stretches = in_stretches(e);
  int64_t frames = 0;
  const int64_t most = most_samples / e.pairs() / std::ssize(stretches);
  std::vector<int64_t> from;  // places in the excerpt
  for (size_t n = 0; n < stretches.size(); ++n) {
    const Stretch& s = stretches[n];
    const int64_t count = std::min(most, s.frames);
    const int64_t inside = n == 0 ? 0 : n + 1 == stretches.size() ? s.frames - count : loudest_part(e, s, count);
    out.stretches.push_back({s.first + inside, frames, count});
    from.push_back(s.at + inside), frames += count;
  }
  const auto master = std::make_shared<Planar>(e.pairs(), frames);
  out.ret.resize(e.pairs(), frames), out.told.resize(size_t(frames));
  for (size_t n = 0; n < from.size(); ++n) {
    const int64_t at = out.stretches[n].at, count = out.stretches[n].frames;
    std::copy_n(e.told.begin() + from[n], count, out.told.begin() + at);
    for (int p = 0; p < e.pairs(); ++p) {
      std::copy_n(e.master->channel(p).begin() + from[n], count, master->channel(p).begin() + at);
      std::copy_n(e.ret.channel(p).begin() + from[n], count, out.ret.channel(p).begin() + at);
    }
  }
  out.master = master;
  leave_out_seams(out);
  weigh_master(out);
  return out;
}

}  // namespace heathmist::causes
