// Sections of an EQ fitted to a measured response.
#pragma once
#include <complex>
#include <vector>

#include "core/compare/causes/eq_section.hpp"

namespace heathmist::causes {

/// A measured response at one frequency.
struct ShapePoint {
  double hz = 0, db = 0, weight = 0;
  std::complex<double> h{};
  double variance_db2 = 0;  ///< of the magnitude, by chance
};

/// Sections over a flat part at some level.
struct EqSetting {
  std::vector<EqSection> sections;
  double flat_db = 0;
};

/// A measured magnitude that sections are fitted to, in dB, point by point weighted; deeper than -45 dB is as good as
/// gone.
class EqFit {
 public:
  EqFit(const std::vector<ShapePoint>& points, double rate_hz);
  /// RMS error of a setting in dB, weighted.
  double error_of(const EqSetting& setting) const;
  /// Sum of the squared errors, each against what chance and the measurement leave there (0.1 dB at least): a section
  /// that takes no more off it than its numbers would off noise tells nothing.
  double chi_square_of(const EqSetting& setting) const;
  /// Moves every number of a setting, the flat part's level too, to the nearest least squares (Levenberg and Marquardt)
  /// and returns the error there.
  double refine(EqSetting& setting, int rounds) const;
  /// Measured less the setting's, at every point.
  std::vector<double> left_of(const EqSetting& setting) const;

 private:
  void times_power(const EqSection& section, std::vector<double>& power) const;  // multiplies each point's
  std::vector<double> response_db(const EqSetting& setting) const;
  double rms_of(const std::vector<double>& left) const;
  std::vector<std::vector<double>> slopes_of(const EqSetting& setting) const;  // a list a number, a value a point

  const std::vector<ShapePoint>& points_;
  double rate_, weight_ = 0;
  std::vector<double> half_sine2_;  // of half the angle of each point, squared
};

}  // namespace heathmist::causes
