#include "core/probes/sweep_levels.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>

#include "core/dsp/median.hpp"
#include "core/probes/probe_body.hpp"

namespace heathmist {

namespace {

using Complex = std::complex<double>;
constexpr int crossing_images = 160;
constexpr double beside_hz = 15;
constexpr double blur_hz = 50;     // what the gate's ends blur
constexpr double disturbs = 1e-3;  // what lies further under the wanted line does not show in it
constexpr double disturbs_image = 0.03;
constexpr TapsPlan at_a_crossing{0.06, 4}, at_the_fold{0.12, 2};
constexpr double stop_band = 1e-3;  // which has notches that no straight line over a crossing follows

}  // namespace

SweepLevels::SweepLevels(const SweepResponses& responses, const SweepReading& reading, const ProbeScore& score,
                         const ProbeFit& fit)
    : responses_(responses),
      score_(score),
      law_(*score.sweep),
      from_(reading.from_hz),
      to_(reading.to_hz * fit.stretch) {
  double first = 0, last = 0;
  int highest = 1;
  for (const auto& r : responses.told) highest = std::max(highest, std::abs(r.image));
  for (const auto& r : responses.told) {
    if (!r.there) continue;
    counting_.push_back({r.image, r.size});
    if (std::abs(r.image) == 1) first = std::max(first, r.size);
    if (std::abs(r.image) == highest) last = std::max(last, r.size);
  }
  if (last == 0 || highest == 1) return;  // those above are not read, but cross the others
  const double fall = std::max(1.0, std::log(std::max(first, last) / last) / std::log(double(highest)));
  for (const int k : distinct_images(reading.from_hz, reading.to_hz, crossing_images))
    if (std::abs(k) > highest) counting_.push_back({k, last * std::pow(double(highest) / std::abs(k), fall)});
}

/// With its phase against the marks.
Complex SweepLevels::wanted(double hz) const {
  const auto& value = responses_.told.front().value;
  const double at = hz / responses_.bin_hz;
  const auto j = std::min(size_t(at), value.size() - 2);
  const Complex seen = value[j] + (value[j + 1] - value[j]) * (at - double(j));
  const double size = std::abs(seen);
  return size > 0 ? seen * (wanted_size(hz, size) / size) : seen;
}

double SweepLevels::wanted_size(double hz, double seen) const {
  const double turn = to_ / 2;
  if (from_ > to_ && std::abs(hz - turn) < 2 * half_width(turn)) {
    if (const auto& taps = taps_at(turn, at_the_fold); taps && taps->reaches(hz)) return taps->gain_at(hz);
    if (std::abs(hz - turn) < half_width(turn)) return at_the_turn(turn, hz - turn, seen);
  }
  if (!crossing(0, hz, seen)) return seen;
  if (seen < stop_band) {
    const double step_s = at_a_crossing.around_s, place = law_.hz((std::floor(law_.at_s(hz) / step_s) + 0.5) * step_s);
    if (const auto& taps = taps_at(place, at_a_crossing); taps && taps->reaches(hz)) return taps->gain_at(hz);
  }
  return beside_crossings(0, hz, seen).value_or(around(0, hz));
}

/// Worked out once each, several side by side.
const std::optional<LocalTaps>& SweepLevels::taps_at(double hz, const TapsPlan& plan) const {
  Place& place = place_at(hz);
  std::call_once(place.once, [&] { place.taps = taps_around(hz, plan, responses_.wanted, score_); });
  return place.taps;
}

SweepLevels::Place& SweepLevels::place_at(double hz) const {
  const std::scoped_lock held(lock_);
  return places_[hz];
}

double SweepLevels::image_power(size_t k, double hz) const {
  const double here = median(k, hz - beside_hz, hz + beside_hz), wide = around(k, hz);
  const double size = crossing(k, hz, here) ? beside_crossings(k, hz, here).value_or(wide) : here;
  const bool smooth = std::max(size, wide) < 1.084 * std::min(size, wide);  // 0.7 dB: no notch
  return smooth ? wide * wide : size * size;
}

/// Where a harmonic crosses the wanted line or an image that counts, it was taken out with that.
bool SweepLevels::harmonic_crosses(int m, double hz, const std::array<double, SweepPoint::harmonics>& db) const {
  const double pace = law_.hz_per_s(law_.at_s(hz)), size = std::pow(10, db[size_t(m - 2)] / 20);
  for (int other = 2; other <= SweepPoint::harmonics + 1; ++other) {
    if (other == m || db[size_t(other - 2)] < db[size_t(m - 2)] - 30) continue;
    for (const int apart : {std::abs(m - other), m + other})
      if (std::abs(std::remainder(hz, to_ / apart)) <
          2 * sweep_lobe_bins / sweep_window_s / apart + pace * sweep_window_s / 2)
        return true;
  }
  for (const auto& [image, loud] : counting_) {
    if (loud < disturbs * size) continue;
    for (const int sign : {1, -1}) {  // m f = +-(c from + f), modulo to
      const double at = sign * image * from_ / (m - sign), step = to_ / (m - sign);
      const double reach = pace * (responses_.gate_s / (m - sign) + sweep_window_s / 2) + blur_hz;
      if (std::abs(std::remainder(hz - at, step)) < reach) return true;
    }
  }
  return false;
}

/// How far either way of a place a crossing can disturb it: both run through the gate there.
double SweepLevels::half_width(double hz) const {
  return 0.5 * law_.hz_per_s(law_.at_s(hz)) * responses_.gate_s + blur_hz;
}

double SweepLevels::median(size_t k, double from_hz, double until_hz) const {
  const auto& value = responses_.told[k].value;
  const auto from = std::min(size_t(std::max(0.0, from_hz / responses_.bin_hz)), value.size() - 2),
             until = std::clamp(size_t(std::max(0.0, until_hz / responses_.bin_hz)) + 1, from + 1, value.size());
  std::vector<double> some;
  for (size_t j = from; j < until; j += 1 + (until - from) / 400) some.push_back(std::abs(value[j]));
  return dsp::median(some);
}

/// Images move alike, so that two of them cross where one lands mirrored on the other: 2 f = -(k + c) from, modulo
/// to. The nearest such place, of those that count.
std::optional<double> SweepLevels::crossing(size_t k, double hz, double size) const {
  const int own = responses_.told[k].image;
  for (const auto& [image, loud] : counting_) {
    if (loud < (k == 0 ? disturbs : disturbs_image) * size) continue;
    const double sum = -double(own + image) * from_;
    const double at = hz + std::remainder(sum / 2 - hz, to_ / 2);
    if (own == 0 && image == 0 && at < 0.75 * to_) continue;  // at_the_turn() tells of that
    if (at > 0 && std::abs(at - hz) < half_width(hz)) return at;
  }
  return {};
}

/// From what stands around a place clear of known crossings: the line in dB over log frequency that few
/// others can bend.
double SweepLevels::around(size_t k, double hz) const {
  const double reach = 3 * half_width(hz), lowest = law_.hz(2 * probe_fade_s),
               highest = law_.hz(law_.seconds - 2 * probe_fade_s);
  const double from = std::max({hz - reach, hz / 3, std::min(lowest, hz)}),
               until = std::min(hz + reach, std::max(highest, hz));
  std::vector<double> x, y;
  constexpr int spots = 48;
  for (const bool clear : {true, false}) {
    x.clear(), y.clear();
    for (int n = 0; n < spots; ++n) {
      const double f = from + (until - from) * (n + 0.5) / spots;
      const double size = median(k, f - 2 * responses_.bin_hz, f + 2 * responses_.bin_hz);
      if (clear && crossing(k, f, size)) continue;
      x.push_back(std::log2(f / hz)), y.push_back(std::log2(size + 1e-20));
    }
    if (x.size() >= spots / 3) break;
  }
  return std::exp2(dsp::median_line(x, y).height);
}

/// Nothing: so many cross there that neither side is near.
std::optional<double> SweepLevels::beside_crossings(size_t k, double hz, double size) const {
  double below = hz, above = hz;
  for (int n = 0; n < 4; ++n) {  // they may lie side by side
    const auto low = crossing(k, below, size), high = crossing(k, above, size);
    if (!low && !high) break;
    if (low) below = *low - 1.01 * half_width(below);
    if (high) above = *high + 1.01 * half_width(above);
  }
  if (below == above) return size;
  const bool low = below > law_.hz(2 * probe_fade_s), high = above < law_.hz(law_.seconds - 2 * probe_fade_s);
  const double under = median(k, below - 2 * beside_hz, below) + 1e-20,
               over = median(k, above, above + 2 * beside_hz) + 1e-20;
  if (!low || !high || above - below > 5 * half_width(hz)) return {};
  return under * std::pow(over / under, (hz - below) / (above - below));
}

/// Half the return's rate, where the wanted line turns into its fold: both are seen in each other's place, so that
/// their level is a straight line in dB from where they part; of a fall that ends there the two together tell the
/// middle.
double SweepLevels::at_the_turn(double turn, double away, double seen) const {
  const double width = half_width(turn);
  const double above = median(0, turn + width, turn + 1.4 * width) + 1e-20,
               below = median(0, turn - 1.4 * width, turn - width) + 1e-20;
  if (above > 0.5 * below) return below * std::pow(above / below, (away + width) / (2 * width));
  if (away < 0 && above < 1e-2 * below) return seen;
  const double middle = median(0, turn - width, turn + width) / std::numbers::sqrt2 + 1e-20;
  if (away < 0) return middle * std::pow(below / middle, -away / width);
  return std::min(seen, middle * std::pow(above / middle, away / width));
}

}  // namespace heathmist
