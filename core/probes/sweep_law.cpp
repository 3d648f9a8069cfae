#include "core/probes/sweep_law.hpp"

#include <cmath>

namespace heathmist {

double SweepLaw::cycles(double t) const {
  if (!logarithmic) return low_hz * t + 0.5 * (high_hz - low_hz) / seconds * t * t;
  const double pace = seconds / std::log(high_hz / low_hz);
  return low_hz * pace * std::expm1(t / pace);
}
double SweepLaw::hz(double t) const {
  return logarithmic ? low_hz * std::pow(high_hz / low_hz, t / seconds) : low_hz + (high_hz - low_hz) * t / seconds;
}
double SweepLaw::hz_per_s(double t) const {
  return logarithmic ? hz(t) * std::log(high_hz / low_hz) / seconds : (high_hz - low_hz) / seconds;
}
double SweepLaw::at_s(double f) const {
  return logarithmic ? seconds * std::log(f / low_hz) / std::log(high_hz / low_hz)
                     : seconds * (f - low_hz) / (high_hz - low_hz);
}

}  // namespace heathmist
