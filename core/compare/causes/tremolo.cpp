// A gain that goes up and down at one rate: a tremolo; of one channel alone, or of one against the other, as an
// auto-pan does it. The rate is where a sine explains most of how the gain moves (a periodogram by least squares: Lomb,
// Astrophysics and Space Science 39, 1976); one turn of it is the return folded.
#include <Eigen/Cholesky>
#include <algorithm>
#include <cmath>
#include <complex>
#include <functional>
#include <numbers>

#include "core/compare/causes/estimates.hpp"
#include "core/compare/causes/gain_curve.hpp"
#include "core/dsp/fft.hpp"

namespace heathmist::causes {

namespace {

using std::numbers::pi;
using Turn = std::vector<double>;  // gains, at so many places of a turn

constexpr double fastest_hz = 25;
struct Least {
  double hz, turns;  // so many of them there must be
  double share;      // of how the gain moves, that its turn must explain,
};
constexpr Least of_all{0.4, 6, 0.3}, of_one{0.15, 4, 0.7};
constexpr double first_share = 0.3;     // ... and one sine of it
constexpr double most_of_level = 0.25;  // of how the programme's level moves, that the same turn may explain
constexpr double least_turn_db = 0.1;   // from its least to its most
constexpr double together_db = 0.05;    // channels whose turns lie no farther apart move as one
constexpr double opposite = -0.5;       // correlation
constexpr size_t turn_places = 96;
constexpr double oversampled = 4;
constexpr double most_pieces = 1 << 16;  // of the gain, from the first on: some eleven minutes tell a rate

/// A gain over time: what moves it is z = model return - usual gain model^2, against w = model^2.
struct Moves {
  std::vector<double> at, z, w, level;  // times in frames; level: log of the model's power
  double all = 0;                       // of the movement
};

Moves moves_of(const GainCurve& c) {
  Moves m;
  double mm = 0, mr = 0;
  for (size_t n = 0; n < c.pieces.size(); ++n)
    if (c.tells(n)) mm += c.pieces[n].mm, mr += c.pieces[n].mr;
  if (!(mm > 0)) return m;
  for (size_t n = 0; n < c.pieces.size(); ++n) {
    if (!c.tells(n)) continue;
    const GainPiece& p = c.pieces[n];
    if (!m.at.empty() && c.middle[n] - m.at.front() > most_pieces * double(c.piece)) break;
    m.at.push_back(c.middle[n]), m.w.push_back(p.mm), m.z.push_back(p.mr - mr / mm * p.mm);
    m.level.push_back(std::log(p.mm));
    m.all += m.z.back() * m.z.back() / p.mm;
  }
  return m;
}

/// What a sine explains of z against w, by its sums at once and at twice the rate.
double explained_by(std::complex<double> z, double w, std::complex<double> w_twice) {
  const double cc = 0.5 * (w + w_twice.real()), ss = 0.5 * (w - w_twice.real()), cs = 0.5 * w_twice.imag();
  const double det = cc * ss - cs * cs;
  if (!(det > 1e-6 * w * w)) return 0;
  return (ss * z.real() * z.real() - 2 * cs * z.real() * z.imag() + cc * z.imag() * z.imag()) / det;
}

/// What a constant and three harmonics explain of the gain, by weighted least squares.
double explained_at(const Moves& m, double turns_a_frame) {
  using Terms = Eigen::Matrix<double, 7, 1>;
  Eigen::Matrix<double, 7, 7> squares = Eigen::Matrix<double, 7, 7>::Zero();
  Terms right = Terms::Zero();
  for (size_t n = 0; n < m.at.size(); ++n) {
    const auto turned = std::polar(1.0, 2 * pi * turns_a_frame * m.at[n]);
    Terms terms;
    terms[0] = 1;
    std::complex<double> harmonic = 1;
    for (int k = 1; k < 7; k += 2) harmonic *= turned, terms[k] = harmonic.real(), terms[k + 1] = harmonic.imag();
    squares.selfadjointView<Eigen::Lower>().rankUpdate(terms, m.w[n]);
    right += m.z[n] * terms;
  }
  return right.dot(squares.selfadjointView<Eigen::Lower>().ldlt().solve(right));
}

struct Rate {
  double turns_a_frame = 0;  // 0: none
  double share = 0;          // of how the gain moves, that it explains
};

Rate rate_of(const Moves& m, double piece, int rate_hz, Least least) {
  const double length = m.at.back() - m.at.front(), first = m.at.front();
  dsp::RealFft<double> z(dsp::good_fft_size(size_t(oversampled * (length / piece + 1)))), w(z.size());
  std::fill(z.time().begin(), z.time().end(), 0.0), std::fill(w.time().begin(), w.time().end(), 0.0);
  double all = 0;
  for (size_t n = 0; n < m.at.size(); ++n) {
    const auto place = size_t(std::lround((m.at[n] - first) / piece));
    z.time()[place] += m.z[n], w.time()[place] += m.w[n], all += m.w[n];
  }
  z.forward(), w.forward();
  const double step = 1 / (double(z.size()) * piece);  // turns a frame
  const double slowest = std::max(least.hz / rate_hz, least.turns / length);
  double most = 0;
  size_t best = 0;
  for (size_t k = size_t(slowest / step) + 1; 2 * k < z.bins() && double(k) * step * rate_hz < fastest_hz; ++k)
    if (const double e = explained_by(std::conj(z.spectrum()[k]), all, std::conj(w.spectrum()[2 * k])); e > most)
      most = e, best = k;
  if (most < first_share * m.all) return {};
  double at = double(best) * step, half = step / 4;
  double explained = 0;
  for (int n = -8; n <= 8; ++n)  // few loud notes make several hills
    if (const double there = (double(best) + n / 4.0) * step; there > 0)
      if (const double e = explained_at(m, there); e > explained) explained = e, at = there;
  for (int n = 0; n < 20; ++n, half *= 0.6) {
    const double low = explained_at(m, at - half), here = explained_at(m, at), high = explained_at(m, at + half);
    if (low > here && low >= high)
      at -= half;
    else if (high > here)
      at += half;
  }
  const double share = explained_at(m, at) / m.all;
  return share < least.share ? Rate{} : Rate{at, share};
}

double place_in_turn(double time, double turns_a_frame) {
  const double turns = time * turns_a_frame;
  return (turns - std::floor(turns)) * double(turn_places);
}

/// The level without what it does from one turn to the next, as a fade does: from the mean of a turn around each piece.
std::vector<double> within_turns(const Moves& m, double turns_a_frame) {
  std::vector<double> within(m.level.size());
  double sum = 0;
  size_t from = 0, to = 0;
  for (size_t n = 0; n < m.level.size(); ++n) {
    const auto is_apart = [&](size_t k) { return std::abs(m.at[k] - m.at[n]) * turns_a_frame > 0.5; };
    while (to < m.level.size() && (to <= n || !is_apart(to))) sum += m.level[to++];
    while (is_apart(from)) sum -= m.level[from++];
    within[n] = m.level[n] - sum / double(to - from);
  }
  return within;
}

/// A programme that beats at that rate by itself says nothing: what made its gain move may have followed its level.
bool is_the_programmes(const Moves& m, double turns_a_frame) {
  std::vector<double> sums(turn_places / 4, 0), counts(turn_places / 4, 0);
  double all = 0, between = 0;
  const auto level = within_turns(m, turns_a_frame);
  for (size_t n = 0; n < m.at.size(); ++n) {
    const auto k = size_t(place_in_turn(m.at[n], turns_a_frame) / 4);
    sums[k] += level[n], counts[k] += 1, all += level[n] * level[n];
  }
  for (size_t k = 0; k < sums.size(); ++k)
    if (counts[k] > 0) between += sums[k] * sums[k] / counts[k];
  return between > most_of_level * all;
}

double gain_in(const Turn& turn, double place) {
  const auto k = size_t(place) % turn_places;
  return turn[k] + (place - std::floor(place)) * (turn[(k + 1) % turn_places] - turn[k]);
}

double range_db(const Turn& turn) {
  const auto [least, most] = std::minmax_element(turn.begin(), turn.end());
  return *least > 1e-3 ? 20 * std::log10(*most / *least) : 0;
}

/// The excerpt folded into one turn, in the pairs [first, last): a gain at each of its places by least squares. All of
/// it: even pieces may hold always the same half of a turn, and few numbers of so many samples fit no chance.
Turn folded(const Excerpt& e, const Planar& model, double turns_a_frame, int first, int last) {
  Turn mm(turn_places, 0), mr(turn_places, 0), turn(turn_places, 1);
  for (const Stretch& s : e.stretches)
    for (int64_t n = 0; n < s.frames; ++n) {
      const int64_t at = s.at + n;
      if (!e.told[size_t(at)]) continue;
      const double place = place_in_turn(double(s.first - e.start + n), turns_a_frame);
      const auto k = size_t(std::lround(place)) % turn_places;
      for (int p = first; p < last; ++p) {
        const double x = model.channel(p)[size_t(at)];
        mm[k] += x * x, mr[k] += x * e.ret.channel(p)[size_t(at)];
      }
    }
  for (size_t k = 0; k < turn_places; ++k)
    if (mm[k] > 0) turn[k] = mr[k] / mm[k];
  return turn;
}

double correlation(const Turn& a, const Turn& b) {
  double sa = 0, sb = 0, saa = 0, sbb = 0, sab = 0;
  for (size_t k = 0; k < turn_places; ++k)
    sa += a[k], sb += b[k], saa += a[k] * a[k], sbb += b[k] * b[k], sab += a[k] * b[k];
  constexpr double n = turn_places;
  const double var = (saa - sa * sa / n) * (sbb - sb * sb / n);
  return var > 0 ? (sab - sa * sb / n) / std::sqrt(var) : 0;
}

/// Of one curve. `anyhow`: what is certain of a gain that keeps to no beat of the programme.
Rate rate_in(const Excerpt& e, const GainCurve& c, Least least, const std::function<bool(double rate)>& anyhow = {}) {
  const Moves m = moves_of(c);
  if (m.at.size() < 40 || !(m.all > 0)) return {};
  const Rate rate = rate_of(m, double(c.piece), e.rate_hz, least);
  if (rate.turns_a_frame <= 0) return {};
  return (anyhow && anyhow(rate.turns_a_frame)) || !is_the_programmes(m, rate.turns_a_frame) ? rate : Rate{};
}

/// Turns a frame at which all move together, or a channel by itself: the one that explains most of how they do.
double rate_of(const Excerpt& e, const Model& model) {
  const auto own = model.gain_courses(e);
  Rate best = rate_in(e, has_course_of_all(e, model) ? gain_course(e, model) : together(own), of_all);
  const auto goes_to_and_fro = [&](double rate) {  // no programme does that
    return e.pairs() == 2 && correlation(folded(e, model, rate, 0, 1), folded(e, model, rate, 1, 2)) < opposite;
  };
  for (size_t p = 0; p < own.size() && own.size() > 1; ++p)
    if (const Rate alone = rate_in(e, own[p], of_one, goes_to_and_fro); alone.share > best.share) best = alone;
  return best.turns_a_frame;
}

/// One turn of each channel; of all one and the same, where they move as one.
std::vector<Turn> turns_of(const Excerpt& e, const Planar& model, double turns_a_frame) {
  std::vector<Turn> turns;
  for (int p = 0; p < e.pairs(); ++p) turns.push_back(folded(e, model, turns_a_frame, p, p + 1));
  for (const Turn& turn : turns)
    for (size_t k = 0; k < turn_places; ++k)
      if (std::abs(20 * std::log10(std::max(1e-3, turn[k]) / std::max(1e-3, turns.front()[k]))) > together_db)
        return turns;
  return std::vector<Turn>(turns.size(), folded(e, model, turns_a_frame, 0, e.pairs()));
}

}  // namespace

std::optional<Found> estimate_tremolo(const Excerpt& e, const Model& model) {
  const double turns_a_frame = rate_of(e, model);
  if (turns_a_frame <= 0) return {};
  const std::vector<Turn> turns = turns_of(e, model, turns_a_frame);
  const Turn& most = *std::max_element(turns.begin(), turns.end(),
                                       [](const Turn& a, const Turn& b) { return range_db(a) < range_db(b); });
  const double range = range_db(most);
  if (range < least_turn_db) return {};
  Cause cause{.code = "gain_ride"};
  cause.values = {{"range_db", range},
                  {"most_db", 20 * std::log10(*std::max_element(most.begin(), most.end()))},
                  {"least_db", 20 * std::log10(*std::min_element(most.begin(), most.end()))},
                  {"rate_hz", turns_a_frame * e.rate_hz}};
  for (size_t p = 0; p < turns.size(); ++p)
    if (range_db(turns[p]) >= least_turn_db) cause.channels.push_back(int(p));
  cause.values["in_all"] = cause.channels.size() == turns.size();
  if (turns.size() == 2 && cause.channels.size() == 2 && correlation(turns[0], turns[1]) < opposite)
    cause.values["opposite"] = true;
  return Found{cause, [turns, turns_a_frame](const Places& where, Planar& to) {
                 for (const Stretch& s : where.stretches)
                   for (int64_t n = 0; n < s.frames; ++n) {
                     const double place = place_in_turn(double(s.first - where.start + n), turns_a_frame);
                     for (size_t p = 0; p < turns.size(); ++p)
                       to.channel(int(p))[size_t(s.at + n)] *= gain_in(turns[p], place);
                   }
               }};
}

}  // namespace heathmist::causes
