#include "core/probes/crossfade_reading.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>

#include "core/dsp/decibels.hpp"
#include "core/probes/carrier_track.hpp"

namespace heathmist {

namespace {

constexpr double floor_gain = 1e-9;
using Curve = std::vector<CrossfadeReading::Point>;

struct LawFit {
  FadeLaw law = FadeLaw::other;
  double bend = 0, from_s = 0, length_s = 0, error = 1e9;
};

enum class Sides { both, first, second };

double error_of(const LawFit& f, const Curve& curve, Sides sides) {
  double sum = 0;
  for (const auto& p : curve) {
    const double way = std::clamp((p.at_s - f.from_s) / f.length_s, 0.0, 1.0);
    const double a = p.a - fade_gain(f.law, 1 - way, f.bend), b = p.b - fade_gain(f.law, way, f.bend);
    sum += (sides != Sides::second ? a * a : 0) + (sides != Sides::first ? b * b : 0);
  }
  return std::sqrt(sum / double(curve.size()));
}

/// Start and length by ever smaller steps.
LawFit refined(LawFit f, const Curve& curve, Sides sides) {
  f.error = error_of(f, curve, sides);
  for (double span = f.length_s / 4; span > 1e-6 * f.length_s; span *= 0.6)
    for (const auto& [begin, length] :
         {std::pair{1.0, 0.0}, {-1.0, 0.0}, {0.0, 1.0}, {0.0, -1.0}, {0.5, -1.0}, {-0.5, 1.0}}) {
      LawFit other = f;
      other.from_s += begin * span, other.length_s = std::max(1e-4, other.length_s + length * span);
      other.error = error_of(other, curve, sides);
      if (other.error < f.error) f = other;
    }
  return f;
}

double departure_from(const LawFit& f, const Curve& curve, Sides sides, double least) {
  double most = 0;
  const auto take = [&](double got, double asked) {
    if (std::max(std::abs(got), asked) < least) return;
    most = std::max(most, std::abs(dsp::db_of(got, floor_gain) - dsp::db_of(std::max(asked, 1e-4), floor_gain)));
  };
  for (const auto& p : curve) {
    const double way = std::clamp((p.at_s - f.from_s) / f.length_s, 0.0, 1.0);
    if (sides != Sides::second) take(p.a, fade_gain(f.law, 1 - way, f.bend));
    if (sides != Sides::first) take(p.b, fade_gain(f.law, way, f.bend));
  }
  return most;
}

struct Named {
  LawFit fit;
  double departure_db = 1e9;
};

/// The simplest law within 0.15 dB, or the one that comes nearest.
Named named(const Curve& curve, const LawFit& guess, Sides sides, double least) {
  Named best;
  const auto attempt = [&](FadeLaw law, double bend) {
    LawFit f = guess;
    f.law = law, f.bend = bend;
    f = refined(f, curve, sides);
    const double off = departure_from(f, curve, sides, least);
    if (best.departure_db > 0.15 && off < best.departure_db) best = {f, off};
  };
  for (const FadeLaw law : {FadeLaw::linear, FadeLaw::raised_cosine, FadeLaw::equal_power, FadeLaw::square_root})
    attempt(law, 0);
  if (best.departure_db > 0.15)
    for (double bend = 4; bend < 3e5; bend *= 1.5) attempt(FadeLaw::logarithmic, bend);
  if (best.fit.law == FadeLaw::logarithmic)  // closer about the best
    for (const double near : {0.85, 0.93, 1.07, 1.15}) attempt(FadeLaw::logarithmic, best.fit.bend * near);
  return best;
}

constexpr double good_db = 0.35;

Curve curve_of(const CarrierTrack& track, double from_s, double until_s) {
  constexpr int points = 480;
  Curve curve;
  const double step = (until_s - from_s) / points,
               reach = track.spread_s > 0 ? 0.5 * step : std::min(0.5 * step, 0.0005);
  for (int n = 0; n <= points; ++n) {
    const double s = from_s + n * step;
    curve.push_back({s, track.mean(track.a, {s - reach, s + reach + track.step_s}),
                     track.mean(track.b, {s - reach, s + reach + track.step_s})});
  }
  return curve;
}

/// Where either clip first leaves and last reaches its rest.
LawFit guess_of(const Curve& curve, const CrossfadeScore& drawn) {
  LawFit f;
  f.from_s = drawn.fade_from_s;
  double until = drawn.fade_until_s;
  const auto moving = [](const CrossfadeReading::Point& p) {
    return (p.a < 0.995 && p.a > 0.005) || (p.b < 0.995 && p.b > 0.005);
  };
  const auto first = std::find_if(curve.begin(), curve.end(), moving);
  const auto last = std::find_if(curve.rbegin(), curve.rend(), moving);
  if (first != curve.end() && last != curve.rend() && last->at_s > first->at_s)
    f.from_s = first->at_s, until = last->at_s;
  f.length_s = std::max(1e-3, until - f.from_s);
  return f;
}

double corner_of(const CarrierTrack& track, const LawFit& f) {
  const double h = 0.02 * f.length_s;
  double most = 0;
  for (double s = f.from_s - h; s <= f.from_s + f.length_s + h; s += 0.1 * h)
    for (const auto* gain : {&track.a, &track.b}) {
      const auto at = [&](double t) { return track.mean(*gain, {t, t + std::max(track.step_s, 0.02 * h)}); };
      most = std::max(most, std::abs(at(s + h) - 2 * at(s) + at(s - h)) / h * f.length_s);
    }
  return most;
}

void check_fades(const Clip& ret, const CarrierTrack& track, const CarrierRest& rest) {
  const double a_after = std::abs(track.mean(track.a, rest.b)), b_before = std::abs(track.mean(track.b, rest.a));
  if (a_after > 0.3)
    throw InputError(
        ret.path(),
        "the first clip does not fade out in it, or the second is not there; draw the crossfade and render it again");
  if (b_before > 0.3)
    throw InputError(ret.path(),
                     "the second clip sounds from the start; put it where the score says and render it again");
}

}  // namespace

const char* name_of(FadeLaw law) {
  constexpr const char* names[] = {"linear", "raised_cosine", "equal_power", "square_root", "logarithmic", "other"};
  return names[int(law)];
}

double fade_gain(FadeLaw law, double share, double bend) {
  share = std::clamp(share, 0.0, 1.0);
  switch (law) {
    case FadeLaw::raised_cosine:
      return 0.5 - 0.5 * std::cos(std::numbers::pi * share);
    case FadeLaw::equal_power:
      return std::sin(0.5 * std::numbers::pi * share);
    case FadeLaw::square_root:
      return std::sqrt(share);
    case FadeLaw::logarithmic:
      return std::log1p(bend * share) / std::log1p(bend);
    default:
      return share;
  }
}

double CrossfadeReading::Point::level_db(double correlation) const {
  return 10 * std::log10(std::max(a * a + b * b + 2 * correlation * a * b, 1e-18));
}

double departure_db(const std::vector<CrossfadeReading::Point>& curve, double correlation) {
  double most = 0;
  for (const auto& p : curve)
    if (const double db = p.level_db(correlation); std::abs(db) > std::abs(most)) most = db;
  return most;
}

CrossfadeReading read_crossfade(const Clip& ret, const ProbeScore& score, const ProbeFit& fit, const Job& job) {
  const CrossfadeScore& drawn = *score.crossfade;
  const double drawn_length = drawn.fade_until_s - drawn.fade_from_s, ends = score.body_s + score.body_seconds;
  const CarrierRest rest{
      {score.body_s + 0.1, drawn.fade_from_s - std::min(0.4, 0.2 * (drawn.fade_from_s - score.body_s))},
      {drawn.fade_until_s + 0.35 * (ends - drawn.fade_until_s), ends - 0.1}};
  const CarrierTrack track = track_carriers(ret, score, fit, rest, job.part(0, 0.6));
  check_fades(ret, track, rest);
  CrossfadeReading r;
  const double reach = 0.4 * drawn_length;
  const Curve wide = curve_of(track, std::max(score.body_s + 0.05, drawn.fade_from_s - reach),
                              std::min(ends - 0.05, drawn.fade_until_s + reach));
  const double least = std::max(0.01, 8 * track.noise);  // what is lower is compared with nothing: noise lies over it
  const LawFit guess = guess_of(wide, drawn);
  const Curve close = curve_of(track, guess.from_s - 0.15 * guess.length_s, guess.from_s + 1.15 * guess.length_s);
  const Named both = named(close, guess, Sides::both, least);
  job.check();
  r.law_fit_db = both.departure_db, r.bend = both.fit.bend;
  r.from_s = both.fit.from_s, r.length_s = both.fit.length_s;
  r.law = both.departure_db < good_db ? both.fit.law : FadeLaw::other;
  r.law_a = r.law_b = r.law;
  if (r.law == FadeLaw::other) {
    const Named a = named(close, guess, Sides::first, least), b = named(close, guess, Sides::second, least);
    if (a.departure_db < good_db) r.law_a = a.fit.law;
    if (b.departure_db < good_db) r.law_b = b.fit.law;
  }
  const double middle = r.from_s + 0.5 * r.length_s, width = std::max(0.001 * r.length_s, track.step_s);
  r.middle_a_db = dsp::db_of(track.mean(track.a, {middle - width, middle + width}), floor_gain),
  r.middle_b_db = dsp::db_of(track.mean(track.b, {middle - width, middle + width}), floor_gain);
  r.curve = curve_of(track, r.from_s - 0.1 * r.length_s, r.from_s + 1.1 * r.length_s);
  r.unlike_db = departure_db(r.curve, 0), r.like_db = departure_db(r.curve, 1);
  for (const double correlation : {-0.5, -0.25, 0.0, 0.25, 0.5, 0.75, 1.0})
    r.correlated_db.emplace_back(correlation, departure_db(r.curve, correlation));
  r.corner = corner_of(track, both.fit);
  const double last_mark = fit.last_mark_s > 0 ? fit.probe_s(fit.last_mark_s) : score.last_mark_s;
  r.second_late_ms = 1000 * (last_mark - score.last_mark_s);
  job.report(1);
  return r;
}

}  // namespace heathmist
