// How a return was cut to its word length: rounded or truncated, with which dither. Told by the error it made.
#pragma once
#include <algorithm>
#include <cmath>
#include <optional>
#include <vector>

#include "core/compare/sums.hpp"

namespace heathmist {

/// Probability densities of the total error in steps (Lipshitz, Wannamaker and Vanderkooy, "Quantization and dither: a
/// theoretical survey", JAES 40, 1992): plain rounding is uniform over one step (variance 1/12); rectangular dither of
/// one step makes it 1/6 within +-1; triangular of two steps 1/4 within +-1.5.
enum class Dither { none, rectangular, triangular, shaped, other };
const char* name_of(Dither dither);

/// The moments of an error in steps, and which way it leans.
struct WordError {
  double mean = 0, variance = 0, reach = 0;
  /// What the value's sign makes of it, by least squares beside what the value does (which a gain that was fitted to
  /// both takes away): -1/2 where the fraction was left out, as conversion to an integer does in most languages.
  double outwards = 0;
  double by_value = 0;          ///< ... and what the value does, a step of it
  double upright_variance = 0;  ///< without both
  /// Half a step down on average, whatever the value.
  bool is_truncated(double tolerance) const { return std::abs(std::abs(mean) - 0.5) < tolerance; }
  bool is_towards_zero(double tolerance) const {
    return !is_truncated(tolerance) && std::abs(outwards + 0.5) < tolerance;
  }
  /// Without what truncation makes of it.
  double dither_variance(double tolerance) const { return is_towards_zero(tolerance) ? upright_variance : variance; }
};

class WordErrorSums {
 public:
  /// `error` and `value` in steps; of less than two steps it is not known which way zero lies.
  void add(double error, double value) {
    sum_ += error, square_ += error * error, reach_ = std::max(reach_, std::abs(error)), count_ += 1;
    if (std::abs(value) < 2) return;
    with_sign_ += std::copysign(error, error * value), with_value_ += error * value, size_ += std::abs(value);
    values_ += value * value, of_signed_ += error * error, signed_ += 1;
  }
  void add(const WordErrorSums& other);
  WordError moments() const;

 private:
  double sum_ = 0, square_ = 0, reach_ = 0, count_ = 0;
  double with_sign_ = 0, with_value_ = 0, size_ = 0, values_ = 0, of_signed_ = 0, signed_ = 0;
};

/// Noise shaping moves an error about the band, and leaves the mean of its logarithm (Gerzon and Craven, "Optimal noise
/// shaping and dither of digital signals", AES 87th convention, 1989): a loop's error is no more than this, in steps
/// squared, as the geometric mean over all bins, each times their number (white noise: its variance). Triangular dither
/// leaves a quarter.
inline constexpr double most_shaped_log_mean = 0.6;
/// Of a spectrum whose bins sum to the variance.
double log_mean_density(const std::vector<double>& power);

struct Requantisation {
  int bits = 0;
  bool truncated = false;  ///< down, or towards zero
  bool towards_zero = false;
  Dither dither = Dither::none;
  double mean_steps = 0, variance_steps2 = 0, peak_steps = 0;  ///< of the error, in steps of the return
  double tilt_db = 0;  ///< error density in the top quarter of the band against the lowest quarter
};

/// Studies the error of a return of `bits` bits that differs in nothing else: whole delay, unchanged level. Nothing
/// where the error does not look like one of requantising.
std::optional<Requantisation> study_requantising(const Clip& master, const Clip& ret, const Fit& fit,
                                                 const ResidualSums& sums, int bits, const Job& job = {});

}  // namespace heathmist
