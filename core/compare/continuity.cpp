#include "core/compare/continuity.hpp"

#include <algorithm>
#include <cmath>
#include <span>

#include "core/compare/anchors.hpp"

namespace heathmist {

namespace {

constexpr double least_bad = 0.06;     // local residual to master (power) that is a break at all
constexpr double bad_over_usual = 30;  // ... and so many times what the better pieces leave
constexpr double most_bad = 0.5;       // and that is one in any case
constexpr double nulls_well = 0.2;     // what the better pieces leave at most, to tell a break from the rest
constexpr double silent_ratio = 1e-5;  // of the master's power, under which the return is silent
constexpr double least_master = 1e-7;  // mean square under which a piece of the master tells nothing
constexpr double most_jump_s = 2;
constexpr size_t most_breaks = 200;
constexpr double quiet_s = 4;        // before a break, that its place may lie in: nothing tells of it there at first
constexpr double look_s = 0.35;      // programme that a new delay is found from
constexpr double much_better = 0.3;  // than under the old delay: in a loop another place is just as bad
constexpr double least_clearness = 5;
constexpr int64_t least_dropout = 8;  // samples
constexpr int patience = 4;           // looks in vain, one after the other, before they get shorter

struct BreakWalker {
  const Clip& master;
  const Clip& ret;
  const Fit& fit;
  const ResidualSums& sums;
  const Job& job;
  int64_t piece = 1;
  double threshold = 0;
  Planar m{}, r{};
  std::unique_ptr<AlignedMaster> reader{};
  std::unique_ptr<AlignedReturn> laid{};  // by laid_delay
  double laid_delay = 0;
  int in_vain = 0;  // looks for another place, since one was found

  double rate() const { return master.format().sample_rate_hz; }
  int64_t pieces() const { return int64_t(sums.short_pieces.mm.size()); }
  double least() const { return least_master * double(piece) * double(fit.pairs.size()); }

  struct Sum {
    double mm = 0, mr = 0, rr = 0;
    /// What no gain explains: a fade or a limiter leaves the programme in place.
    double left() const { return rr > 0 ? std::max(0.0, mm - mr * mr / rr) : mm; }
  };
  /// Powers over frames of the overlap, with the return laid by another delay.
  Sum sum_of(int64_t at, int64_t frames, double delay) {
    load(at, frames, delay);
    Sum s;
    const double scale = 1 / fit.gain();
    for (const auto& pair : fit.pairs) {
      const auto x = m.channel(pair.master), y = r.channel(pair.ret);
      const double sign = pair.inverted ? -scale : scale;
      for (size_t n = 0; n < x.size(); ++n) {
        const double v = sign * y[n];
        s.mm += x[n] * x[n], s.mr += x[n] * v, s.rr += v * v;
      }
    }
    return s;
  }
  void load(int64_t at, int64_t frames, double delay) {
    if (!laid || laid_delay != delay) {  // a file is opened once for each delay, not for each piece
      Fit moved = fit;
      moved.delay_samples = laid_delay = delay;
      laid = std::make_unique<AlignedReturn>(ret, moved);
      reader = std::make_unique<AlignedMaster>(master, moved);
    }
    reader->read(at, frames, m);
    laid->read(at, frames, r);
  }

  Sum usual(int64_t n) const {  // under the one fit of the whole
    const double mm = sums.short_pieces.mm[size_t(n)], mr = sums.short_pieces.mr[size_t(n)],
                 rr = sums.short_pieces.rr[size_t(n)], g = fit.gain();
    return {mm, mr / g, rr / (g * g)};
  }
  Sum under(int64_t n, double delay) {
    return delay == fit.delay_samples ? usual(n) : sum_of(sums.first + n * piece, piece, delay);
  }
  bool is_bad(const Sum& s) const { return s.mm > least() && (s.mr < 0 || s.left() > threshold * s.mm); }
  bool is_silent(const Sum& s) const { return s.mm > least() && s.rr < silent_ratio * s.mm; }

  bool lies_well(int64_t at, int64_t frames, double delay) {
    const Sum s = sum_of(at, frames, delay);
    return s.mm > 0 && s.mr > 0 && s.left() < threshold * s.mm;
  }

  /// The delay at which the programme from `at` is found in the return; nothing where none leaves a residual like the
  /// rest. Of places that are as good, as in a loop, the nearest.
  std::optional<double> relocate_from(int64_t at, double near) {
    constexpr double as_good = 1.5;
    const auto frames = std::min<int64_t>(int64_t(look_s * rate()), sums.last - at);
    std::optional<double> best;
    double least = 0;
    const auto take = [&](double found) {
      const double left = sum_of(at, frames, found).left();
      if (!best || left <= as_good * least) best = found, least = left;
    };
    if (frames >= piece * 2)  // short sounds of a key may be more like another of it: first where it is likely to be
      for (const double likely : {0.0, fit.delay_samples})
        if (lies_better(at, frames, near, likely)) take(likely);
    for (const double within_s : reaches())
      if (const auto found = relocate_within(at, near, within_s)) take(*found);
    return best;
  }
  bool lies_better(int64_t at, int64_t frames, double near, double delay) {
    return delay != near && lies_well(at, frames, delay) &&
           sum_of(at, frames, delay).left() < much_better * sum_of(at, frames, near).left() &&
           !repeats(at, frames, delay - near);
  }
  std::optional<double> relocate_within(int64_t at, double near, double within_s) {
    std::vector<Anchor> one{{at, std::min<int64_t>(int64_t(look_s * rate()), sums.last - at), 0, 0}};
    if (one[0].frames < piece * 2) return {};
    const double shifted = near + (fit.ratio() - 1) * double(at);
    find_anchors(one, master, ret, uneven_mixture(master.format().channels), uneven_mixture(ret.format().channels),
                 shifted, int64_t(within_s * rate()), job);
    if (one[0].clearness < least_clearness) return {};
    const double found = one[0].delay - (fit.ratio() - 1) * double(at);
    for (const double fine : {std::round(found), found})
      if (lies_better(at, one[0].frames, near, fine)) return fine;
    return {};
  }
  /// The master itself stands there again, as in a loop: then a jump from one place to the other changes nothing, and
  /// what is bad at the first was not made by it.
  bool repeats(int64_t at, int64_t frames, double jump) {
    const int64_t again = at + std::llround(jump / fit.ratio());
    if (again < 0 || again + frames > master.format().frames) return false;
    Planar here, there;
    reader->read(at, frames, here), reader->read(again, frames, there);
    double apart = 0, all = 0;
    for (const auto& pair : fit.pairs) {
      const auto x = here.channel(pair.master), y = there.channel(pair.master);
      for (size_t n = 0; n < x.size(); ++n) apart += (y[n] - x[n]) * (y[n] - x[n]), all += x[n] * x[n];
    }
    return apart < threshold * all;
  }
  /// The same from `at` on: what was skipped is nowhere to be found, so the programme after it is tried as well.
  std::optional<double> relocate(int64_t at, double near) {
    for (const double later_s : places())
      if (const auto found = relocate_from(at + int64_t(later_s * rate()), near);
          found && std::abs(*found - near) > 0.5) {
        in_vain = 0;
        return found;
      }
    ++in_vain;
    return {};
  }
  /// A speed that moves, or noise in bursts, is bad all over and lies elsewhere nowhere: who has looked in vain often
  /// looks less closely.
  std::span<const double> reaches() const {
    static constexpr double all[] = {most_jump_s, 0.5, 0.12};
    return std::span(all).first(in_vain < patience ? 3 : 1);
  }
  std::span<const double> places() const {
    static constexpr double close[] = {0.0, 0.08, 0.25, 0.6, 1.2, 2.0}, coarse[] = {0.0, 0.6};
    return in_vain < patience ? std::span<const double>(close) : std::span<const double>(coarse);
  }

  /// Squared error under a delay, frame by frame, of all pairs; and the master's own square.
  void errors(int64_t from, int64_t frames, double delay, std::vector<double>& error, std::vector<double>& square) {
    load(from, frames, delay);
    error.assign(size_t(frames), 0);
    square.assign(size_t(frames), 0);
    const double scale = 1 / fit.gain();
    for (const auto& pair : fit.pairs) {
      const auto x = m.channel(pair.master), y = r.channel(pair.ret);
      const double sign = pair.inverted ? -scale : scale;
      for (size_t n = 0; n < size_t(frames); ++n) {
        error[n] += (sign * y[n] - x[n]) * (sign * y[n] - x[n]);
        square[n] += x[n] * x[n];
      }
    }
  }

  /// The frame in [from, to) at which the return leaves delay `a` for delay `b`; where part of the master is missing it
  /// goes on behind that part. Least error in sum; the last of several that are as good but for what noise makes of
  /// them (a repeat is there twice).
  int64_t border(int64_t from, int64_t to, double a, double b) {
    std::vector<double> under_a, under_b, square;
    const int64_t missing = std::max<int64_t>(0, std::llround((a - b) / fit.ratio()));
    errors(from + missing, to - from, b, under_b, square);
    errors(from, to - from, a, under_a, square);
    double sum = 0, least_sum = 0;
    int64_t best = 0;
    for (size_t n = 0; n < under_a.size(); ++n)
      if (sum += under_a[n] - under_b[n]; sum <= least_sum) least_sum = sum, best = int64_t(n) + 1;
    if (b > a) {
      constexpr double next_to_nothing = 1e-5;  // of the programme there
      double more = 0, all = 0;
      for (auto n = size_t(best); n < under_a.size(); ++n)
        if (more += under_a[n] - under_b[n], all += square[n]; more <= next_to_nothing * all) best = int64_t(n) + 1;
    }
    return from + best;
  }

  /// The longest stretch near [from, to) in which the return is as good as nothing, in frames.
  std::pair<int64_t, int64_t> silent_stretch(int64_t from, int64_t to, double delay) {
    from = std::max(sums.first, from - piece), to = std::min(sums.last, to + piece);
    const Sum s = sum_of(from, to - from, delay);
    const double least_sample = std::sqrt(s.mm / double(to - from) / double(fit.pairs.size()) * silent_ratio);
    std::pair<int64_t, int64_t> best{from, from};
    int64_t begin = from;
    for (int64_t n = from; n <= to; ++n) {
      const bool silent = n < to && std::all_of(fit.pairs.begin(), fit.pairs.end(), [&](const auto& p) {
                            return std::abs(r.channel(p.ret)[size_t(n - from)]) < least_sample * fit.gain();
                          });
      if (silent) continue;
      if (n - begin > best.second - best.first) best = {begin, n};
      begin = n + 1;
    }
    return best;
  }
};

constexpr double few_samples = 64;
constexpr int64_t pieces_of_few = 8;  // in which a jump by so few may hardly be heard

/// What was put in at `at`, for `jump` frames, is the programme just before or just after.
bool is_repeat(BreakWalker& w, int64_t at, double delay, double jump) {
  const auto frames = std::min<int64_t>(int64_t(jump), int64_t(w.rate()));
  if (frames < 32) return false;
  for (const double back : {jump, 0.0})
    if (at - int64_t(back) >= w.sums.first && w.lies_well(at - int64_t(back), frames, delay + back)) return true;
  return false;
}

/// What the better quarter leaves: half of the pieces may lie behind a break.
double better_ratio(const BreakWalker& w) {
  std::vector<double> ratios;
  for (int64_t n = 0; n < w.pieces(); ++n)
    if (const auto s = w.usual(n); s.mm > w.least() && !w.is_silent(s)) ratios.push_back(s.left() / s.mm);
  if (ratios.size() < 8) return 1;
  const auto quarter = ratios.begin() + long(ratios.size() / 4);
  std::nth_element(ratios.begin(), quarter, ratios.end());
  return *quarter;
}

/// One that goes on where the last one ends is the same: it was looked at a few seconds at a time.
void add_dropout(std::vector<Break>& breaks, double at_s, double length_s) {
  if (!breaks.empty() && breaks.back().kind == BreakKind::dropout &&
      breaks.back().at_s + breaks.back().length_s >= at_s)
    breaks.back().length_s = at_s + length_s - breaks.back().at_s;
  else
    breaks.push_back({BreakKind::dropout, at_s, length_s, 0});
}

void walk(BreakWalker& w, Continuity& found) {
  double delay = w.fit.delay_samples;
  int64_t bad = 0;
  bool in_place = false;        // some of it has been found where the fit says
  int64_t sure = w.sums.first;  // up to where it has been, by what can be heard
  for (int64_t n = 0; n < w.pieces() && found.breaks.size() < most_breaks; ++n) {
    w.job.check();
    w.job.report(double(n) / double(w.pieces()));
    bad += w.is_bad(w.usual(n));
    const auto now = w.under(n, delay);
    if (!w.is_bad(now)) {
      if (now.mm > w.least()) in_place = true, sure = w.sums.first + (n + 1) * w.piece;
      continue;
    }
    const int64_t at = w.sums.first + n * w.piece;
    int64_t end = n + 1;
    while (end < w.pieces() && end < n + int64_t(3 / 0.02) && w.is_bad(w.under(end, delay))) ++end;
    const auto silent = w.silent_stretch(at, w.sums.first + end * w.piece, delay);
    const bool dropped = silent.second - silent.first >= least_dropout;
    const bool drops_here = dropped && silent.first - at <= 4 * w.piece;
    if (!in_place)  // the beginning lies elsewhere than most of it
      if (const auto first = w.relocate(at, delay)) {
        found.head_samples = *first - delay;
        delay = *first, in_place = true;
        --n;
        continue;
      }
    // After a dropout, and wherever it stays bad, the return may have moved.
    const int64_t from = drops_here ? std::max(silent.second, at) : at + w.piece;
    if (end - n > 2 && (!drops_here || w.sums.first + end * w.piece - silent.second > 2 * w.piece))
      if (const auto moved = w.relocate(from, delay)) {
        const double jump = *moved - delay;
        const int64_t hardly_heard = std::abs(jump) < few_samples ? pieces_of_few * w.piece : w.piece;
        const int64_t earliest = std::min(at, std::max(sure, at - int64_t(quiet_s * w.rate()))) - hardly_heard;
        const int64_t border = w.border(std::max(w.sums.first, earliest), from + w.piece, delay, *moved);
        found.breaks.push_back({jump < 0 ? BreakKind::skip : BreakKind::insert, double(border) / w.rate(),
                                std::abs(jump) / w.rate(), jump, jump > 0 && is_repeat(w, border, delay, jump)});
        delay = *moved, sure = border;
        n = std::max(n, (border + std::max<int64_t>(0, -int64_t(jump)) - w.sums.first) / w.piece);
        continue;
      }
    if (dropped)
      add_dropout(found.breaks, double(silent.first) / w.rate(), double(silent.second - silent.first) / w.rate());
    for (int64_t k = n + 1; k < end; ++k) bad += w.is_bad(w.usual(k));
    n = end - 1;
  }
  found.broken_s = double(bad * w.piece) / w.rate();
}

}  // namespace

const char* name_of(BreakKind kind) {
  static constexpr const char* names[] = {"dropout", "skip", "insert"};
  return names[int(kind)];
}

Continuity find_breaks(const Clip& master, const Clip& ret, const Fit& fit, const ResidualSums& sums, const Job& job) {
  Continuity found;
  if (!fit.trusted || sums.short_pieces.mm.empty()) return found;
  BreakWalker w{master, ret, fit, sums, job};
  if (fit.moves) w.in_vain = patience;  // it lies elsewhere nearly everywhere, and nowhere for long
  w.piece = short_piece_frames(master.format().sample_rate_hz);
  const double usual = better_ratio(w);
  double apart = 0;  // channels that are not in place together are not broken
  for (const auto& pair : fit.pairs) apart = std::max(apart, std::abs(pair.delay_samples - fit.pairs[0].delay_samples));
  if (usual > (apart > 0.5 ? most_bad / bad_over_usual : nulls_well)) return found;
  w.threshold = std::max(least_bad, std::min(most_bad, usual * bad_over_usual));
  walk(w, found);
  return found;
}

}  // namespace heathmist
