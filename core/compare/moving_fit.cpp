#include "core/compare/moving_fit.hpp"

#include <algorithm>
#include <cmath>
#include <complex>

#include "core/compare/anchors.hpp"
#include "core/compare/cells.hpp"
#include "core/compare/moving_delay.hpp"
#include "core/dsp/median.hpp"
#include "core/job.hpp"

namespace heathmist {

namespace {

constexpr double follow_hop_s = 0.02, stretch_s = 2.5;
constexpr int most_stretches = 5;
constexpr size_t most_candidates = 3;
constexpr double same_place_s = 0.02;                 // candidates nearer than this are one: the way reaches that far
constexpr double least_coherent = 0.4;                // chance: 0.1 to 0.25
constexpr double much_better = 0.8;                   // of what does not agree, that may be left
constexpr double least_moved = 6;                     // samples: less is found from one delay, too
constexpr size_t low_bins = CrossSpectra::size / 16;  // where half a sample that is not followed turns nothing
constexpr double no_gain_db = 0.06;                   // nearer than that it cannot be known
constexpr double seen_drift = 4;                      // times the scatter of the stretches

/// A stretch of both, as pairs of channels by frames.
struct Both {
  int64_t at = 0;  ///< master frame
  Planar master, ret;
};

Both read_both(const Clip& master, const Clip& ret, const Fit& fit, int64_t at, int64_t frames) {
  Planar m, r;
  AlignedMaster(master, fit).read(at, frames, m);
  AlignedReturn(ret, fit).read(at, frames, r);
  Both both{at, Planar(int(fit.pairs.size()), frames), Planar(int(fit.pairs.size()), frames)};
  for (size_t p = 0; p < fit.pairs.size(); ++p) {
    const ChannelPair& pair = fit.pairs[p];
    const auto x = m.channel(pair.master), y = r.channel(pair.ret);
    std::copy(x.begin(), x.end(), both.master.channel(int(p)).begin());
    std::transform(y.begin(), y.end(), both.ret.channel(int(p)).begin(),
                   [&](double v) { return pair.inverted ? -v : v; });
  }
  return both;
}

/// What follows the return at one delay and map, through some stretches.
struct Follower {
  double rate_hz;
  std::vector<CrossSpectra> spectra{};
  std::vector<std::pair<double, double>> late{};  ///< master frame, delay: every window
  std::vector<double> middle_at{}, middle{};      ///< the same of every stretch
  double moved = 0;                               ///< samples, within a stretch, at the most
  BlockSpectra work{};

  void follow(const Both& both) { follow(both, course_of(both)); }
  DelayCourse course_of(const Both& both) const {
    const auto hop = int64_t(follow_hop_s * rate_hz);
    auto course = course_of_delay(both.master, both.ret, {}, hop);
    return course.late.empty() ? standing(both) : course;
  }
  DelayCourse standing(const Both& both) const {
    const auto hop = int64_t(follow_hop_s * rate_hz);
    return {hop, std::vector<double>(size_t(both.master.frames() / hop - 1))};
  }
  void follow(const Both& both, const DelayCourse& course) {
    spectra.resize(size_t(both.master.channels()));
    std::vector<double> warped(size_t(both.master.frames()));
    for (int p = 0; p < both.master.channels(); ++p) {
      warp(both.master.channel(p), course, warped, 0, both.master.frames());
      add_blocks(warped, both.ret.channel(p), work, spectra[size_t(p)]);
    }
    for (size_t n = 0; n < course.late.size(); ++n)
      late.emplace_back(double(both.at + int64_t(n + 1) * course.hop), course.late[n]);
    const auto [low, high] = std::minmax_element(course.late.begin(), course.late.end());
    moved = std::max(moved, *high - *low);
    middle_at.push_back(double(both.at) + double(both.master.frames()) / 2);
    middle.push_back(dsp::median(course.late));
  }
  double agreement() const {
    auto independent = spectra;
    for (auto& s : independent) s.blocks *= CrossSpectra::independent;
    return spectra.empty() ? 0 : band_coherence(independent, rate_hz);
  }
  /// By least squares, where so little that is not followed turns nothing.
  double gain_db() const {
    double mm = 0;
    std::complex<double> mr = 0;
    for (const auto& s : spectra)
      for (size_t k = 1; k < low_bins; ++k)
        if (s.coherence(k) > 0.9) mm += s.master[k], mr += s.cross[k];
    const double db = mm > 0 && std::abs(mr) > 0 ? 20 * std::log10(std::abs(mr) / mm) : 0;
    return std::abs(db) < no_gain_db ? 0 : db;
  }
  /// Every channel runs as it is laid, and not the other way up: coherence says nothing of that.
  bool is_upright() const {
    return std::all_of(spectra.begin(), spectra.end(), [](const CrossSpectra& s) {
      double sum = 0;
      for (size_t k = 1; k < low_bins; ++k) sum += s.cross[k].real();
      return sum >= 0;
    });
  }
};

/// Maps that are tried: as they stand, and crossed; each with every polarity of two channels.
std::vector<std::vector<ChannelPair>> maps_of(const Fit& still, int master_channels, int return_channels) {
  std::vector<std::vector<ChannelPair>> maps{plain_pairs(master_channels, return_channels)};
  if (master_channels == 2 && return_channels == 2) {
    maps.push_back(maps.front());
    std::swap(maps.back()[0].ret, maps.back()[1].ret);
  }
  if (master_channels > 2) maps.push_back(still.pairs);
  for (auto& map : maps)
    for (auto& p : map) p.inverted = false, p.delay_samples = p.gain_db = 0;
  const size_t upright = maps.size();
  for (size_t n = 0; n < upright; ++n)
    for (size_t inverted = 0; inverted <= (maps[n].size() == 2 ? 2 : 0); ++inverted) {  // both, or one of them
      maps.push_back(maps[n]);
      auto& map = maps.back();
      for (size_t p = 0; p < map.size(); ++p) map[p].inverted = inverted == 0 || inverted == p + 1;
    }
  return maps;
}

/// Both files, and where they get louder and softer.
struct Outlines {
  const Clip &master, &ret;
  SketchPlan plan;
  Sketch of_master, of_return;

  Outlines(const Clip& m, const Clip& r, const Job& job)
      : master(m),
        ret(r),
        plan{std::max<int64_t>(plan_sketches(m.format().sample_rate_hz, m.format().frames + r.format().frames).step,
                               m.format().sample_rate_hz / 200),
             SketchKind::energy},
        of_master(sketch(m, uneven_mixture(m.format().channels), plan, job)),
        of_return(sketch(r, uneven_mixture(r.format().channels), plan, job)) {}

  /// Where both get louder and softer together, and where they were laid so far.
  std::vector<double> likely_delays(double so_far, const Job& job) const {
    std::vector<double> delays{so_far};
    for (const double d : coarse_delays(of_master, of_return, job))
      if (delays.size() < most_candidates && std::none_of(delays.begin(), delays.end(), [&](double other) {
            return std::abs(other - d) < same_place_s * master.format().sample_rate_hz;
          }))
        delays.push_back(d);
    return delays;
  }
  /// The loudest of equal parts of what a delay lets overlap.
  std::vector<int64_t> stretches(double delay, int64_t frames, int most) const {
    const int64_t all = master.format().frames;
    std::vector<int64_t> at;
    for (const Anchor& a : place_anchors(of_master, all, ret.format().frames, delay, most))
      at.push_back(std::clamp<int64_t>(a.at - frames / 2, 0, std::max<int64_t>(0, all - frames)));
    at.erase(std::unique(at.begin(), at.end()), at.end());
    return at;
  }
};

/// What of the middles a straight line explains, where it is more than their scatter and than they move by.
double drift_of(const Follower& f) {
  if (f.middle_at.size() < 4) return 0;
  const auto line = dsp::median_line(f.middle_at, f.middle);
  std::vector<double> off;
  for (size_t n = 0; n < f.middle.size(); ++n)
    off.push_back(std::abs(f.middle[n] - line.height - line.slope * f.middle_at[n]));
  const double span = f.middle_at.back() - f.middle_at.front();
  const bool seen = std::abs(line.slope) * span > std::max(f.moved, seen_drift * (dsp::median(off) + 1));
  return seen ? line.slope * 1e6 : 0;
}

/// Half way between how early and how late it gets beside a drift, but for a few windows.
double middle_of(const std::vector<std::pair<double, double>>& late, double drift_ppm) {
  constexpr double few = 0.02;
  std::vector<double> off;
  for (const auto& [t, d] : late) off.push_back(d - drift_ppm * 1e-6 * t);
  std::sort(off.begin(), off.end());
  const auto at = [&](double share) { return off[size_t(share * double(off.size() - 1))]; };
  return (at(few) + at(1 - few)) / 2;
}

/// A delay and map, and how well what follows it agrees through one stretch.
struct Lead {
  Fit fit;
  std::vector<int64_t> stretch;  ///< where it is followed; none: nothing overlaps
  double correlation = 0, agreement = 0;
};

std::vector<Lead> all_leads(const Outlines& o, const Fit& still, int64_t frames, const Job& job) {
  std::vector<Lead> leads;
  for (const double delay : o.likely_delays(still.delay_samples, job)) {
    const auto stretch = o.stretches(std::round(delay), frames, 1);
    for (const auto& pairs : maps_of(still, o.master.format().channels, o.ret.format().channels)) {
      leads.push_back({still, stretch});
      Fit& fit = leads.back().fit;
      fit.delay_samples = std::round(delay), fit.drift_ppm = 0, fit.gain_db = 0, fit.pairs = pairs;
      set_overlap(fit, o.master.format().frames, o.ret.format().frames);
    }
  }
  return leads;
}

/// Those in which most correlates, followed.
std::vector<Lead> leads_of(const Outlines& o, const Fit& still, int64_t frames, const Job& job) {
  constexpr double as_likely = 0.75;  // the right one correlates twice as much as one the other way up
  constexpr size_t most_leads = 6;
  const double rate = o.master.format().sample_rate_hz;
  auto leads = all_leads(o, still, frames, job);
  const auto each = [&](auto what) {
    for_each_segment(
        std::ssize(leads), job, [] { return 0; },
        [&](int, int64_t n) {
          if (Lead& lead = leads[size_t(n)]; !lead.stretch.empty())
            what(lead, read_both(o.master, o.ret, lead.fit, lead.stretch.front(), frames));
        });
  };
  each([&](Lead& lead, const Both& both) {
    lead.correlation = followed_correlation(both.master, both.ret, int64_t(follow_hop_s * rate));
  });
  std::stable_sort(leads.begin(), leads.end(),
                   [](const Lead& a, const Lead& b) { return a.correlation > b.correlation; });
  const double least = as_likely * leads.front().correlation;
  std::erase_if(leads, [&](const Lead& l) { return l.correlation < least; });
  leads.resize(std::min(leads.size(), most_leads), leads.front());
  each([&](Lead& lead, const Both& both) {
    Follower follower{rate};
    follower.follow(both);
    if (follower.is_upright()) lead.agreement = follower.agreement();
  });
  return leads;
}

/// The best; of several that are as good, as in a loop, the longest overlap.
Lead best_of(std::vector<Lead> leads) {
  constexpr double as_good = 0.06;
  double most = 0;
  for (const Lead& l : leads) most = std::max(most, l.agreement);
  std::erase_if(leads, [&](const Lead& l) { return l.agreement < most - as_good; });
  const auto length = [](const Lead& l) { return l.fit.last - l.fit.first; };
  return *std::max_element(leads.begin(), leads.end(), [&](const Lead& a, const Lead& b) {
    return std::pair(length(a), a.agreement) < std::pair(length(b), b.agreement);
  });
}

/// Whether the delay moves at the loudest of a few places, and more agrees where it is followed.
bool moves_somewhere(const Clip& master, const Clip& ret, const Fit& fit, int64_t frames) {
  constexpr int places = 5;
  const auto reader = master.reader();
  Planar block;
  int64_t loudest = 0;
  double most = 0;
  for (int n = 1; n <= places; ++n) {
    const int64_t at = fit.first + (fit.last - fit.first - frames) * n / (places + 1);
    reader->read(at, frames, block);
    double power = 0;
    for (const double x : block.channel(fit.pairs[0].master)) power += x * x;
    if (power > most) most = power, loudest = at;
  }
  if (most == 0) return false;
  const Both both = read_both(master, ret, fit, loudest, frames);
  Follower follower{double(master.format().sample_rate_hz)}, stands{follower.rate_hz};
  follower.follow(both);
  if (follower.moved < least_moved) return false;
  stands.follow(both, stands.standing(both));
  return 1 - follower.agreement() < much_better * (1 - stands.agreement());
}

}  // namespace

std::optional<Fit> fit_that_moves(const Clip& master, const Clip& ret, const Fit& still, const Job& job) {
  const double rate = master.format().sample_rate_hz;
  const auto frames = std::min({int64_t(stretch_s * rate), master.format().frames, ret.format().frames});
  if (frames < 4 * int64_t(CrossSpectra::size) || double(frames) < 12 * follow_hop_s * rate) return {};
  if (still.trusted && !moves_somewhere(master, ret, still, frames)) return {};
  const Outlines outlines(master, ret, job);
  const Lead best = best_of(leads_of(outlines, still, frames, job));
  if (best.agreement < least_coherent) return {};
  Fit fit = best.fit;
  Follower all{rate};
  for (const int64_t at : outlines.stretches(fit.delay_samples, frames, most_stretches)) {
    job.check();
    all.follow(read_both(master, ret, fit, at, frames));
  }
  fit.agreement = all.agreement();
  if (fit.agreement < least_coherent || 1 - fit.agreement > much_better * (1 - still.agreement)) return {};
  if (all.moved < least_moved) return {};
  fit.drift_ppm = drift_of(all);
  fit.delay_samples += std::round(middle_of(all.late, fit.drift_ppm));
  fit.gain_db = all.gain_db();
  fit.trusted = fit.moves = true;
  set_overlap(fit, master.format().frames, ret.format().frames);
  return fit;
}

}  // namespace heathmist
