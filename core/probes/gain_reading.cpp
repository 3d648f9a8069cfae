#include "core/probes/gain_reading.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>

#include "core/dsp/decibels.hpp"
#include "core/dsp/fft.hpp"
#include "core/probes/carrier_track.hpp"
#include "core/probes/transition.hpp"

namespace heathmist {

namespace {

constexpr double clean_noise = 2e-5;  // rms of a gain at rest: under it the samples speak for themselves

double amplitude_of(double db) { return std::isinf(db) ? 0 : std::pow(10, db / 20); }

/// One event with the stretches of rest on either side of it.
struct Place {
  Stretch before, after;
};

/// The last two fifths of what lies between events are at rest.
std::vector<Place> places_of(const ProbeScore& score) {
  const auto& events = score.gain.events;
  std::vector<Place> all;
  for (size_t n = 0; n < events.size(); ++n) {
    const double previous = n == 0 ? score.body_s + 0.05 : events[n - 1].until_s(),
                 next = n + 1 == events.size() ? score.body_s + score.body_seconds - 0.05 : events[n + 1].at_s;
    const auto rest = [](double from, double until) { return Stretch{from + 0.6 * (until - from), until - 0.002}; };
    all.push_back({rest(previous, events[n].at_s), rest(events[n].until_s(), next)});
  }
  return all;
}

void check_followed(const Clip& ret, const ProbeScore& score, const CarrierTrack& track,
                    const std::vector<Place>& places) {
  std::vector<std::string> missing;
  for (size_t n = 0; n < places.size(); ++n) {
    const GainEvent& e = score.gain.events[n];
    const double asked = amplitude_of(e.to_db) - amplitude_of(e.from_db),
                 done = track.mean(track.a, places[n].after) - track.mean(track.a, places[n].before);
    if (done / asked < 0.3 || done / asked > 3) missing.push_back(fmt::format("'{}' at {:.2f} s", e.name, e.at_s));
  }
  if (missing.empty()) return;
  if (missing.size() == places.size())
    throw InputError(ret.path(),
                     "nothing of the score was done in it; draw its volume line over the probe and render it again");
  throw InputError(ret.path(), fmt::format("the score was not followed: {} {} missing; draw it and render it again",
                                           fmt::join(missing, ", "), missing.size() == 1 ? "is" : "are"));
}

/// Rms above a frequency around a moment, under a Hann window, dBFS of a sine.
std::optional<double> splash(const Clip& ret, const ProbeFit& fit, double at_s) {
  const double rate = ret.format().sample_rate_hz;
  const auto reach = int64_t(0.02 * rate);
  Planar block;
  ret.reader()->read(std::llround(fit.return_s(at_s) * rate) - reach, 2 * reach, block);
  const size_t size = dsp::good_fft_size(size_t(2 * reach));
  dsp::RealFft<double> fft(size);
  double loudest = 0;
  for (int c = 0; c < block.channels(); ++c) {
    std::fill(fft.time().begin(), fft.time().end(), 0.0);
    double weight = 0;
    for (int64_t n = 0; n < 2 * reach; ++n) {
      const double w = 0.5 - 0.5 * std::cos(std::numbers::pi * (double(n) + 0.5) / double(reach));
      fft.time()[size_t(n)] = w * block.channel(c)[size_t(n)], weight += w * w;
    }
    fft.forward();
    double power = 0;
    for (size_t k = size_t(5000 * double(size) / rate); k + 1 < fft.bins(); ++k)
      power += 2 * std::norm(fft.spectrum()[k]);
    loudest = std::max(loudest, power / (double(size) * weight));
  }
  const double db = 10 * std::log10(std::max(2 * loudest, 1e-40));
  return db > -250 ? std::optional(db) : std::nullopt;
}

class EventReader {
 public:
  EventReader(const EventReader&) = delete;
  EventReader(EventReader&&) = default;
  EventReader(const CarrierTrack& track, const GainEvent& drawn, const Place& place, const GainScore& line)
      : track_(track), drawn_(drawn), line_(line), place_(place) {
    before_ = track.mean(track.a, place.before), after_ = track.mean(track.a, place.after);
    first_ = size_t(std::max(0.0, track.frame(place.before.from_s))),
    last_ = size_t(std::min(double(track.frames()), track.frame(place.after.until_s)));
    for (size_t n = first_; n < last_; ++n) way_.push_back((track.a[n] - before_) / (after_ - before_));
    t_ = {way_,           track.time(double(first_)),
          track.step_s,   track.noise / std::abs(after_ - before_),
          track.spread_s, before_,
          after_};
  }

  /// `stairs`: those that it is agreed to have.
  GainEventReading read(const std::optional<GainEventReading::Stairs>& stairs) const {
    GainEventReading r;
    r.drawn = drawn_;
    r.stairs = stairs;
    if (drawn_.length_s == 0) {
      read_step(r);
    } else {
      read_ramp(r);
    }
    level(r);
    return r;
  }

  /// In decibels where the line is straight in them, in amplitude elsewhere; from where it begins to where it ends.
  std::optional<GainEventReading::Stairs> stairs() const {
    const auto first = crossing(t_, 0.01), last = crossing(t_, 0.99);
    if (!first || !last) return {};
    const double margin = 0.1 * (*last - *first) + 4 * track_.step_s;
    const auto from = size_t(std::clamp((*first - margin - t_.first_s) / t_.step_s, 0.0, double(way_.size()))),
               until = size_t(std::clamp((*last + margin - t_.first_s) / t_.step_s, 0.0, double(way_.size())));
    if (until < from + 12) return {};
    std::vector<double> along(way_.begin() + long(from), way_.begin() + long(until));
    double noise = t_.noise;
    if (drawn_.length_s > 0 && before_ > 1e-3 && after_ > 1e-3) {
      const double whole = std::log(after_ / before_);
      for (double& v : along) v = std::log(std::max(1e-6, before_ + v * (after_ - before_)) / before_) / whole;
      noise = track_.noise / std::min(before_, after_) / std::abs(whole);
    }
    const auto found = stairs_of(along, track_.step_s, noise, track_.spread_s);
    if (!found) return {};
    return GainEventReading::Stairs{found->count, 1000 * found->step_s};
  }

 private:
  void read_step(GainEventReading& r) const {
    const ShapeFit fit = fit_shape(t_);
    const bool noisy = t_.noise > clean_noise || t_.spread_s > 0;
    r.fit = name_of(fit.shape), r.fit_error = fit.error;
    // what a coder smears round a step is no shape of its own
    const bool simple = fit.shape == Shape::step || fit.shape == Shape::straight || fit.shape == Shape::one_pole;
    const bool named = fit.error < 0.012 + 2 * t_.noise || (simple && noisy && fit.error < 0.06);
    const bool at_once =
        named && (fit.shape == Shape::step || fit.lasts_s < std::max(2.5 * track_.step_s, 0.15 * t_.spread_s));
    // by its shape where noise lies over it, by itself where it can be seen
    const bool by_shape = named && !r.stairs && noisy;
    const auto at = [&](double share) {
      return by_shape ? std::optional(time_of(fit, t_, share)) : crossing(t_, share);
    };
    const auto early = at(0.1), late = at(0.9), first = at(0.01), last = at(0.99), half = at(0.5);
    if (half) r.late_ms = 1000 * (*half - drawn_.at_s);
    if (early && late) r.rise_ms = 1000 * (*late - *early);
    if (first && last) r.length_ms = 1000 * (*last - *first);
    if (at_once && by_shape) r.rise_ms = r.length_ms = 0;
    r.smoothing = r.stairs                                ? Smoothing::stairs
                  : at_once                               ? Smoothing::none
                  : named && fit.shape == Shape::straight ? Smoothing::linear
                  : named && fit.shape == Shape::one_pole ? Smoothing::one_pole
                                                          : Smoothing::other;
  }

  void read_ramp(GainEventReading& r) const {
    const double middle_s = drawn_.at_s + 0.5 * drawn_.length_s;
    const double middle = (line_.amplitude_at(middle_s) - amplitude_of(drawn_.from_db)) /
                          (amplitude_of(drawn_.to_db) - amplitude_of(drawn_.from_db));
    const auto half = crossing(t_, middle), early = crossing(t_, 0.1), late = crossing(t_, 0.9),
               first = crossing(t_, 0.01), last = crossing(t_, 0.99);
    if (half) r.late_ms = 1000 * (*half - middle_s);
    if (early && late) r.rise_ms = 1000 * (*late - *early);
    if (first && last) r.length_ms = 1000 * (*last - *first);
    r.fit = r.stairs ? "stairs" : "ramp";
  }

  void level(GainEventReading& r) const {
    const bool to_silence = std::abs(after_) < 2e-4 || std::isinf(drawn_.to_db);
    const auto end = track_.frame(place_.after.until_s);
    double furthest = 1, least = 1e9, most = -1e9;
    const auto reach = track_.spread_s > 0 ? size_t(std::ceil(0.0002 / track_.step_s)) : 1;
    double sum = 0;
    for (size_t n = 0; n < way_.size(); ++n) {  // over as much as rings
      sum += way_[n] - (n >= reach ? way_[n - reach] : 0);
      furthest = std::max(furthest, sum / double(reach));
    }
    for (auto n = size_t(std::max(0.0, track_.frame(place_.after.from_s)));
         n < size_t(std::min(end, double(track_.frames()))); ++n)
      least = std::min(least, track_.a[n]), most = std::max(most, track_.a[n]);
    if (to_silence) {
      r.overshoot_db = 0;
      return;
    }
    const double over = before_ + furthest * (after_ - before_);
    r.overshoot_db = furthest - 1 < 1e-4 + 4 * t_.noise ? 0 : std::abs(dsp::db_of(over / after_, dsp::no_gain));
    r.ripple_db = least > 0 ? dsp::db_of(most / least, dsp::no_gain) : 0;
  }

  const CarrierTrack& track_;
  const GainEvent& drawn_;
  const GainScore& line_;
  const Place& place_;
  double before_ = 0, after_ = 1;
  size_t first_ = 0, last_ = 0;
  std::vector<double> way_;
  Transition t_;
};

/// Stairs that two ramps or three steps have alike; what only one has is chance.
bool agree(const std::vector<EventReader>& readers, const std::vector<std::optional<GainEventReading::Stairs>>& stairs,
           const GainScore& line) {
  for (size_t a = 0; a < readers.size(); ++a) {
    int ramps = 0, steps = 0;
    for (size_t b = 0; b < readers.size(); ++b)
      if (stairs[a] && stairs[b] && std::abs(stairs[a]->step_ms / stairs[b]->step_ms - 1) < 0.2)
        ++(line.events[b].length_s > 0 ? ramps : steps);
    if (ramps >= 2 || steps >= 3) return true;
  }
  return false;
}

/// What most of the steps are; stairs anywhere are stairs.
void name_smoothing(GainReading& r) {
  std::array<int, 5> votes{};
  std::vector<double> late, times;
  for (const auto& e : r.events) {
    if (e.stairs) votes[size_t(Smoothing::stairs)] += 100;
    if (e.drawn.length_s > 0) continue;
    ++votes[size_t(e.smoothing)];
    if (e.late_ms) late.push_back(*e.late_ms);
  }
  r.smoothing = Smoothing(std::max_element(votes.begin(), votes.end()) - votes.begin());
  for (const auto& e : r.events) {
    if (r.smoothing == Smoothing::stairs && e.stairs) times.push_back(e.stairs->step_ms);
    if (e.drawn.length_s > 0 || e.smoothing != r.smoothing || !e.rise_ms) continue;
    if (r.smoothing == Smoothing::linear) times.push_back(*e.rise_ms / 0.8);
    if (r.smoothing == Smoothing::one_pole) times.push_back(*e.rise_ms / std::log(9.0));
    if (r.smoothing == Smoothing::other) times.push_back(*e.rise_ms), r.fit = e.fit;
  }
  const auto median = [](std::vector<double>& all) {
    if (all.empty()) return 0.0;
    std::nth_element(all.begin(), all.begin() + long(all.size() / 2), all.end());
    return all[all.size() / 2];
  };
  r.smoothing_ms = median(times);
  r.late_ms = median(late);
}

/// What moves faster than 30 dB a second is told by its time: it is left out until it is done.
bool is_fast(const GainEvent& e) { return !(std::abs(e.to_db - e.from_db) <= 30 * e.length_s); }

/// When an event is over, as it was rendered.
double done_s(const GainEventReading& e) {
  return e.drawn.until_s() + (std::abs(e.late_ms.value_or(0)) + 1.5 * e.length_ms.value_or(0)) / 1000 + 0.003;
}

/// Means over up to 40 ms where the line rests, less where it moves; there a single sample, where no noise lies over
/// it.
GainReading::Point point_at(double s, const GainReading& r, const CarrierTrack& track, const ProbeScore& score) {
  constexpr double most_s = 0.02, of_ramps_s = 0.005, of_noise_s = 0.00025;
  double reach = most_s;
  for (const auto& e : r.events) {
    const double outside = std::max(e.drawn.at_s - s, s - done_s(e));
    reach = std::min(reach, outside > 0 ? 0.8 * outside - 2 * track.spread_s : is_fast(e.drawn) ? 0 : of_ramps_s);
  }
  if (track.noise > clean_noise) reach = std::max(reach, of_noise_s);
  if (reach < 2 * track.step_s) return {s, score.gain.amplitude_at(s), track.at(s)};
  return {s, score.gain.amplitude_at(s), track.mean(track.a, {s - reach, s + reach})};
}

/// Every 5 ms, and every quarter of one where the line moves fast.
void fill_curve(GainReading& r, const CarrierTrack& track, const ProbeScore& score) {
  constexpr double every_s = 0.005, dense_s = 0.00025, before_s = 0.004;
  const double until = score.body_s + score.body_seconds - 0.05;
  for (double s = score.body_s + 0.05; s < until; s += every_s) {
    r.curve.push_back(point_at(s, r, track, score));
    const bool fast = std::any_of(r.events.begin(), r.events.end(), [&](const GainEventReading& e) {
      return is_fast(e.drawn) && s + every_s > e.drawn.at_s - before_s &&
             s < std::min(done_s(e), e.drawn.until_s() + 0.3);
    });
    for (double t = s + dense_s; fast && t < s + every_s - 0.5 * dense_s; t += dense_s)
      r.curve.push_back(point_at(t, r, track, score));
  }
}

double worst_deviation(const GainReading& r) {
  double worst = 0;
  for (const auto& p : r.curve) {
    const bool moving = std::any_of(r.events.begin(), r.events.end(), [&](const GainEventReading& e) {
      return is_fast(e.drawn) && p.at_s > e.drawn.at_s - 0.003 && p.at_s < done_s(e);
    });
    if (!moving && p.drawn > 0.01 && p.rendered > 0) worst = std::max(worst, std::abs(p.off_db()));
  }
  return worst;
}

}  // namespace

double GainReading::Point::off_db() const {
  return dsp::db_of(rendered, dsp::no_gain) - dsp::db_of(drawn, dsp::no_gain);
}

const char* name_of(Smoothing smoothing) {
  constexpr const char* names[] = {"none", "linear", "one_pole", "stairs", "other"};
  return names[int(smoothing)];
}

GainReading read_gain(const Clip& ret, const ProbeScore& score, const ProbeFit& fit, const Job& job) {
  const auto places = places_of(score);
  if (places.empty()) throw InputError(ret.path(), "its score asks for no event; name the score it was rendered with");
  const CarrierTrack track = track_carriers(ret, score, fit, {places.front().before, {}}, job.part(0, 0.5));
  check_followed(ret, score, track, places);
  GainReading r;
  r.rest_db = track.level_db;
  r.resolution_ms = 1000 * std::max(track.step_s, track.spread_s);
  std::vector<EventReader> readers;
  std::vector<std::optional<GainEventReading::Stairs>> stairs;
  readers.reserve(places.size());
  for (size_t n = 0; n < places.size(); ++n) {
    readers.emplace_back(track, score.gain.events[n], places[n], score.gain);
    stairs.push_back(readers.back().stairs());
  }
  const bool agreed = agree(readers, stairs, score.gain);
  for (size_t n = 0; n < places.size(); ++n) {
    job.check();
    r.events.push_back(readers[n].read(agreed ? stairs[n] : std::nullopt));
    auto& e = r.events.back();
    e.splash_dbfs = splash(ret, fit, e.drawn.at_s + 0.5 * e.drawn.length_s + e.late_ms.value_or(0) / 1000);
    job.part(0.5, 1).report(double(n + 1) / double(places.size()));
  }
  name_smoothing(r);
  fill_curve(r, track, score);
  r.worst_deviation_db = worst_deviation(r);
  return r;
}

}  // namespace heathmist
