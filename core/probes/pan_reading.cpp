#include "core/probes/pan_reading.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <functional>
#include <numbers>

#include "core/dsp/decibels.hpp"
#include "core/probes/engine_kinds.hpp"

namespace heathmist {

namespace {

constexpr double gone = 1e-4;

/// A complex gain's size, with the sign it has where it turns the phase by less than a quarter.
double signed_size(double along, double across) { return std::copysign(std::hypot(along, across), along); }

}  // namespace

MixMatrix mix_of(const Clip& ret, const ProbeFit& fit, Stretch where, int inputs, double* share) {
  const double rate = ret.format().sample_rate_hz;
  const int64_t first = std::llround(fit.return_s(where.from_s) * rate),
                frames = std::max<int64_t>(64, std::llround((where.until_s - where.from_s) * fit.stretch * rate));
  Planar sound;
  ret.reader()->read(first, frames, sound);
  Eigen::MatrixXd known(frames, 2 * inputs);
  for (int i = 0; i < inputs; ++i) {
    const auto z = tones(i, fit.probe_s(double(first) / rate), 1 / (rate * fit.stretch), frames);
    for (int64_t n = 0; n < frames; ++n)
      known(n, 2 * i) = z[size_t(n)].real(), known(n, 2 * i + 1) = z[size_t(n)].imag();
  }
  const Eigen::MatrixXd normal = known.transpose() * known;
  const Eigen::LDLT<Eigen::MatrixXd> solver(normal);
  MixMatrix m{};
  double all = 0, own = 0;
  for (int o = 0; o < std::min(2, sound.channels()); ++o) {
    const Eigen::Map<const Eigen::VectorXd> x(sound.channel(o).data(), frames);
    const Eigen::VectorXd y = known.transpose() * x, g = solver.solve(y);
    for (int i = 0; i < inputs; ++i) m[size_t(i)][size_t(o)] = signed_size(g(2 * i), g(2 * i + 1));
    all += x.squaredNorm(), own += g.dot(y);
  }
  if (share) *share = all > 0 ? own / all : 0;
  return m;
}

const char* name_of(PanKind kind) {
  constexpr const char* names[] = {"balance", "pan", "mono", "none"};
  return names[int(kind)];
}

const char* name_of(Taper taper) {
  constexpr const char* names[] = {"linear", "sine", "square_root", "other"};
  return names[int(taper)];
}

double taper_gain(Taper taper, double share) {
  share = std::clamp(share, 0.0, 1.0);
  if (taper == Taper::linear) return share;
  return taper == Taper::sine ? std::sin(0.5 * std::numbers::pi * share) : std::sqrt(share);
}

namespace {

double power_of(const MixMatrix& m, int inputs) {
  double power = 0;
  for (int i = 0; i < inputs; ++i)
    for (int o = 0; o < 2; ++o) power += m[size_t(i)][size_t(o)] * m[size_t(i)][size_t(o)];
  return 10 * std::log10(std::max(power / inputs, 1e-40));
}

PanPoint point_at(double at_s, double position, const MixMatrix& m, int inputs) {
  return {at_s, position, m, power_of(m, inputs)};
}

const PanPoint* nearest(const std::vector<PanPoint>& all, double position) {
  const PanPoint* best = nullptr;
  for (const PanPoint& p : all)
    if (std::abs(p.position - position) < 1e-6) best = &p;
  return best;
}

double greatest(const std::vector<PanPoint>& all, const std::function<double(const PanPoint&)>& of) {
  double most = 0;
  for (const PanPoint& p : all) most = std::max(most, of(p));
  return most;
}

PanKind kind_of(const std::vector<PanPoint>& all, int inputs) {
  const double size = greatest(all, [&](const PanPoint& p) {
    double most = 0;
    for (int i = 0; i < inputs; ++i)
      most = std::max({most, std::abs(p.matrix[size_t(i)][0]), std::abs(p.matrix[size_t(i)][1])});
    return most;
  });
  const double change = greatest(all, [&](const PanPoint& p) {
    double most = 0;
    for (int i = 0; i < inputs; ++i)
      for (size_t o = 0; o < 2; ++o)
        most = std::max(most, std::abs(p.matrix[size_t(i)][o] - all.front().matrix[size_t(i)][o]));
    return most;
  });
  if (change < 0.02 * size) return PanKind::none;
  if (inputs == 1) return PanKind::pan;
  const double across =
      greatest(all, [](const PanPoint& p) { return std::max(std::abs(p.matrix[0][1]), std::abs(p.matrix[1][0])); });
  const double apart = greatest(all, [](const PanPoint& p) {
    return std::max(std::abs(p.matrix[0][0] - p.matrix[1][0]), std::abs(p.matrix[0][1] - p.matrix[1][1]));
  });
  if (apart < 0.02 * size) return PanKind::mono;
  return across < 0.02 * size ? PanKind::balance : PanKind::pan;
}

/// A side's gain at a position, positions counted from its own end: 0 there, 1 at the other.
struct SidePoint {
  double way, gain;
};
std::vector<SidePoint> side(const std::vector<PanPoint>& all, size_t output, size_t input, bool reversed) {
  std::vector<SidePoint> points;
  for (const PanPoint& p : all) {
    const double towards_right = (p.position + 100) / 200;
    points.push_back(
        {(output == 0) != reversed ? towards_right : 1 - towards_right, std::abs(p.matrix[input][output])});
  }
  std::sort(points.begin(), points.end(), [](const SidePoint& a, const SidePoint& b) { return a.way < b.way; });
  return points;
}

/// Greatest departure in dB; `reach`: the share of the way over which the side falls, from the other end.
double departure(const std::vector<SidePoint>& points, Taper taper, double reach) {
  double most = 0;
  const double full = points.front().gain;
  for (const SidePoint& p : points) {
    const double asked = taper_gain(taper, (1 - p.way) / reach), got = p.gain / full;
    if (std::max(asked, got) < 0.01) continue;
    most = std::max(most, std::abs(dsp::db_of(std::max(got, gone), dsp::no_gain) -
                                   dsp::db_of(std::max(asked, gone), dsp::no_gain)));
  }
  return most;
}

void name_taper(PanReading& r, const std::vector<std::vector<SidePoint>>& sides) {
  double best = 1e9;
  for (const double reach : {1.0, 0.5})
    for (const Taper taper : {Taper::linear, Taper::sine, Taper::square_root}) {
      double most = 0;
      for (const auto& points : sides) most = std::max(most, departure(points, taper, reach));
      if (most < best) best = most, r.taper = taper;
    }
  r.taper_fit_db = best;
  if (best > 0.3) r.taper = Taper::other;
}

}  // namespace

PanReading judge_pan(std::vector<PanPoint> positions, int inputs) {
  PanReading r;
  r.inputs = inputs;
  std::sort(positions.begin(), positions.end(),
            [](const PanPoint& a, const PanPoint& b) { return a.position < b.position; });
  r.positions = std::move(positions);
  if (r.positions.empty()) return r;
  if (r.positions.size() > 1) r.kind = kind_of(r.positions, inputs);
  const PanPoint *left = nearest(r.positions, -100), *centre = nearest(r.positions, 0),
                 *right = nearest(r.positions, 100);
  const auto power = [&](const PanPoint& p, size_t output) {
    double sum = 0;
    for (int i = 0; i < inputs; ++i) sum += std::abs(p.matrix[size_t(i)][output]);
    return sum;
  };
  if (left && right) r.reversed = power(*left, 0) + power(*right, 1) < power(*left, 1) + power(*right, 0);
  if (centre) {
    const MixMatrix& m = centre->matrix;
    const double main = std::abs(m[0][0]) > std::abs(m[0][1]) ? m[0][0] : m[0][1];
    r.inverted = main < 0;
    r.swapped = inputs == 2 && std::abs(m[0][1]) > std::abs(m[0][0]) && std::abs(m[1][0]) > std::abs(m[1][1]);
    const double middle = m[0][0] + m[0][1] + m[1][0] + m[1][1],
                 edge = (m[0][0] - m[0][1] - m[1][0] + m[1][1]) * (r.swapped ? -1 : 1);
    if (inputs == 2 && std::abs(middle) > gone) r.width = edge / middle;
  }
  if (!r.kind || r.kind == PanKind::none || !left || !right) return r;
  const size_t second = inputs == 2 ? 1 : 0;
  const std::vector<std::vector<SidePoint>> sides{side(r.positions, 0, 0, r.reversed),
                                                  side(r.positions, 1, second, r.reversed)};
  name_taper(r, sides);
  if (!centre) return r;
  const PanPoint &left_end = r.reversed ? *right : *left, &right_end = r.reversed ? *left : *right;
  const double of_left = std::abs(centre->matrix[0][0] / left_end.matrix[0][0]),
               of_right = std::abs(centre->matrix[second][1] / right_end.matrix[second][1]);
  if (std::isfinite(of_left) && std::isfinite(of_right))
    r.centre_db = 0.5 * (dsp::db_of(of_left, dsp::no_gain) + dsp::db_of(of_right, dsp::no_gain));
  return r;
}

namespace {

Stretch settled(const PanMove& m) {
  const double length = m.until_s - m.from_s;
  return {m.from_s + std::max(0.45 * length, std::min(0.2, 0.6 * length)), m.until_s - std::min(0.05, 0.1 * length)};
}

/// A probe with one channel has none of the second one's tones, where nothing has moved yet.
int inputs_of(const Clip& ret, const ProbeScore& score, const ProbeFit& fit) {
  if (score.channels == 1 || position_at(score.moves, score.body_s + 0.2) != 0) return score.channels;
  const MixMatrix m = mix_of(ret, fit, {score.body_s + 0.1, score.body_s + 0.5}, 2);
  const double first = std::abs(m[0][0]) + std::abs(m[0][1]), second = std::abs(m[1][0]) + std::abs(m[1][1]);
  return second < 0.003 * first ? 1 : 2;
}

void check_there(const Clip& ret, const ProbeScore& score, const ProbeFit& fit, int inputs) {
  const double from = score.body_s + 0.1;
  double share = 0, most = 0;
  const double until = score.moves.empty() ? from + 0.4 : std::min(from + 0.4, score.body_s + score.body_seconds);
  mix_of(ret, fit, {from, until}, inputs, &share);
  most = share;
  for (const PanMove& m : score.moves) {  // a render that stands at one side from the start
    if (most > 0.5 || m.to || m.from_s < score.body_s) continue;
    mix_of(ret, fit, settled(m), inputs, &share);
    most = std::max(most, share);
  }
  if (most < 0.5)
    throw InputError(
        ret.path(),
        inputs == 2
            ? "the probe's tones are not in it; play the whole probe through a stereo track and render it in stereo"
            : "the probe's tones are not in it; play the whole probe and render it in stereo");
}

}  // namespace

PanReading read_pan(const Clip& ret, const ProbeScore& score, const ProbeFit& fit, const Job& job) {
  if (ret.format().channels < 2)
    throw InputError(ret.path(), "it has one channel, and a position needs two to show; render it in stereo");
  const int inputs = inputs_of(ret, score, fit);
  check_there(ret, score, fit, inputs);
  std::vector<PanPoint> held, course;
  const double begins = score.body_s, ends = score.body_s + score.body_seconds;
  for (size_t n = 0; n < score.moves.size(); ++n) {
    PanMove m = score.moves[n];
    m.from_s = std::max(m.from_s, begins), m.until_s = std::min(m.until_s, ends);
    if (m.until_s - m.from_s < 0.1) continue;
    job.check();
    job.report(double(n) / double(score.moves.size()));
    if (!m.to) {
      const Stretch where = settled(m);
      if (!nearest(held, m.position))
        held.push_back(
            point_at(0.5 * (where.from_s + where.until_s), m.position, mix_of(ret, fit, where, inputs), inputs));
      continue;
    }
    for (double s = m.from_s + 0.05; s + 0.05 < m.until_s; s += 0.05)
      course.push_back(
          point_at(s, position_at({score.moves[n]}, s), mix_of(ret, fit, {s - 0.025, s + 0.025}, inputs), inputs));
  }
  PanReading r = judge_pan(held.empty() ? course : held, inputs);
  if (held.empty()) r.positions.clear();
  r.course = std::move(course);
  return r;
}

}  // namespace heathmist
