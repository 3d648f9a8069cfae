#include "core/compare/causes/aligned_pairs.hpp"

#include <algorithm>
#include <cmath>

namespace heathmist::causes {

namespace {

double whole_where_near(double delay) {
  const double whole = std::round(delay);
  return std::abs(delay - whole) < 0.004 ? whole : delay;
}

}  // namespace

AlignedPairs::AlignedPairs(const Clip& ret, const Fit& fit, int rate_hz, const Continuity& breaks, bool own_delays)
    : ret_(ret), fit_(fit), parts_{{INT64_MIN, breaks.head_samples}} {
  for (const Break& b : breaks.breaks) {
    if (b.kind == BreakKind::dropout) continue;  // the return is in place, and silent: a cause of its own
    const auto at = int64_t(std::llround(b.at_s * rate_hz)), length = int64_t(std::ceil(b.length_s * rate_hz));
    const int64_t margin = rate_hz / 500;  // a splice may be faded over
    parts_.push_back({at, parts_.back().moved + b.jump_samples});
    gone_.emplace_back(at - margin, at + (b.kind == BreakKind::insert ? 0 : length) + margin);
  }
  const int pairs = int(fit.pairs.size());
  for (int p = 0; p < (own_delays ? pairs : 1); ++p)
    groups_.push_back({own_delays ? p : 0, own_delays ? p + 1 : pairs,
                       own_delays ? whole_where_near(fit.pairs[size_t(p)].delay_samples) : fit.delay_samples,
                       std::vector<std::optional<AlignedReturn>>(parts_.size())});
}

void AlignedPairs::read(int64_t first, int64_t frames, Planar& out) {
  out.resize(int(fit_.pairs.size()), frames);
  for (Group& group : groups_)
    for (size_t part = 0; part < parts_.size(); ++part) {
      const int64_t from = std::max(first, parts_[part].from),
                    until = std::min(first + frames, part + 1 < parts_.size() ? parts_[part + 1].from : INT64_MAX);
      if (from < until) read_part(group, part, from, until - from, from - first, out);
    }
}

void AlignedPairs::read_part(Group& group, size_t part, int64_t first, int64_t frames, int64_t at, Planar& out) {
  auto& laid = group.parts[part];
  if (!laid) laid.emplace(ret_, group.delay + parts_[part].moved, fit_.drift_ppm);
  laid->read(first, frames, block_);
  for (int p = group.first; p < group.last; ++p) {
    const ChannelPair& pair = fit_.pairs[size_t(p)];
    const double scale = (pair.inverted ? -1 : 1) / fit_.gain();
    const auto from = block_.channel(pair.ret);
    const auto to = out.channel(p).subspan(size_t(at), size_t(frames));
    if (fit_.gain_db == 0 && !pair.inverted)
      std::copy(from.begin(), from.end(), to.begin());
    else
      std::transform(from.begin(), from.end(), to.begin(), [=](double x) { return scale * x; });
  }
}

}  // namespace heathmist::causes
