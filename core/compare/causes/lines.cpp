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
constexpr int64_t least_blocks = 3;

struct Line {
  double hz = 0;
  double power = 0;  ///< mean square over pairs
};

/// The parts of each stretch in which something is left, half a second and more: what was added may set in, or end. All
/// of a stretch where that is next to all.
std::vector<Stretch> parts_with_something(const Excerpt& e, const std::vector<std::vector<double>>& left) {
  constexpr double next_to_nothing = 1e-6;  // of the power of the piece that holds most
  constexpr double longest_gap_s = 0.2, least_s = 0.5, next_to_all = 0.98;
  const int64_t piece = e.rate_hz / 50;
  std::vector<double> powers;  // of the pieces of one stretch after the other
  for (const Stretch& s : e.stretches)
    for (int64_t at = s.at; at < s.at + s.frames; at += piece) {
      double sum = 0;
      for (const auto& l : left)
        for (auto n = size_t(at); n < size_t(std::min(s.at + s.frames, at + piece)); ++n) sum += l[n] * l[n];
      powers.push_back(sum);
    }
  const double least = next_to_nothing * *std::max_element(powers.begin(), powers.end());
  std::vector<Stretch> parts;
  auto power = powers.begin();
  for (const Stretch& s : e.stretches) {
    std::vector<Stretch> own;
    int64_t held = 0;
    for (int64_t at = s.at; at < s.at + s.frames; at += piece) {
      if (*power++ <= least) continue;
      const int64_t frames = std::min(piece, s.at + s.frames - at);
      held += frames;
      if (own.empty() || double(at - own.back().at - own.back().frames) > longest_gap_s * e.rate_hz)
        own.push_back({s.first + at - s.at, at, frames});
      else
        own.back().frames = at + frames - own.back().at;
    }
    std::erase_if(own, [&](const Stretch& part) { return double(part.frames) < least_s * e.rate_hz; });
    if (double(held) > next_to_all * double(s.frames)) own = {s};
    parts.insert(parts.end(), own.begin(), own.end());
  }
  return parts;
}

/// Steady lines of what is left: bins that stand out and hold still over blocks of about 1.4 s.
std::vector<Line> steady_lines(const Excerpt& e, const std::vector<std::vector<double>>& left,
                               const std::vector<Stretch>& parts) {
  size_t size = 4096;
  while (double(size) < 1.3 * e.rate_hz) size *= 2;
  int64_t longest = 0;
  for (const Stretch& s : parts) longest = std::max(longest, s.frames);
  const auto count = [&] {
    int64_t blocks = 0;
    for (const Stretch& s : parts) blocks += std::max<int64_t>(0, 2 * s.frames / int64_t(size) - 1);
    return blocks;
  };
  while (size > 4096 && (int64_t(size) * (e.whole ? 3 : 1) > longest || count() < least_blocks)) size /= 2;
  if (int64_t(size) > longest) return {};
  const size_t bins = size / 2 + 1;
  const auto window = dsp::blackman_harris(size);
  double window_power = 0;
  for (const double w : window) window_power += w * w;
  std::vector<std::vector<float>> blocks;
  dsp::RealFft<double> fft(size);
  for (const Stretch& s : parts)
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
  if (std::ssize(blocks) < least_blocks) return {};
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

/// The phasor of each line in each pair and part, at the part's start.
struct FittedLine {
  double hz;
  std::vector<std::vector<std::complex<double>>> phasors;  // [part][pair]
  double power() const {                                   // mean over parts and pairs
    double sum = 0, count = 0;
    for (const auto& part : phasors)
      for (const auto& p : part) sum += std::norm(p) / 2, count += 1;
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
std::vector<FittedLine> fit_lines(const Excerpt& e, std::vector<std::vector<double>> left,
                                  const std::vector<Stretch>& parts, const std::vector<Line>& lines) {
  std::vector<FittedLine> fitted;
  for (const Line& l : lines)
    fitted.push_back({l.hz, {parts.size(), std::vector<std::complex<double>>(left.size(), 0.0)}});
  const auto part = [&](size_t pair, const Stretch& s) {
    return std::span(left[pair]).subspan(size_t(s.at), size_t(s.frames));
  };
  const auto rounds = lines.size() > 4 ? std::vector<size_t>{8, 2, 2} : std::vector<size_t>{16, 6, 2, 2};
  for (const size_t pieces : rounds)
    for (FittedLine& f : fitted) {
      const double was = 2 * std::numbers::pi * f.hz / e.rate_hz;
      double off = 0, weight = 0;
      for (size_t n = 0; n < parts.size(); ++n)
        for (size_t p = 0; p < left.size(); ++p) {
          const auto l = part(p, parts[n]);
          add(l, was, f.phasors[n][p]);
          const Turned t = turn_between(l, was, pieces);
          off += std::abs(t.across) * std::arg(t.across) / t.hop, weight += std::abs(t.across);
        }
      if (weight > 0) f.hz += off / weight * e.rate_hz / (2 * std::numbers::pi);
      const double turn = 2 * std::numbers::pi * f.hz / e.rate_hz;
      for (size_t n = 0; n < parts.size(); ++n)
        for (size_t p = 0; p < left.size(); ++p) {
          const auto l = part(p, parts[n]);
          f.phasors[n][p] = project(l, turn, 0, l.size());
          add(l, turn, -f.phasors[n][p]);
        }
    }
  return fitted;
}

/// The programme holds a line there itself, no weaker, and what is left keeps its phase to it from piece to piece:
/// something was done to that line, nothing was added.
bool is_of_the_programme(const Excerpt& e, const Planar& model, const std::vector<Stretch>& parts,
                         const FittedLine& f) {
  constexpr double piece_s = 0.23;  // shorter than the beats of a loop, in which whatever is steady keeps time with all
  const double turn = 2 * std::numbers::pi * f.hz / e.rate_hz;
  std::complex<double> across = 0;
  double own = 0, added = 0;
  for (size_t n = 0; n < parts.size(); ++n)
    for (int p = 0; p < e.pairs(); ++p) {
      const Stretch& s = parts[n];
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
std::optional<double> mains_of(const std::vector<FittedLine>& lines) {
  for (const double mains : {50.0, 60.0}) {
    double inside = 0, all = 0;
    int first = 0;
    for (const FittedLine& l : lines) {
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

std::optional<Found> estimate_lines(const Excerpt& e, const Model& model) {
  std::vector<std::vector<double>> left;
  for (int p = 0; p < e.pairs(); ++p) left.push_back(left_of(e, model, p));
  const auto parts = parts_with_something(e, left);
  const auto lines = steady_lines(e, left, parts);
  if (lines.empty()) return {};
  auto fitted = fit_lines(e, std::move(left), parts, lines);
  std::erase_if(fitted, [&](const FittedLine& f) { return is_of_the_programme(e, model, parts, f); });
  if (fitted.empty()) return {};
  double strongest = 0;
  for (const FittedLine& f : fitted) strongest = std::max(strongest, f.power());
  std::erase_if(fitted, [&](const FittedLine& f) {  // what rounding a tone makes of it: lines too
    return f.power() < of_rounding_share * strongest && f.power() < of_rounding_power;
  });
  const auto mains = mains_of(fitted);
  double power = 0;
  Json all = Json::array();
  for (const FittedLine& f : fitted) {
    const double own = f.power();
    power += own;
    all.push_back({{"hz", f.hz}, {"level_dbfs", 10 * std::log10(std::max(1e-20, own))}});
  }
  Cause c{.code = mains ? "hum" : "tone"};
  for (int p = 0; p < e.pairs(); ++p) c.channels.push_back(p);
  c.values = {{"hz", mains ? *mains : fitted.front().hz},
              {"level_dbfs", 10 * std::log10(std::max(1e-20, power))},
              {"lines", all}};
  if (e.whole && parts != e.stretches) {
    c.from_s = e.seconds_at(parts.front().at);
    c.until_s = e.seconds_at(parts.back().at + parts.back().frames - 1);
  }
  return Found{c, [fitted, parts, rate = e.rate_hz](const Places& where, Planar& m) {
                 for (size_t n = 0; n < parts.size(); ++n) {
                   const int64_t from = parts[n].first - where.start;
                   where.each_of(from, from + parts[n].frames, [&](int64_t at, int64_t time, int64_t frames) {
                     for (const FittedLine& f : fitted) {
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
