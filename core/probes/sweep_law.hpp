// A frequency that moves, in closed form: its phase is exact at any time.
#pragma once

namespace heathmist {

/// From low_hz at 0 s to high_hz at `seconds`: evenly, or by even ratios (Farina 2000).
struct SweepLaw {
  double low_hz = 0, high_hz = 0, seconds = 0;
  bool logarithmic = false;
  double cycles(double t_s) const;
  double hz(double t_s) const;
  double hz_per_s(double t_s) const;
  double at_s(double hz) const;  ///< when it passes a frequency
};

}  // namespace heathmist
