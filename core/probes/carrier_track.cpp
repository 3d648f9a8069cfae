#include "core/probes/carrier_track.hpp"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace heathmist {

namespace {

constexpr double quiet = 3e-4;  // gains that move less at rest are told sample by sample
constexpr int64_t ringing = 3;  // frames that take a converter's ringing away

/// Samples of a body's stretch with the carrier's phase at each.
struct Body {
  Planar sound;
  std::vector<std::complex<double>> phase;  // exp(i theta)
  double first_s = 0, step_s = 0;
  int64_t frame(double s) const {
    return std::clamp(std::llround((s - first_s) / step_s), 0LL, (long long)phase.size());
  }
};

Body body_of(const Clip& ret, const ProbeScore& score, const ProbeFit& fit) {
  const double rate = ret.format().sample_rate_hz;
  const auto first = int64_t(std::floor(fit.return_s(score.body_s) * rate)),
             last = int64_t(std::ceil(fit.return_s(score.body_s + score.body_seconds) * rate));
  Body body;
  ret.reader()->read(first, last - first, body.sound);
  body.first_s = fit.probe_s(double(first) / rate), body.step_s = 1 / (rate * fit.stretch);
  body.phase.reserve(size_t(last - first));
  Rotor rotor(carrier_hz, body.first_s, body.step_s);
  for (int64_t n = first; n < last; ++n) body.phase.push_back(rotor.next());
  return body;
}

/// A channel at rest: Re(k exp(i theta)), by least squares.
std::complex<double> at_rest(const Body& body, int channel, Stretch where) {
  double cc = 0, ss = 0, cs = 0, xc = 0, xs = 0;
  const auto x = body.sound.channel(channel);
  for (int64_t n = body.frame(where.from_s); n < body.frame(where.until_s); ++n) {
    const double c = body.phase[size_t(n)].real(), s = body.phase[size_t(n)].imag(), v = x[size_t(n)];
    cc += c * c, ss += s * s, cs += c * s, xc += v * c, xs += v * s;
  }
  const double det = cc * ss - cs * cs;
  return det > 0 ? std::complex<double>((xc * ss - xs * cs) / det, -(xs * cc - xc * cs) / det) : 0;
}

/// Share of what sounds at rest that the carrier is.
double share_at_rest(const Body& body, const std::vector<std::complex<double>>& k, Stretch where) {
  double all = 0, left = 0;
  for (int c = 0; c < body.sound.channels(); ++c)
    for (int64_t n = body.frame(where.from_s); n < body.frame(where.until_s); ++n) {
      const double v = body.sound.channel(c)[size_t(n)], w = (k[size_t(c)] * body.phase[size_t(n)]).real();
      all += v * v, left += (v - w) * (v - w);
    }
  return all > 0 ? 1 - left / all : 0;
}

/// Running means twice over `reach` frames: a triangle.
void smooth(std::vector<double>& x, int64_t reach) {
  const auto count = int64_t(x.size());
  std::vector<double> sums(size_t(count + 1), 0);
  for (int pass = 0; pass < 2; ++pass) {
    for (int64_t n = 0; n < count; ++n) sums[size_t(n + 1)] = sums[size_t(n)] + x[size_t(n)];
    for (int64_t n = 0; n < count; ++n) {  // to and fro by half, so that it stays in place
      const int64_t from = std::max<int64_t>(0, n - (reach - (pass == 0)) / 2),
                    to = std::min(count, n + (reach + (pass == 0) + 1) / 2);
      x[size_t(n)] = (sums[size_t(to)] - sums[size_t(from)]) / double(to - from);
    }
  }
}

/// The normal equations of every sample, summed over the channels.
struct Normal {
  std::vector<double> aa, ab, bb, ya, yb;
};

Normal normal_of(const Body& body, const std::vector<std::complex<double>>& ka,
                 const std::vector<std::complex<double>>& kb) {
  const size_t count = body.phase.size();
  const bool two = !kb.empty();
  Normal e;
  e.aa.assign(count, 0), e.ya.assign(count, 0);
  if (two) e.ab.assign(count, 0), e.bb.assign(count, 0), e.yb.assign(count, 0);
  for (int c = 0; c < body.sound.channels(); ++c) {
    const auto x = body.sound.channel(c);
    for (size_t n = 0; n < count; ++n) {
      const double a = (ka[size_t(c)] * body.phase[n]).real();
      e.aa[n] += a * a, e.ya[n] += a * x[n];
      if (!two) continue;
      const double b = (kb[size_t(c)] * body.phase[n]).real();
      e.ab[n] += a * b, e.bb[n] += b * b, e.yb[n] += b * x[n];
    }
  }
  return e;
}

/// Every sample tells by itself: nowhere is what it stands on less than a third of the mean.
bool tells_each(const Normal& e) {
  double least = 1e300, mean = 0;
  for (size_t n = 0; n < e.aa.size(); ++n) {
    const double strength = e.bb.empty() ? e.aa[n] : std::sqrt(std::max(0.0, e.aa[n] * e.bb[n] - e.ab[n] * e.ab[n]));
    least = std::min(least, strength), mean += strength / double(e.aa.size());
  }
  return least > mean / 3;
}

void solve(const Normal& e, CarrierTrack& track) {
  const size_t count = e.aa.size();
  track.a.resize(count), track.b.resize(e.bb.empty() ? 0 : count);
  for (size_t n = 0; n < count; ++n) {
    if (e.bb.empty()) {
      track.a[n] = e.aa[n] > 0 ? e.ya[n] / e.aa[n] : 0;
      continue;
    }
    const double det = e.aa[n] * e.bb[n] - e.ab[n] * e.ab[n];
    track.a[n] = det > 0 ? (e.ya[n] * e.bb[n] - e.yb[n] * e.ab[n]) / det : 0;
    track.b[n] = det > 0 ? (e.yb[n] * e.aa[n] - e.ya[n] * e.ab[n]) / det : 0;
  }
}

double noise_at(const CarrierTrack& track, const std::vector<double>& gain, Stretch where) {
  double sum = 0;
  int64_t count = 0;
  for (auto n = std::max<int64_t>(0, int64_t(track.frame(where.from_s)));
       n < std::min(track.frames(), int64_t(track.frame(where.until_s))); ++n, ++count)
    sum += (gain[size_t(n)] - 1) * (gain[size_t(n)] - 1);
  return count > 0 ? std::sqrt(sum / double(count)) : 0;
}

std::vector<std::complex<double>> carriers_at(const Clip& ret, const Body& body, Stretch where) {
  std::vector<std::complex<double>> k;
  double strongest = 0;
  for (int c = 0; c < body.sound.channels(); ++c) {
    k.push_back(at_rest(body, c, where));
    strongest = std::max(strongest, std::abs(k.back()));
  }
  if (strongest < 1e-5 || share_at_rest(body, k, where) < 0.9)
    throw InputError(ret.path(),
                     "the probe's tone does not stand where nothing is to be done to it; leave every control alone but "
                     "what the score asks for, and render it again");
  return k;
}

}  // namespace

double CarrierTrack::at(double s) const {
  return a[size_t(std::clamp(std::llround(frame(s)), 0LL, (long long)a.size() - 1))];
}

double CarrierTrack::mean(const std::vector<double>& gain, Stretch where) const {
  const auto from = std::max<int64_t>(0, std::llround(frame(where.from_s)));
  const auto until = std::min<int64_t>(int64_t(gain.size()), std::llround(frame(where.until_s)));
  if (until <= from) return 0;
  return std::accumulate(gain.begin() + from, gain.begin() + until, 0.0) / double(until - from);
}

CarrierTrack track_carriers(const Clip& ret, const ProbeScore& score, const ProbeFit& fit, const CarrierRest& rest,
                            const Job& job) {
  const Body body = body_of(ret, score, fit);
  job.check();
  const bool two = rest.b.until_s > rest.b.from_s;
  const auto ka = carriers_at(ret, body, rest.a);
  std::vector<std::complex<double>> kb;
  if (two) kb = carriers_at(ret, body, rest.b);
  Normal e = normal_of(body, ka, kb);
  job.check();
  CarrierTrack track{body.first_s, body.step_s, {}, {}, 0, 0, 0};
  double loudest = 0;
  for (const auto& k : ka) loudest = std::max(loudest, std::abs(k));
  track.level_db = 20 * std::log10(loudest / engine_amplitude);
  const bool each = tells_each(e), whole = fit.whole_frame(ret.format().sample_rate_hz).has_value();
  if (each) {
    solve(e, track);
    track.noise = noise_at(track, track.a, rest.a);
    if (track.noise < quiet && whole) return track;
  }
  // a step that was read between its samples rings at the band's edge
  const int64_t reach = each && track.noise < quiet ? ringing : std::llround(1 / (carrier_hz * body.step_s));
  for (auto* sums : {&e.aa, &e.ab, &e.bb, &e.ya, &e.yb}) smooth(*sums, reach);
  solve(e, track);
  track.spread_s = double(reach) * body.step_s;
  track.noise = noise_at(track, track.a, rest.a);
  return track;
}

}  // namespace heathmist
