#include "app/theme/position.hpp"

#include <algorithm>
#include <cmath>

#include "app/theme/theme.hpp"

namespace heathmist::app {

namespace {

/// Digits behind the point that a number needs, up to so many.
int decimals_of(double value, int most) {
  int decimals = 0;
  for (double step = 1; decimals < most && std::abs(value / step - std::round(value / step)) > 1e-6; step /= 10)
    ++decimals;
  return decimals;
}

/// 2 992 800, with spaces where no line breaks.
QString grouped(double samples) {
  QString digits = QString::number(std::llround(std::abs(samples)));
  for (qsizetype at = digits.size() - 3; at > 0; at -= 3) digits.insert(at, QChar(0xa0));
  return std::llround(samples) < 0 ? QChar(0x2212) + digits : digits;
}

double round_step(std::initializer_list<double> steps, double wanted, double beyond) {
  for (const double step : steps)
    if (step >= wanted) return step;
  return beyond;
}

/// 1, 2 or 5 times a power of ten.
double decimal_step(double wanted) {
  const double tens = std::pow(10, std::floor(std::log10(wanted)));
  return tens * round_step({1, 2, 5}, wanted / tens * (1 - 1e-12), 10);
}

}  // namespace

Positions& Positions::instance() {
  static Positions positions;
  return positions;
}

void Positions::set_unit(Unit unit) {
  if (std::exchange(unit_, unit) != unit) emit changed();
}

void Positions::set_tempo(Tempo tempo) {
  tempo.bpm = std::isfinite(tempo.bpm) ? std::clamp(tempo.bpm, 10.0, 999.0) : 120;
  tempo.beats = std::clamp(tempo.beats, 1, 32);
  if (!std::isfinite(tempo.first_beat_s)) tempo.first_beat_s = 0;
  if (std::exchange(tempo_, tempo) != tempo && unit_ == Unit::beats) emit changed();
}

void Positions::set_rate(double hz) {
  if (std::exchange(rate_hz_, hz) != hz && unit_ == Unit::samples) emit changed();
}

/// The first beat is that of bar 1; what comes before it counts down from bar 0.
QString Positions::in_bars(double seconds, int decimals) const {
  const double tenth = std::pow(10, decimals);
  const double beats = std::floor((seconds - tempo_.first_beat_s) / beat_s() * tenth + 1e-6) / tenth;
  const double bar = std::floor(beats / tempo_.beats + 1e-9);
  const double beat = std::max(0.0, beats - bar * tempo_.beats) + 1;
  return QString("%1 %2 %3").arg(number(bar + 1, 0), QChar(0xb7), number(beat, decimals));
}

QString Positions::text(double seconds, int decimals) const {
  if (unit_ == Unit::samples) return grouped(std::round(seconds * rate_hz_));
  return unit_ == Unit::beats ? in_bars(seconds, decimals) : clock(seconds, decimals);
}

QString Positions::tick(double seconds) const {
  if (unit_ == Unit::samples) return grouped(std::round(seconds * rate_hz_));
  if (unit_ == Unit::time) return clock(seconds, decimals_of(seconds, 5));
  const double beats = (seconds - tempo_.first_beat_s) / beat_s();
  if (std::abs(std::remainder(beats, tempo_.beats)) < 1e-6) return number(std::round(beats / tempo_.beats) + 1, 0);
  return in_bars(seconds, decimals_of(beats, 3));
}

double Positions::step(double wanted_s) const {
  if (unit_ == Unit::samples) {
    constexpr double wider = 1.5;  // its figures take more room
    return std::max(1.0, decimal_step(std::max(1e-9, wanted_s * wider * rate_hz_))) / rate_hz_;
  }
  if (unit_ == Unit::time)
    return round_step({1e-5, 2e-5, 5e-5, 1e-4, 2e-4, 5e-4, 1e-3, 2e-3, 5e-3, 0.01, 0.02, 0.05, 0.1,  0.2,
                       0.5,  1,    2,    5,    10,   20,   30,   60,   120,  300,  600,  1200, 1800, 3600},
                      wanted_s, 7200);
  const double beats = wanted_s / beat_s();
  if (beats <= 1) return beat_s() * round_step({0.001, 0.01, 0.1, 0.25, 0.5, 1}, beats, 1);
  const double bars = beats / tempo_.beats;
  return beat_s() * tempo_.beats * round_step({1, 2, 4, 8, 16, 32, 64, 128, 256, 512, 1024}, bars, 4096);
}

}  // namespace heathmist::app
