// Steady lines that were added: hum, tones. Found in what is left, not in the return.
#include <algorithm>
#include <array>
#include <cmath>
#include <complex>
#include <numbers>
#include <numeric>
#include <span>

#include "core/compare/causes/estimates.hpp"
#include "core/dsp/fft.hpp"
#include "core/dsp/median.hpp"

namespace heathmist::causes {

namespace {

constexpr double line_over_db = 15;  // above what is around it, in the quieter half of the blocks
constexpr double line_moves_db = 3;  // it stays within that from block to block
constexpr double programme_share = 0.7, keeps_phase = 0.8;
constexpr double of_rounding_share = 1e-5, of_rounding_power = 1e-12;
constexpr size_t most_lines = 24, most_blocks = 80;

struct Line {
  double hz = 0;
  double power = 0;  ///< mean square over pairs
};

/// Steady lines of what is left: bins that stand out and hold still over blocks of about 1.4 s.
std::vector<Line> steady_lines(const Excerpt& e, const Planar& model) {
  size_t size = 4096;
  while (double(size) < 1.3 * e.rate_hz) size *= 2;
  const int64_t longest = e.stretches.front().frames;
  while (size > 4096 && int64_t(size) * (e.whole ? 3 : 1) > longest) size /= 2;
  if (int64_t(size) > longest) return {};
  const size_t bins = size / 2 + 1;
  const auto window = dsp::blackman_harris(size);
  double window_power = 0;
  for (const double w : window) window_power += w * w;
  std::vector<std::vector<float>> blocks;
  dsp::RealFft<double> fft(size);
  std::vector<std::vector<double>> left;
  for (int p = 0; p < e.pairs(); ++p) left.push_back(left_of(e, model, p));
  for (const Stretch& s : e.stretches)
    for (auto at = size_t(s.at); at + size <= size_t(s.at + s.frames) && blocks.size() < most_blocks; at += size / 2) {
      blocks.emplace_back(bins, 0.0f);
      for (const auto& l : left) {
        for (size_t n = 0; n < size; ++n) fft.time()[n] = window[n] * l[at + n];
        fft.forward();
        for (size_t k = 0; k < bins; ++k)
          blocks.back()[k] +=
              float(2 * std::norm(fft.spectrum()[k]) / (window_power * double(size) * double(left.size())));
      }
    }
  if (blocks.size() < 3) return {};
  std::vector<float> low(bins), high(bins), column(blocks.size());
  for (size_t k = 0; k < bins; ++k) {
    for (size_t n = 0; n < blocks.size(); ++n) column[n] = blocks[n][k];
    std::sort(column.begin(), column.end());
    low[k] = column[column.size() / 8], high[k] = column[column.size() * 3 / 4];
  }
  const double bin_hz = double(e.rate_hz) / double(size);
  std::vector<Line> lines;
  for (size_t k = 8; k + 40 < bins; ++k) {
    if (low[k] <= 0 || low[k] < low[k - 1] || low[k] < low[k + 1]) continue;
    std::vector<double> around;
    for (size_t away = 6; away <= 36; ++away) {
      if (k > away) around.push_back(double(high[k - away]));
      around.push_back(double(high[k + away]));
    }
    if (10 * std::log10(double(low[k]) / std::max(1e-22, dsp::median(around))) < line_over_db) continue;
    if (10 * std::log10(double(high[k]) / double(low[k])) > line_moves_db) continue;
    double sum = 0, moment = 0;
    for (size_t n = k - 3; n <= k + 3; ++n) sum += double(low[n]), moment += double(low[n]) * (double(n) - double(k));
    lines.push_back({(double(k) + moment / sum) * bin_hz, sum});
  }
  std::sort(lines.begin(), lines.end(), [](const Line& a, const Line& b) { return a.power > b.power; });
  if (lines.size() > most_lines) lines.resize(most_lines);
  return lines;
}

/// The phasor of each line in each pair and stretch, at the stretch's start.
struct Fitted {
  double hz;
  std::vector<std::vector<std::complex<double>>> phasors;  // [stretch][pair]
  double power() const {                                   // mean over stretches and pairs
    double sum = 0, count = 0;
    for (const auto& stretch : phasors)
      for (const auto& p : stretch) sum += std::norm(p) / 2, count += 1;
    return count > 0 ? sum / count : 0;
  }
};

/// A wave over as many samples as are turned at once: cos and sin of turn k.
struct Turns {
  static constexpr size_t count = 256;
  std::array<double, count> cosine, sine;
  explicit Turns(double turn) {
    const double c = std::cos(turn), s = std::sin(turn);
    cosine[0] = 1, sine[0] = 0;
    for (size_t k = 1; k < count; ++k) {
      cosine[k] = cosine[k - 1] * c - sine[k - 1] * s;
      sine[k] = sine[k - 1] * c + cosine[k - 1] * s;
    }
  }
};

/// The phasor of a line in the frames [from, to), under a Hann window: its sum is half of what there are.
std::complex<double> project(std::span<const double> left, double turn, size_t from, size_t to) {
  constexpr size_t lanes = 8;
  const double hann_turn = 2 * std::numbers::pi / double(to - from);
  const Turns wave(turn), hann(hann_turn);
  std::complex<double> sum = 0;
  std::array<double, Turns::count> x{};
  for (size_t at = from; at < to; at += Turns::count) {
    const size_t count = std::min(to - at, Turns::count);
    const auto begin = std::polar(0.5, hann_turn * (double(at - from) + 0.5));
    const double real = begin.real(), imaginary = begin.imag();
    for (size_t k = 0; k < count; ++k) x[k] = (0.5 - (real * hann.cosine[k] - imaginary * hann.sine[k])) * left[at + k];
    std::fill(x.begin() + count, x.end(), 0.0);
    std::array<double, lanes> across{}, along{};
    for (size_t k = 0; k < Turns::count; k += lanes)
      for (size_t n = 0; n < lanes; ++n)
        along[n] += x[k + n] * wave.cosine[k + n], across[n] -= x[k + n] * wave.sine[k + n];
    sum += std::complex(std::reduce(along.begin(), along.end()), std::reduce(across.begin(), across.end())) *
           std::polar(1.0, -turn * double(at));
  }
  return 4.0 * sum / double(to - from);
}

void add(std::span<double> to, double turn, std::complex<double> phasor) {
  const Turns wave(turn);
  for (size_t at = 0; at < to.size(); at += Turns::count) {
    const size_t count = std::min(to.size() - at, Turns::count);
    const auto begin = phasor * std::polar(1.0, turn * double(at));
    const double real = begin.real(), imaginary = begin.imag();
    for (size_t k = 0; k < count; ++k) to[at + k] += real * wave.cosine[k] - imaginary * wave.sine[k];
  }
}

/// How the phase turns from piece to piece of a stretch, in radians a sample, weighted; pieces that are too long would
/// hide whole turns.
struct Turned {
  std::complex<double> across = 0;
  double hop = 1;
};
Turned turn_between(std::span<const double> left, double turn, size_t pieces) {
  Turned t{0, double(left.size()) / double(pieces)};
  std::complex<double> before = 0;
  for (size_t k = 0; k < pieces; ++k) {
    const auto now = project(left, turn, left.size() * k / pieces, left.size() * (k + 1) / pieces);
    t.across += now * std::conj(before), before = now;
  }
  return t;
}

/// By projection on what is left, one line after the other, several times over; the frequency is made finer by how the
/// phase turns between pieces of a stretch, first short ones, then its halves.
std::vector<Fitted> fit_lines(const Excerpt& e, const Planar& model, const std::vector<Line>& lines) {
  std::vector<std::vector<double>> left;
  for (int p = 0; p < e.pairs(); ++p) left.push_back(left_of(e, model, p));
  std::vector<Fitted> fitted;
  for (const Line& l : lines)
    fitted.push_back({l.hz, {e.stretches.size(), std::vector<std::complex<double>>(left.size(), 0.0)}});
  const auto part = [&](size_t pair, const Stretch& s) {
    return std::span(left[pair]).subspan(size_t(s.at), size_t(s.frames));
  };
  const auto rounds = lines.size() > 4 ? std::vector<size_t>{8, 2, 2} : std::vector<size_t>{16, 6, 2, 2};
  for (const size_t pieces : rounds)
    for (Fitted& f : fitted) {
      const double was = 2 * std::numbers::pi * f.hz / e.rate_hz;
      double off = 0, weight = 0;
      for (size_t n = 0; n < e.stretches.size(); ++n)
        for (size_t p = 0; p < left.size(); ++p) {
          const auto l = part(p, e.stretches[n]);
          add(l, was, f.phasors[n][p]);
          const Turned t = turn_between(l, was, pieces);
          off += std::abs(t.across) * std::arg(t.across) / t.hop, weight += std::abs(t.across);
        }
      if (weight > 0) f.hz += off / weight * e.rate_hz / (2 * std::numbers::pi);
      const double turn = 2 * std::numbers::pi * f.hz / e.rate_hz;
      for (size_t n = 0; n < e.stretches.size(); ++n)
        for (size_t p = 0; p < left.size(); ++p) {
          const auto l = part(p, e.stretches[n]);
          f.phasors[n][p] = project(l, turn, 0, l.size());
          add(l, turn, -f.phasors[n][p]);
        }
    }
  return fitted;
}

/// The programme holds a line there itself, no weaker, and what is left keeps its phase to it from piece to piece:
/// something was done to that line, nothing was added.
bool is_of_the_programme(const Excerpt& e, const Planar& model, const Fitted& f) {
  constexpr double piece_s = 0.23;  // shorter than the beats of a loop, in which whatever is steady keeps time with all
  const double turn = 2 * std::numbers::pi * f.hz / e.rate_hz;
  std::complex<double> across = 0;
  double own = 0, added = 0;
  for (size_t n = 0; n < e.stretches.size(); ++n)
    for (int p = 0; p < e.pairs(); ++p) {
      const Stretch& s = e.stretches[n];
      const auto part = model.channel(p).subspan(size_t(s.at), size_t(s.frames));
      const auto pieces = std::max<size_t>(12, size_t(double(s.frames) / e.rate_hz / piece_s));
      for (size_t k = 0; k < pieces; ++k) {
        const auto line = project(part, turn, part.size() * k / pieces, part.size() * (k + 1) / pieces);
        across += std::conj(line) * f.phasors[n][size_t(p)], own += std::norm(line);
        added += std::norm(f.phasors[n][size_t(p)]);
      }
    }
  return own > programme_share * added && std::norm(across) > keeps_phase * own * added;
}

/// 50 or 60 where most of the lines' power is of that family.
std::optional<double> mains_of(const std::vector<Fitted>& lines) {
  for (const double mains : {50.0, 60.0}) {
    double inside = 0, all = 0;
    int first = 0;
    for (const Fitted& l : lines) {
      const double power = l.power();
      const double order = std::round(l.hz / mains);
      all += power;
      if (order >= 1 && order <= 40 && std::abs(l.hz - order * mains) < 0.004 * l.hz + 0.3)
        inside += power, first += order <= 3;
    }
    if (inside > 0.8 * all && first > 0) return mains;
  }
  return {};
}

}  // namespace

std::optional<Found> estimate_lines(const Excerpt& e, const Planar& model) {
  const auto lines = steady_lines(e, model);
  if (lines.empty()) return {};
  auto fitted = fit_lines(e, model, lines);
  std::erase_if(fitted, [&](const Fitted& f) { return is_of_the_programme(e, model, f); });
  if (fitted.empty()) return {};
  double strongest = 0;
  for (const Fitted& f : fitted) strongest = std::max(strongest, f.power());
  std::erase_if(fitted, [&](const Fitted& f) {  // what rounding a tone makes of it: lines too
    return f.power() < of_rounding_share * strongest && f.power() < of_rounding_power;
  });
  const auto mains = mains_of(fitted);
  double power = 0;
  Json all = Json::array();
  for (const Fitted& f : fitted) {
    const double own = f.power();
    power += own;
    all.push_back({{"hz", f.hz}, {"level_dbfs", 10 * std::log10(std::max(1e-20, own))}});
  }
  Cause c{.code = mains ? "hum" : "tone"};
  for (int p = 0; p < e.pairs(); ++p) c.channels.push_back(p);
  c.values = {{"hz", mains ? *mains : fitted.front().hz},
              {"level_dbfs", 10 * std::log10(std::max(1e-20, power))},
              {"lines", all}};
  return Found{c, [fitted, stretches = e.stretches, rate = e.rate_hz](const Places& where, Planar& m) {
                 for (size_t n = 0; n < stretches.size(); ++n) {
                   const int64_t from = stretches[n].first - where.start;
                   where.each_of(from, from + stretches[n].frames, [&](int64_t at, int64_t time, int64_t frames) {
                     for (const Fitted& f : fitted) {
                       const double turn = 2 * std::numbers::pi * f.hz / rate;
                       for (int p = 0; p < m.channels(); ++p)
                         add(m.channel(p).subspan(size_t(at), size_t(frames)), turn,
                             f.phasors[n][size_t(p)] * std::polar(1.0, turn * double(time - from)));
                     }
                   });
                 }
               }};
}

}  // namespace heathmist::causes
