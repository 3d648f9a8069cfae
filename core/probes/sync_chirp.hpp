// The sync mark: a chirp that is known at any time, whatever the rate. Inside core/probes only.
#pragma once
#include <complex>

namespace heathmist::sync_chirp {

constexpr double seconds = 0.3, low_hz = 400, high_hz = 3200, level = 0.25;
constexpr double dbfs = -12.0411998265592;  // as it is written at its loudest

/// The chirp at a time after its start, as an analytic signal; its real part is what is heard.
std::complex<double> analytic(double t_s);
inline double value(double t_s) { return analytic(t_s).real(); }

/// From the first mark to the second: tells which of the known rates a probe has.
inline double spacing_s(int rate_place) { return 0.5 + 0.02 * rate_place; }

}  // namespace heathmist::sync_chirp
