#include "core/delivery/pairing.hpp"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>
#include <span>
#include <tuple>

#include "core/audio/scratch.hpp"
#include "core/compare/fit.hpp"
#include "core/dsp/simd.hpp"

namespace heathmist {

namespace {

constexpr size_t most_candidates = 8;  // masters that are looked at for a return
constexpr int least_votes = 2;
constexpr double most_print_errors = 0.33;  // of the bits, in what is the same recording
constexpr int64_t least_words = 64;         // that are compared, 1.5 s
constexpr double sure_agreement = 0.85;     // of the bits alone
constexpr double likely_agreement = 0.55;   // where the samples tell nothing
constexpr double same_s = 0.0001, alike_s = 0.001, usual_drift = 1e-4, most_drift = 1e-3;
constexpr double as_alike = 0.06;  // of the agreement: nobody can tell which

struct Place {
  uint32_t word, file;
  int32_t at;
};

/// Where every word of the masters is, by some of its bits.
struct Index {
  Index(const std::vector<AcousticPrint>& prints, uint32_t bits, size_t most) : mask(bits), too_common(most) {
    for (size_t f = 0; f < prints.size(); ++f)
      for (size_t n = 0; n < prints[f].words.size(); ++n)
        if (prints[f].words[n] != 0) places.push_back({prints[f].words[n] & mask, uint32_t(f), int32_t(n)});
    std::sort(places.begin(), places.end(), [](const Place& a, const Place& b) {
      return std::tie(a.word, a.file, a.at) < std::tie(b.word, b.file, b.at);
    });
  }
  std::span<const Place> of(uint32_t word) const {
    const auto [low, high] = std::equal_range(places.begin(), places.end(), Place{word & mask, 0, 0},
                                              [](const Place& a, const Place& b) { return a.word < b.word; });
    return size_t(high - low) > too_common ? std::span<const Place>() : std::span<const Place>(low, high);
  }
  uint32_t mask;
  size_t too_common;  ///< places of a word that tells nothing any more
  std::vector<Place> places;
};

struct Candidate {
  uint32_t master;
  int64_t lag;  // words by which the return is late
  int64_t votes;
};

/// Masters and lags that many words speak for, those of most votes first; a master may come with two lags.
std::vector<Candidate> candidates_of(const AcousticPrint& ret, const std::vector<Index>& indices) {
  std::vector<uint64_t> votes;  // master and lag, once for each word that speaks for them
  const auto key_of = [](uint32_t master, int64_t lag) { return uint64_t(master) << 32 | uint32_t(lag + (1 << 30)); };
  for (size_t n = 0; n < ret.words.size(); ++n)
    if (ret.words[n] != 0)
      for (const Index& index : indices)
        for (const Place& p : index.of(ret.words[n])) votes.push_back(key_of(p.file, int64_t(n) - p.at));
  std::sort(votes.begin(), votes.end());
  const auto count = [&](uint64_t key) {
    const auto [low, high] = std::equal_range(votes.begin(), votes.end(), key);
    return int64_t(high - low);
  };
  std::vector<Candidate> all;
  for (size_t n = 0; n < votes.size();) {
    const uint64_t key = votes[n];
    const int64_t own = count(key), with = own + count(key - 1) + count(key + 1);  // a delay lies between two
    n += size_t(own);
    if (with >= least_votes) all.push_back({uint32_t(key >> 32), int64_t(uint32_t(key)) - (1 << 30), with});
  }
  std::sort(all.begin(), all.end(), [](const Candidate& a, const Candidate& b) {
    return std::tie(b.votes, a.master, a.lag) < std::tie(a.votes, b.master, b.lag);
  });
  std::vector<Candidate> best;
  std::map<uint32_t, int> of_master;
  for (const Candidate& c : all) {
    if (best.size() == 2 * most_candidates) break;
    if (++of_master[c.master] <= 2 && of_master.size() <= most_candidates) best.push_back(c);
  }
  return best;
}

std::optional<Pairing::Pair> best_pair(size_t ret, const std::vector<AcousticPrint>& masters,
                                       const AcousticPrint& print, const std::vector<Index>& indices) {
  std::vector<Pairing::Pair> found;
  for (const Candidate& c : candidates_of(print, indices)) {
    const auto d = distance(masters[c.master], print, c.lag);
    if (d.words < least_words || d.errors > most_print_errors) continue;
    found.push_back({c.master,
                     ret,
                     1 - 2 * d.errors,
                     double(c.lag) * AcousticPrint::hop_s,
                     double(d.words) * AcousticPrint::hop_s,
                     {}});
  }
  // what both have of it counts, too: a jingle is in many programmes
  const auto weight = [](const Pairing::Pair& p) { return p.agreement * std::sqrt(p.overlap_s); };
  const auto best =
      std::max_element(found.begin(), found.end(), [&](const auto& a, const auto& b) { return weight(a) < weight(b); });
  if (best == found.end()) return {};
  Pairing::Pair pair = *best;
  for (const auto& other : found)
    if (other.master != pair.master && other.agreement > pair.agreement - as_alike &&
        weight(other) > 0.9 * weight(pair))
      pair.as_well = other.master;
  return pair;
}

// ---- the delay itself ----------------------------------------------------------------------------------------------
constexpr double stretch_s = 5, slack_s = 0.15;

Planar stretch_of(const Clip& clip, double from_s, double length_s) {
  Planar sound;
  const double rate = clip.format().sample_rate_hz;
  clip.reader()->read(std::llround(from_s * rate), std::llround(length_s * rate), sound);
  return sound;
}

/// The delay in a stretch of the master that begins at so many seconds, in samples of the master.
std::optional<double> delay_at(const Clip& master, const Clip& ret, double at_s, double length_s, double about_s,
                               const Job& job) {
  const double rate = master.format().sample_rate_hz, from = at_s + about_s - slack_s;
  const auto m = made_clip(stretch_of(master, at_s, length_s), int(rate), "master");
  auto r = made_clip(stretch_of(ret, from, length_s + 2 * slack_s), ret.format().sample_rate_hz, "return");
  if (r->format().sample_rate_hz != int(rate)) r = Clip::at_rate(r, int(rate), job);
  const Fit fit = find_fit(*m, *r, {}, job);  // which reads the delay at the stretch's first frame
  // At the edge of what was given to it, or at a speed that no machine is off by, it is no fit: the sound was too soft.
  const bool is_one = fit.trusted && !fit.others_fit && std::abs(fit.drift_ppm) < most_drift * 1e6 &&
                      std::abs(fit.delay_samples / rate - slack_s) < 0.8 * slack_s;
  if (!is_one) return {};
  const double began = double(std::llround(from * ret.format().sample_rate_hz)) / ret.format().sample_rate_hz,
               master_began = double(std::llround(at_s * rate)) / rate;
  return fit.delay_samples + (began - master_began) * rate;
}

/// The delay at the master's first frame, from those at two places: a drift is taken out, as far as it is any.
double at_first_frame(double early, double early_s, double late, double late_s) {
  const double slope = (late - early) / (late_s - early_s);
  return std::abs(late - early) < 0.05 ? early : early - slope * early_s;
}

/// Where the loudest of five stretches begins, of those that begin within `span_s` of a place: silence tells nothing.
double loudest_from(const Clip& clip, double from_s, double span_s, double length_s) {
  double loudest = -1, at_s = from_s;
  for (int n = 0; n < 5; ++n) {
    const double at = from_s + span_s * n / 4;
    double power = 0;
    const Planar sound = stretch_of(clip, at, length_s);
    for (int c = 0; c < sound.channels(); ++c) power += dsp::simd::mean_square(sound.channel(c));
    if (power > loudest) loudest = power, at_s = at;
  }
  return at_s;
}

/// How late a stretch is.
struct LateAt {
  double at_s, samples;
};

/// Two stretches tell of one delay: within a millisecond, and what the clocks of two devices drift apart.
bool agree(const LateAt& a, const LateAt& b, double rate) {
  return std::abs(a.samples - b.samples) < (alike_s + usual_drift * std::abs(b.at_s - a.at_s)) * rate;
}

/// Three delays lie on a line that is no steeper than two machines run apart.
bool on_a_line(const std::vector<LateAt>& late, double rate) {
  const double slope = (late[2].samples - late[0].samples) / (late[2].at_s - late[0].at_s),  // samples a second
      bend = late[1].samples - late[0].samples - slope * (late[1].at_s - late[0].at_s);
  return std::abs(slope) < most_drift * rate && std::abs(bend) < alike_s * rate;
}

/// The two stretches that tell of one delay: the outer of three on a line, two that agree; of three with one that was
/// read where next to nothing sounds, two that are the same to a few samples, as those of two takes never are by
/// chance.
std::optional<std::pair<LateAt, LateAt>> of_one_delay(const std::vector<LateAt>& late, double rate) {
  if (late.size() == 2 && agree(late[0], late[1], rate)) return std::pair{late[0], late[1]};
  if (late.size() < 3) return {};
  if (on_a_line(late, rate)) return std::pair{late[0], late[2]};
  for (const auto& [a, b] : {std::pair{0, 1}, {0, 2}, {1, 2}})
    if (std::abs(late[size_t(a)].samples - late[size_t(b)].samples) < same_s * rate)
      return std::pair{late[size_t(a)], late[size_t(b)]};
  return {};
}

/// Whether a pair by its bits is one by its samples, and how late the return is then, in samples of the master: where
/// stretches fit, their delays must lie on a line. Two takes of the same notes fit here and there, each time at another
/// delay. Where too little fits to tell, as much noise or few notes have it, the bits decide.
struct SecondLook {
  bool is_same = false;
  std::optional<double> delay_samples;
};
SecondLook look_again(const Clip& master, const Clip& ret, const Pairing::Pair& pair) {
  const double rate = master.format().sample_rate_hz, first = std::max(0.0, -pair.delay_s),
               last = std::min(master.format().duration_s(), ret.format().duration_s() - pair.delay_s);
  // of a short file they overlap: half of it is seldom silent
  const double length = std::min(stretch_s, (last - first) / 2), span = last - first - length;
  if (length < 1) return {true, {}};  // too little to tell by
  std::vector<LateAt> late;
  for (const double part : {0.0, 0.4, 0.8}) {
    const double at_s = loudest_from(master, first + part * span, 0.2 * span, length);
    if (const auto delay = delay_at(master, ret, at_s, length, pair.delay_s, {})) late.push_back({at_s, *delay});
  }
  if (late.size() < 2) {
    return {pair.agreement >= likely_agreement, late.empty() ? std::nullopt : std::optional(late[0].samples)};
  }
  const auto two = of_one_delay(late, rate);
  if (!two) return {};
  return {true, at_first_frame(two->first.samples, two->first.at_s, two->second.samples, two->second.at_s)};
}

}  // namespace

Pairing pair_by_sound(const std::vector<AcousticPrint>& masters, const std::vector<AcousticPrint>& returns,
                      const Job& job) {
  // by whole words first; what has no pair then, as only a coder or much noise leaves it, by halves of them
  const std::vector<Index> whole{{masters, 0xffffffff, 64}},
      halves{{masters, 0xffff, 1000}, {masters, 0xffff0000, 1000}};
  std::vector<std::optional<Pairing::Pair>> found(returns.size());
  for_each_segment(
      std::ssize(returns), job, [] { return 0; },
      [&](int, int64_t n) {
        auto& pair = found[size_t(n)];
        pair = best_pair(size_t(n), masters, returns[size_t(n)], whole);
        if (!pair) pair = best_pair(size_t(n), masters, returns[size_t(n)], halves);
      });
  Pairing p;
  std::vector<char> taken(masters.size(), 0);
  for (size_t n = 0; n < returns.size(); ++n) {
    if (found[n]) {
      p.pairs.push_back(*found[n]);
      taken[found[n]->master] = 1;
    } else {
      p.returns_left.push_back(n);
    }
  }
  for (size_t n = 0; n < masters.size(); ++n)
    if (!taken[n]) p.masters_left.push_back(n);
  return p;
}

std::optional<double> exact_delay_samples(std::shared_ptr<const Clip> master, std::shared_ptr<const Clip> ret,
                                          double about_s, const Job& job) {
  const double first = std::max(0.0, -about_s),
               last = std::min(master->format().duration_s(), ret->format().duration_s() - about_s);
  const double length = std::min(stretch_s, last - first);
  if (length < 1) return {};
  const double early = first + 0.1 * (last - first - length), late = first + 0.9 * (last - first - length);
  const auto at_early = delay_at(*master, *ret, early, length, about_s, job.part(0, 0.5));
  const auto at_late =
      late - early > 5 ? delay_at(*master, *ret, late, length, about_s, job.part(0.5, 1)) : std::nullopt;
  if (!at_early || !at_late) return at_early ? at_early : at_late;
  return at_first_frame(*at_early, early, *at_late, late);
}

void leave_other_takes(Pairing& pairing, const std::vector<std::filesystem::path>& masters,
                       const std::vector<std::filesystem::path>& returns, const Job& job) {
  std::vector<char> is_other(pairing.pairs.size(), 0);
  for_each_segment(
      std::ssize(pairing.pairs), job, [] { return 0; },
      [&](int, int64_t n) {
        auto& p = pairing.pairs[size_t(n)];
        if (p.agreement >= sure_agreement) return;
        try {
          const auto look = look_again(*Clip::open(masters[p.master]), *Clip::open(returns[p.ret]), p);
          is_other[size_t(n)] = !look.is_same;
          p.delay_samples = look.delay_samples;
        } catch (const InputError&) {  // gone meanwhile: the bits are all there is
        }
      });
  std::vector<Pairing::Pair> kept;
  std::set<size_t> paired, left(pairing.masters_left.begin(), pairing.masters_left.end());
  for (size_t n = 0; n < is_other.size(); ++n) {
    const auto& p = pairing.pairs[n];
    is_other[n] ? pairing.returns_left.push_back(p.ret) : kept.push_back(p);
    (is_other[n] ? left : paired).insert(p.master);
  }
  for (const size_t master : paired) left.erase(master);
  pairing.masters_left.assign(left.begin(), left.end());
  pairing.pairs = std::move(kept);
  std::ranges::sort(pairing.returns_left);
}

}  // namespace heathmist
