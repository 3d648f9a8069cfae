// The linear path from master to return, and the residual split by it: what level, EQ and phase explain, and the
// remainder (distortion, coding noise, dither, added noise).
//
// The path is estimated as the difference path D from the master's channels to the residual, by least squares on
// averaged cross-spectra (Bendat and Piersol, "Random Data", 4th ed., ch. 6 and 7: several inputs, one output), then
// refined: the estimate is run as a filter, and what is left is estimated again. A window sees a path that takes time
// tau short by (tau / window)^2; each round squares that error. With one or two pairs the path goes across the channels
// too.
#pragma once
#include <complex>
#include <vector>

#include "core/compare/sums.hpp"

namespace heathmist {

struct LinearPath {
  double bin_hz = 0;
  double blocks = 0;  ///< independent averages behind it
  /// difference[pair][input][bin]: from the master's channel of pair `input` to the residual of `pair`.
  std::vector<std::vector<std::vector<std::complex<double>>>> difference;
  std::vector<std::vector<double>> coherence;     ///< [pair][bin] of master and return, squared, 0..1
  std::vector<std::vector<double>> master_power;  ///< [pair][bin], for weighting

  bool empty() const { return difference.empty(); }
  /// Response of a pair's own channel: 1 where nothing was changed.
  std::complex<double> response(size_t pair, size_t bin) const { return 1.0 + difference[pair][pair][bin]; }
};

/// The residual over frequency, mean over pairs; the bins of each sum to mean squares, as in Spectrum.
struct Split {
  LinearPath path;
  Spectrum master, residual, linear, remainder;
  double linear_power = 0, remainder_power = 0;  ///< mean squares over the overlap
  bool empty() const { return path.empty(); }
};

/// Splits the residual of a fitted pair. Empty where the overlap is too short (under 2048 frames) or silent.
Split split_residual(const Clip& master, const Clip& ret, const Fit& fit, const ResidualSums& sums,
                     const Job& job = {});

/// The path over a band: mean over all pairs, weighted with the master's power.
struct PathBand {
  double low_hz = 0, high_hz = 0;
  double master = 0, residual = 0, linear = 0, remainder = 0;  ///< mean squares in the band
  double magnitude_db = 0;                                     ///< level of the return against the master
  double phase_deg = 0;                                        ///< positive: the return leads
  double delay_ms = 0;                                         ///< group delay, positive: the return is late
  double coherence = 0;                                        ///< squared
  double magnitude_error_db = 0, phase_error_deg = 0;          ///< standard errors (Bendat and Piersol, table 9.6)
};
/// Bands of 1/`fraction` octave with centres 1000 * 2^(n / fraction) Hz from 20 Hz to the top.
std::vector<PathBand> path_bands(const Split& split, int fraction);

/// Level at which pair `from`'s master channel reaches pair `to`, in dB, mean over 100 Hz .. 10 kHz weighted with the
/// master's power; nothing where it is under what chance gives.
std::optional<double> crosstalk_db(const Split& split, size_t from, size_t to);

}  // namespace heathmist
