#include "core/compare/causes/excerpt.hpp"

#include <algorithm>
#include <cmath>
#include <numeric>

#include "core/compare/causes/aligned_pairs.hpp"
#include "core/compare/segments.hpp"

namespace heathmist::causes {

namespace {

constexpr size_t most_events = 3;
constexpr int64_t block_frames = 1 << 16;
constexpr double beyond_s = 0.005;
constexpr double settling_s = 0.1;  // at the start of a stretch: what a filter still holds of before is not there
constexpr double ahead_s = 0.1;     // ... and before one: a linear phase reaches ahead

/// Energies of the master and the residual in short pieces, summed from the start.
struct Running {
  std::vector<double> master{0}, residual{0};
  double piece_frames = 1;
  double of(const std::vector<double>& sums, int64_t first, int64_t frames) const {
    const auto place = [&](int64_t frame) {
      return std::clamp<size_t>(size_t(double(frame) / piece_frames), 0, sums.size() - 1);
    };
    return sums[place(first + frames)] - sums[place(first)];
  }
};

Running running(const ResidualSums& sums, const Fit& fit, int rate_hz) {
  Running r;
  r.piece_frames = double(short_piece_frames(rate_hz));
  for (size_t n = 0; n < sums.short_pieces.mm.size(); ++n) {
    r.master.push_back(r.master.back() + sums.short_pieces.mm[n]);
    r.residual.push_back(r.residual.back() + residual_in_piece(sums, fit, n));
  }
  return r;
}

/// Places for stretches of one length, none over another; shorter ones where two leave no more between them.
class Chosen {
 public:
  Chosen(int64_t all, int64_t frames) : all_(all), frames_(frames), taken_{{0, frames}, {all - frames, all}} {}
  size_t count() const { return taken_.size(); }
  bool is_free(int64_t start) const {
    return start >= 0 && start + frames_ <= all_ && std::none_of(taken_.begin(), taken_.end(), [&](const Taken& t) {
             return start < t.until && start + frames_ > t.from;
           });
  }
  void take(int64_t start) { taken_.push_back({start, start + frames_}); }

  /// One that holds a place well within itself, or goes on from one that holds it near its end; without a hole to one
  /// beside it, if it can.
  void hold(int64_t at) {
    const int64_t margin = frames_ / 8, farthest = frames_ + frames_ / 2 - margin;
    int64_t start = std::clamp<int64_t>(at - frames_ / 2, 0, all_ - frames_);
    for (const auto& [from, until] : taken_) {
      if (at >= (from == 0 ? 0 : from + margin) && at < (until == all_ ? all_ : until - margin)) return;
      if (start < from && from - start < farthest) start = from - frames_;
      if (start >= from && start - from < farthest) start = until;
    }
    if (is_free(start))
      take(start);
    else
      fill(at);
  }

  /// In order; those that meet are one.
  std::vector<Stretch> stretches(int64_t first) {
    std::sort(taken_.begin(), taken_.end(), [](const Taken& a, const Taken& b) { return a.from < b.from; });
    std::vector<Stretch> all;
    int64_t at = 0;
    for (const auto& [from, until] : taken_) {
      if (!all.empty() && all.back().first + all.back().frames == first + from)
        all.back().frames += until - from;
      else
        all.push_back({first + from, at, until - from});
      at += until - from;
    }
    return all;
  }

 private:
  struct Taken {
    int64_t from, until;
  };

  /// What is left between two, at a place or beside it, where it is too short for a whole one.
  void fill(int64_t at) {
    for (const auto& [from, until] : taken_)
      if (at >= from && at < until) at = at - from < until - at ? from - 1 : until;
    int64_t from = 0, until = all_;
    for (const Taken& t : taken_) {
      if (at >= t.from && at < t.until) return;
      if (t.until <= at) from = std::max(from, t.until);
      if (t.from > at) until = std::min(until, t.from);
    }
    if (at >= 0 && at < all_ && until - from < frames_) taken_.push_back({from, until});
  }

  int64_t all_, frames_;
  std::vector<Taken> taken_;
};

/// The stretches of a long one; `events`: master frames that must be among them, as far as there is room.
std::vector<Stretch> choose(const ResidualSums& sums, const Fit& fit, int rate_hz, int64_t most_frames,
                            const std::vector<int64_t>& events) {
  const int64_t all = fit.last - fit.first;
  if (all <= most_frames) return {{fit.first, 0, all}};
  const int64_t frames = most_frames / stretches_of_a_long_one;
  const auto r = running(sums, fit, rate_hz);
  Chosen chosen(all, frames);
  for (const int64_t event : events)
    if (chosen.count() < 2 + most_events) chosen.hold(event - fit.first);
  const auto take_best = [&](auto worth) {
    int64_t best = -1;
    double most = -1e300;
    for (int64_t start = 0; start + frames <= all; start += frames / 2)
      if (const double w = worth(start); w > most && chosen.is_free(start)) most = w, best = start;
    if (best >= 0) chosen.take(best);
  };
  const auto master = [&](int64_t start) { return r.of(r.master, start, frames); };
  const auto residual = [&](int64_t start) { return r.of(r.residual, start, frames); };
  take_best(master);
  take_best([&](int64_t start) { return -master(start); });
  take_best(residual);
  for (int n = 1; int(chosen.count()) < stretches_of_a_long_one && n < 64; ++n)  // quarters first, then what is free
    take_best([&](int64_t start) { return -double(std::abs(start - all * n / 4 % all)); });
  return chosen.stretches(fit.first);
}

void keep_course(Excerpt& e, const ResidualSums& sums, const Fit& fit) {
  const double g = fit.gain();
  const auto& s = sums.short_pieces;
  e.course_piece = short_piece_frames(e.rate_hz);
  for (size_t n = 0; n < s.mm.size(); ++n)
    e.course.push_back({double(s.mm[n]), double(s.mr[n]) / g, double(s.rr[n]) / (g * g)});
}

/// Where a channel that is laid by its own delay has not begun yet, or has ended.
void leave_out_ends(Excerpt& e, const Fit& fit, int64_t return_frames) {
  double early = 0, late = 0;  // frames that the return lacks of a channel, at the start and at the end of the overlap
  for (const auto& p : fit.pairs) {
    early = std::max(early, -(double(fit.first) * fit.ratio() + p.delay_samples));
    late = std::max(late, double(fit.last) * fit.ratio() + p.delay_samples - double(return_frames));
  }
  const auto whole = [&](double frames) { return std::min(e.frames(), int64_t(std::ceil(frames))); };
  if (early > 0 && e.stretches.front().first == fit.first) std::fill_n(e.told.begin(), whole(early), 0);
  if (late > 0) std::fill_n(e.told.end() - whole(late), whole(late), 0);
}

}  // namespace

double Places::time_of(int64_t place) const {
  for (const Stretch& s : stretches)
    if (place < s.at + s.frames) return double(s.first - start + place - s.at);
  return stretches.empty() ? 0 : double(stretches.back().first + stretches.back().frames - start);
}

std::optional<int64_t> Places::place_of(double time) const {
  for (const Stretch& s : stretches)
    if (const double inside = time - double(s.first - start); inside >= 0 && inside < double(s.frames))
      return s.at + int64_t(inside);
  return {};
}

double Excerpt::seconds_of(double time) const { return (double(start) + time) / rate_hz; }

std::vector<double> left_of(const Excerpt& e, const Planar& model, int pair) {
  std::vector<double> left(size_t(e.frames()));
  const auto m = model.channel(pair), r = e.ret.channel(pair);
  for (size_t n = 0; n < left.size(); ++n) left[n] = e.told[n] ? r[n] - m[n] : 0;
  return left;
}

bool is_master(const Excerpt& e, const Planar& model) {
  for (int p = 0; p < e.pairs(); ++p)
    if (!std::equal(model.channel(p).begin(), model.channel(p).end(), e.master->channel(p).begin())) return false;
  return true;
}

double power_left(const Excerpt& e, const Planar& model, bool odd, const std::vector<uint8_t>& told) {
  const int64_t piece = 5 * piece_frames(e.rate_hz);
  std::vector<double> sum(size_t(e.pairs())), count(sum.size());
  each_pair(e.threads, e.pairs(), [&](int p) {
    const auto m = model.channel(p), r = e.ret.channel(p);
    double of_pair = 0, told_of_pair = 0;
    for (int64_t at = 0; at < e.frames(); at += piece) {
      if (odd && at / piece % 2 == 0) continue;
      for (int64_t n = at; n < std::min(e.frames(), at + piece); ++n)
        if (told[size_t(n)]) {
          const double d = r[size_t(n)] - m[size_t(n)];
          of_pair += d * d, told_of_pair += 1;
        }
    }
    sum[size_t(p)] = of_pair, count[size_t(p)] = told_of_pair;
  });
  const double all = std::accumulate(count.begin(), count.end(), 0.0);
  return all > 0 ? std::accumulate(sum.begin(), sum.end(), 0.0) / all : 0;
}

std::vector<uint8_t> told_behind_seams(const Excerpt& e, double echo_s) {
  auto told = e.told;
  const auto settling = int64_t(std::max(settling_s, echo_s) * e.rate_hz);
  for (size_t n = 1; n < e.stretches.size(); ++n) {
    const Stretch &here = e.stretches[n], &before = e.stretches[n - 1];
    std::fill_n(told.begin() + here.at, std::min(here.frames, settling), 0);
    const int64_t ahead = std::min(before.frames, int64_t(ahead_s * e.rate_hz));
    std::fill_n(told.begin() + here.at - ahead, ahead, 0);
  }
  return told;
}

void leave_out_seams(Excerpt& e, double echo_s) { e.told = told_behind_seams(e, echo_s); }

void weigh_master(Excerpt& e) {
  double sum = 0, count = 0;
  for (int p = 0; p < e.pairs(); ++p)
    for (int64_t n = 0; n < e.frames(); ++n)
      if (e.told[size_t(n)]) sum += std::pow(e.master->channel(p)[size_t(n)], 2), count += 1;
  e.master_power = count > 0 ? sum / count : 0;
}

Excerpt take_excerpt(const Clip& master, const Clip& ret, const Fit& fit, const ResidualSums& sums,
                     const Continuity& breaks, const Laying& laying, int64_t most_samples, const Job& job) {
  Excerpt e;
  e.rate_hz = master.format().sample_rate_hz;
  e.gain_db = fit.gain_db;
  e.threads = job.workers();
  const int pairs = int(fit.pairs.size());
  std::vector<int64_t> events;
  constexpr double long_s = 0.25;  // of such a one both ends are looked at
  for (const Break& b : breaks.breaks) {
    const bool is_long = b.kind == BreakKind::dropout && b.length_s > long_s;
    for (const double part : is_long ? std::vector{0.0, 1.0} : std::vector{0.5})
      events.push_back(std::llround((b.at_s + part * b.length_s) * e.rate_hz));
  }
  e.stretches = choose(sums, fit, e.rate_hz, most_samples / std::max(1, pairs), events);
  e.start = fit.first;
  e.whole = e.stretches.size() == 1;
  if (!e.whole) keep_course(e, sums, fit);
  const int64_t frames = e.stretches.back().at + e.stretches.back().frames;
  const auto master_samples = std::make_shared<Planar>(pairs, frames);
  e.master = master_samples;
  e.ret.resize(pairs, frames);
  e.told.assign(size_t(frames), 1);
  AlignedMaster reader(master, fit);
  AlignedPairs laid(ret, fit, e.rate_hz, laying.jumps ? breaks : Continuity{}, laying.own_delays);
  Planar block;
  for (const Stretch& s : e.stretches)
    for (int64_t done = 0; done < s.frames; done += block_frames) {
      job.check();
      const int64_t count = std::min(block_frames, s.frames - done);
      const auto put = [&](int channel, std::span<double> to) {
        std::copy_n(block.channel(channel).begin(), count, to.begin() + long(s.at + done));
      };
      reader.read(s.first + done, count, block);
      for (int p = 0; p < pairs; ++p) put(fit.pairs[size_t(p)].master, master_samples->channel(p));
      laid.read(s.first + done, count, block);
      for (int p = 0; p < pairs; ++p) put(p, e.ret.channel(p));
    }
  for (const auto& [from, to] : laid.gone())
    for (const Stretch& s : e.stretches)
      for (int64_t n = std::max(from, s.first); n < std::min(to, s.first + s.frames); ++n)
        e.told[size_t(s.at + n - s.first)] = 0;
  leave_out_seams(e);
  // Where the master goes on beyond the overlap, a filter brings in what is not there.
  const auto beyond = std::min(frames / 8, int64_t(beyond_s * e.rate_hz));
  if (fit.first > 0) std::fill_n(e.told.begin(), beyond, 0);
  if (fit.last < master.format().frames) std::fill_n(e.told.end() - beyond, beyond, 0);
  if (laying.own_delays) leave_out_ends(e, fit, ret.format().frames);
  weigh_master(e);
  return e;
}

}  // namespace heathmist::causes
