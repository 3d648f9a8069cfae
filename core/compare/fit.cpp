#include "core/compare/fit.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <numeric>
#include <span>

#include "core/compare/anchors.hpp"
#include "core/compare/cells.hpp"
#include "core/compare/channel_map.hpp"
#include "core/compare/locate.hpp"
#include "core/compare/moving_fit.hpp"
#include "core/compare/side_fit.hpp"
#include "core/dsp/median.hpp"

namespace heathmist {

namespace {

constexpr double least_agreement = 0.12;          // under which two clips are called unrelated
constexpr double agrees_anyway = 0.95;            // ... and from which a speed that moves is not asked for
constexpr double whole_sample = 0.02;             // a delay this near a whole sample may be one
constexpr double whole_sample_with_drift = 0.06;  // and where a drift was taken for it, from end to end
constexpr double unity_db = 0.002;                // a gain this near 0 dB may be none
constexpr double by_a_filter = 0.3;               // samples that the phase of a filter may look like
constexpr double by_a_filter_db = 0.02;           // and the gain that its skirts may
constexpr double pulled_db = 0.004;               // between the least-squares gain and the one that holds
constexpr double pulled_far_db = 0.25;            // ... and the one that most lies about
constexpr double about_unity_db = 0.12;           // such a one this near 0 dB may be none
constexpr int most_rounds = 10;
constexpr double settled = 1e-6;  // samples: white noise moved by that leaves -115 dB
constexpr double as_good = 4e-3;  // ... where the residual's energy grows by no more than this share (reading between
                                  // samples loses the last 0.2 % of the band, and of noise)

constexpr double hidden_share = 1e-3;
constexpr double much_left_share = 1e-3, as_good_as_any = 0.03;  // where much is left, so little more says nothing

/// A fit whose last thousandths are known.
struct Refined {
  std::vector<CrossSpectra> spectra{};
  /// Correlation squared with each channel laid by a delay of its own: of all, and of the channel that is least alike.
  double alike = 1, least_alike = 1;
};

std::vector<std::complex<double>> signed_sum(const std::vector<CrossSpectra>& spectra,
                                             const std::vector<ChannelPair>& pairs, std::optional<size_t> anchor) {
  std::vector<std::complex<double>> sum(CrossSpectra::size / 2 + 1, 0);
  for (size_t p = 0; p < pairs.size(); ++p) {
    const auto& cross = anchor ? spectra[p].by_anchor[*anchor] : spectra[p].cross;
    for (size_t k = 0; k < sum.size(); ++k) sum[k] += (pairs[p].inverted ? -1.0 : 1.0) * cross[k];
  }
  return sum;
}

/// Leaves the points that lie on the line most of them lie on: an anchor of tonal audio may have been read a whole wave
/// off.
void drop_outliers(std::vector<double>& t, std::vector<double>& d) {
  const auto line = dsp::median_line(t, d);
  std::vector<double> distance;
  for (size_t i = 0; i < t.size(); ++i) distance.push_back(std::abs(d[i] - line.height - line.slope * t[i]));
  const double most = std::max(0.01, 6 * dsp::median(distance));
  size_t kept = 0;
  for (size_t i = 0; i < t.size(); ++i)
    if (distance[i] <= most) t[kept] = t[i], d[kept] = d[i], ++kept;
  t.resize(kept);
  d.resize(kept);
}

/// The drift that the anchors' own remaining delays show, where it is beyond chance and beyond a hundredth of a sample
/// (beyond less where there is drift already: then it is only made finer).
double remaining_drift_ppm(const Search& s, const std::vector<CrossSpectra>& spectra,
                           const std::vector<ChannelPair>& pairs, const std::vector<double>& weights,
                           double so_far_ppm) {
  size_t count = s.anchors.size();
  if (count < 4) return 0;
  const auto whole = signed_sum(spectra, pairs, {});
  std::vector<double> t, d, own(weights.size());
  for (size_t i = 0; i < count; ++i) {
    const auto cross = signed_sum(spectra, pairs, i);
    for (size_t k = 0; k < own.size(); ++k)  // a bin counts by what this anchor holds of it
      own[k] = std::abs(whole[k]) > 0 ? weights[k] * std::abs(cross[k]) / std::abs(whole[k]) : 0;
    t.push_back(double(s.anchors[i].at));
    d.push_back(phase_delay(cross, own).samples);
  }
  drop_outliers(t, d);
  count = t.size();
  if (count < 4) return 0;
  const double mean_t = std::reduce(t.begin(), t.end()) / double(count),
               mean_d = std::reduce(d.begin(), d.end()) / double(count);
  double tt = 0, td = 0, left = 0;
  for (size_t i = 0; i < count; ++i) tt += (t[i] - mean_t) * (t[i] - mean_t), td += (t[i] - mean_t) * (d[i] - mean_d);
  const double slope = td / tt;
  for (size_t i = 0; i < count; ++i) left += std::pow(d[i] - mean_d - slope * (t[i] - mean_t), 2);
  const double deviation = std::sqrt(left / double(count - 2) / tt);
  const double span = t.back() - t.front();
  return std::abs(slope) > 5 * deviation && std::abs(slope) * span > (so_far_ppm == 0 ? 0.01 : settled) ? slope * 1e6
                                                                                                        : 0;
}

/// Sums over the anchors that gain and residual follow from.
struct Energies {
  double mm = 0, mr = 0, rr = 0;
  double gain() const { return mm > 0 && mr > 0 ? mr / mm : 1; }
};
struct Weighed {
  Energies energies;
  double residual = 0;  // energy after the fit
};

struct Scale {
  AlignedMaster master;
  AlignedReturn laid;
  Planar m{}, r{};
  std::vector<double> residual{};
};

/// Calls visit(state, anchor's index, pair, master, laid return) for every anchor's part inside the overlap, on all
/// cores.
template <class Visit>
void over_anchors(const Search& s, const Fit& fit, Visit visit) {
  for_each_segment(
      int64_t(s.anchors.size()), Job{s.job.stop, {}, s.job.threads},
      [&] {
        return Scale{AlignedMaster(s.master, fit), AlignedReturn(s.ret, fit)};
      },
      [&](Scale& scale, int64_t i) {
        const auto& anchor = s.anchors[size_t(i)];
        const int64_t from = std::max(anchor.at, fit.first),
                      frames = std::min(anchor.at + anchor.frames, fit.last) - from;
        if (frames <= 0) return;
        scale.master.read(from, frames, scale.m);
        scale.laid.read(from, frames, scale.r);
        for (const auto& p : fit.pairs) visit(scale, size_t(i), p, scale.m.channel(p.master), scale.r.channel(p.ret));
      });
}

Weighed weigh(const Search& s, const Fit& fit, std::optional<double> held_gain) {
  std::vector<Weighed> parts(s.anchors.size());
  over_anchors(s, fit,
               [&](Scale&, size_t i, const ChannelPair& p, std::span<const double> x, std::span<const double> y) {
                 const double sign = p.inverted ? -1 : 1;
                 auto& e = parts[i].energies;
                 for (size_t n = 0; n < x.size(); ++n) {
                   e.mm += x[n] * x[n];
                   e.mr += sign * x[n] * y[n];
                   e.rr += y[n] * y[n];
                 }
               });
  Weighed result;
  for (const auto& part : parts) {
    result.energies.mm += part.energies.mm;
    result.energies.mr += part.energies.mr;
    result.energies.rr += part.energies.rr;
  }
  const double gain = held_gain.value_or(result.energies.gain());
  over_anchors(s, fit,
               [&](Scale& scale, size_t i, const ChannelPair& p, std::span<const double> x, std::span<const double> y) {
                 scale.residual.resize(x.size());
                 take_residual(x, y, p, gain, scale.residual);
                 for (const double e : scale.residual) parts[i].residual += e * e;
               });
  for (const auto& part : parts) result.residual += part.residual;
  return result;
}

/// What most of the loud samples come back at; none where that is as they were. Nothing where most are moved by a
/// filter, or by noise.
std::optional<double> ratio_of_most_samples(const Search& s, const Fit& fit, double widest) {
  constexpr size_t stride = 5;
  std::vector<std::vector<double>> parts(s.anchors.size());
  over_anchors(s, fit,
               [&](Scale&, size_t i, const ChannelPair& p, std::span<const double> x, std::span<const double> y) {
                 double power = 0;
                 for (const double v : x) power += v * v / double(x.size());
                 const double loud = std::sqrt(power), sign = p.inverted ? -1 : 1;
                 for (size_t n = 0; n < x.size(); n += stride)
                   if (std::abs(x[n]) > loud) parts[i].push_back(sign * y[n] / x[n]);
               });
  std::vector<double> all;
  for (const auto& part : parts) all.insert(all.end(), part.begin(), part.end());
  if (const auto as_it_was = held_ratio(all, 1, widest); as_it_was == 1.0) return 1;
  return held_ratio(std::move(all), fit.gain(), widest);
}

/// Where a channel comes later than another, the files' delay is that of the one that moved least, not of the louder.
void take_the_nearest_channel(const Search& s, Fit& fit, const Refined& refined) {
  constexpr double apart_samples = 0.5, alike = 0.8;
  if (s.options.delay_samples || fit.pairs.size() < 2) return;
  const auto later = [](const ChannelPair& a, const ChannelPair& b) { return a.delay_samples < b.delay_samples; };
  const auto [first, last] = std::minmax_element(fit.pairs.begin(), fit.pairs.end(), later);
  if (last->delay_samples - first->delay_samples < apart_samples || refined.least_alike < alike) return;
  fit.delay_samples = std::min_element(fit.pairs.begin(), fit.pairs.end(), [](const auto& a, const auto& b) {
                        return std::abs(a.delay_samples) < std::abs(b.delay_samples);
                      })->delay_samples;
}

/// Coherent, and yet hardly alike: the phase is turned all over the band. What delay and polarity turn of it is chance;
/// the files are laid as they stand.
void leave_phase_alone(const Search& s, Fit& fit, const Refined& refined) {
  constexpr double coherent = 0.97, hardly_alike = 0.5, far_samples = 64;
  constexpr double about_coherent = 0.9, not_alike = 0.1;  // a late turn in the bass is smeared over a block
  const bool hardly = fit.agreement >= coherent && refined.alike <= hardly_alike;
  if (s.options.delay_samples || !(hardly || (fit.agreement >= about_coherent && refined.alike < not_alike))) return;
  const double was = fit.delay_samples;
  fit.delay_samples = std::abs(was) < far_samples ? 0 : std::round(was);
  fit.drift_ppm = 0;
  for (auto& p : fit.pairs) p.inverted = false, p.delay_samples += fit.delay_samples - was;
  set_overlap(fit, s.master.format().frames, s.ret.format().frames);
}

/// Prefers a whole-sample delay and a gain of exactly 0 dB where they explain the return as well.
void polish(const Search& s, Fit& fit, const std::vector<CrossSpectra>& spectra) {
  const int64_t master_frames = s.master.format().frames, return_frames = s.ret.format().frames;
  set_overlap(fit, master_frames, return_frames);
  const double whole_delay = std::round(fit.delay_samples) + 0.0;  // no negative zero
  const double moved = std::abs(fit.delay_samples - whole_delay) +
                       1e-6 * std::abs(fit.drift_ppm) * double(s.anchors.back().at - s.anchors.front().at);
  if (!s.options.delay_samples && moved > 0 && moved < by_a_filter && is_filtered(spectra)) {
    fit.delay_samples = whole_delay, fit.drift_ppm = 0;
    set_overlap(fit, master_frames, return_frames);
  }
  Weighed best = weigh(s, fit, {});
  Fit whole = fit;
  whole.delay_samples = whole_delay, whole.drift_ppm = 0;
  const bool much_left = best.residual > much_left_share * best.energies.mm;
  const double near = much_left ? by_a_filter : fit.drift_ppm == 0 ? whole_sample : whole_sample_with_drift;
  if (!s.options.delay_samples && moved < near) {
    const auto other = weigh(s, whole, {});  // over the same frames
    // what so small a move can do at the most, to white noise: far under what is left, it cannot be known
    const double at_most = std::pow(std::numbers::pi * moved, 2) / 3 * other.energies.mm;
    if (other.residual <= best.residual * (1 + (much_left ? as_good_as_any : as_good)) + 1e-14 * other.energies.mm ||
        at_most < hidden_share * best.residual) {
      fit = whole, best = other;
      set_overlap(fit, master_frames, return_frames);
    }
  }
  fit.gain_db = 20 * std::log10(best.energies.gain());
  const auto held = gain_of_most_cells(spectra, s.master.format().sample_rate_hz);
  if (held && std::abs(held->db - fit.gain_db) > (held->exact ? pulled_db : pulled_far_db))
    fit.gain_db = std::abs(held->db) < (!held->exact           ? about_unity_db
                                        : is_filtered(spectra) ? by_a_filter_db
                                                               : unity_db)
                      ? 0
                      : held->db;
  const bool none = held && held->exact && held->db == 0;  // what lies beside the programme leans on no band
  if (const auto ratio = ratio_of_most_samples(s, fit, none ? 4e-4 : 4e-3))
    fit.gain_db = 20 * std::log10(*ratio);
  else if (none && std::abs(fit.gain_db) < pulled_db)
    fit.gain_db = 0;
  if (s.options.gain_db)
    fit.gain_db = *s.options.gain_db;
  else if (std::abs(fit.gain_db) < unity_db &&
           weigh(s, fit, 1.0).residual <= best.residual * (1 + as_good) + 1e-14 * best.energies.mm)
    fit.gain_db = 0;
  const auto& e = best.energies;
  const double correlation = e.mm > 0 && e.rr > 0 && e.mr > 0 ? e.mr * e.mr / (e.mm * e.rr) : 0;
  fit.agreement = std::max(fit.agreement, correlation);
}

Refined refine(Search& s, Fit& fit) {
  Refined refined;
  auto& spectra = refined.spectra;
  std::vector<double> weights;
  for (int round = 0; round < most_rounds; ++round) {
    s.job.check();
    spectra = cross_spectra(s.anchors, s.master, s.ret, fit.pairs, fit.delay_samples, fit.drift_ppm, s.job);
    weights = snr_weights(spectra);
    const double drift = s.options.drift ? remaining_drift_ppm(s, spectra, fit.pairs, weights, fit.drift_ppm) : 0;
    double delay = phase_delay(signed_sum(spectra, fit.pairs, {}), weights).samples;
    double centre = 0;
    for (const auto& a : s.anchors) centre += double(a.at) / double(s.anchors.size());
    fit.drift_ppm += drift;
    if (!s.options.delay_samples) fit.delay_samples += delay - drift * 1e-6 * centre;
    if ((std::abs(delay) < settled && drift == 0) || (s.options.delay_samples && drift == 0)) break;
  }
  double common = 0, most = 0;
  for (size_t p = 0; p < fit.pairs.size(); ++p) {
    const auto own = phase_delay(spectra[p].cross, snr_weights({spectra[p]}));
    const double mm = std::reduce(spectra[p].master.begin(), spectra[p].master.end()),
                 rr = std::reduce(spectra[p].ret.begin(), spectra[p].ret.end());
    std::complex<double> mr = 0;
    for (size_t k = 0; k < spectra[p].cross.size(); ++k)
      mr += spectra[p].cross[k] *
            std::polar(1.0, 2 * std::numbers::pi * double(k) * own.samples / double(CrossSpectra::size));
    if (!s.return_is_one) fit.pairs[p].inverted = own.inverted;
    fit.pairs[p].delay_samples = fit.delay_samples + own.samples;
    fit.pairs[p].gain_db = mm > 0 && mr != 0.0 ? 20 * std::log10(std::abs(mr.real()) / mm) : 0;
    const double shared = std::max(0.0, own.inverted ? -mr.real() : mr.real());
    common += shared, most += std::sqrt(mm * rr);
    refined.least_alike = std::min(refined.least_alike, mm * rr > 0 ? shared * shared / (mm * rr) : 0);
  }
  if (most > 0) refined.alike = common * common / (most * most);
  // With few independent blocks chance alone looks coherent: then only the correlation counts.
  if (spectra.front().blocks > 16) fit.agreement = band_coherence(spectra, s.master.format().sample_rate_hz);
  return refined;
}

/// Anchors of few lines each are moved apart by a filter's phase, which looks like a little drift: what is the more
/// coherent without it has none.
void refine_without_drift(Search& s, Fit& fit, Refined& refined) {
  constexpr double little_samples = 4, far_samples = 20, much_more = 1.05, coherent_all_over = 0.97;
  const double moved = 1e-6 * std::abs(fit.drift_ppm) * double(s.anchors.back().at - s.anchors.front().at);
  if (s.options.delay_samples || moved == 0 || moved > far_samples) return;
  const auto coherent = [](const std::vector<CrossSpectra>& some) {
    const auto weights = snr_weights(some);
    return std::reduce(weights.begin(), weights.end());
  };
  Fit still = fit;
  still.drift_ppm = 0;
  auto other = refine(s, still);
  if (moved > little_samples && still.agreement < coherent_all_over) return;
  if (coherent(other.spectra) > much_more * coherent(refined.spectra)) fit = still, refined = std::move(other);
}

}  // namespace

Fit find_fit(const Clip& master, const Clip& ret, const FitOptions& options, const Job& job) {
  Search s{master, ret, options, job};
  Fit fit;
  fit.pairs = plain_pairs(master.format().channels, ret.format().channels);
  fit.delay_samples = options.delay_samples.value_or(0);
  fit.gain_db = options.gain_db.value_or(0);
  set_overlap(fit, master.format().frames, ret.format().frames);

  const auto ways = views(master.format().channels, ret.format().channels);
  for (size_t way = 0; way < ways.size(); ++way) {
    if (!locate(s, ways[way])) continue;
    keep_inliers(s);
    Fit found = fit;
    found.others_fit = s.others_fit && !options.delay_samples;
    found.delay_samples = s.line.delay;
    found.drift_ppm = s.line.drift_ppm;
    auto map = find_pairs(master, ret, s.anchors, s.line, job);
    found.pairs = std::move(map.pairs), s.return_is_one = map.return_is_one;
    auto refined = refine(s, found);
    refine_without_drift(s, found, refined);
    job.report(0.9);
    take_the_nearest_channel(s, found, refined);
    leave_phase_alone(s, found, refined);
    polish(s, found, refined.spectra);
    if (found.agreement > fit.agreement) fit = found;
    if (fit.agreement >= least_agreement) break;
  }
  fit.trusted = fit.agreement >= least_agreement && fit.last > fit.first;
  if (fit.agreement < agrees_anyway)
    if (auto side = fit_of_the_side(master, ret, fit, options, Job{job.stop, {}, job.threads})) fit = std::move(*side);
  if (!options.delay_samples && fit.agreement < agrees_anyway)
    if (auto moving = fit_that_moves(master, ret, fit, Job{job.stop, {}, job.threads})) {
      fit = std::move(*moving);
      if (!options.drift) fit.drift_ppm = 0;
    }
  if (options.gain_db) fit.gain_db = *options.gain_db;
  job.report(1);
  return fit;
}

}  // namespace heathmist
