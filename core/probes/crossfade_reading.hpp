// Reading a crossfade back: the curve of either clip, and what they come to together.
#pragma once
#include <optional>
#include <string>
#include <vector>

#include "core/audio/clip.hpp"
#include "core/probes/probe.hpp"

namespace heathmist {

enum class FadeLaw { linear, raised_cosine, equal_power, square_root, logarithmic, other };
const char* name_of(FadeLaw law);
/// How far a clip that fades in has come a share of the way in; one that fades out is its mirror. `bend`: of
/// `logarithmic`, log(1 + bend x) / log(1 + bend).
double fade_gain(FadeLaw law, double share, double bend = 9);

struct CrossfadeReading {
  FadeLaw law = FadeLaw::other, law_a = FadeLaw::other, law_b = FadeLaw::other;
  double bend = 0;        ///< of `logarithmic`
  double law_fit_db = 0;  ///< greatest departure where a gain is above -40 dB, of the law that fits best
  double from_s = 0, length_s = 0;
  double middle_a_db = 0, middle_b_db = 0;
  double unlike_db = 0, like_db = 0;  ///< greatest departure of the level from 0 dB, for correlations of 0 and 1
  std::vector<std::pair<double, double>> correlated_db;  ///< the same for other correlations
  double corner = 0;          ///< greatest jump of slope over 2 % of the fade, per fade length
  double second_late_ms = 0;  ///< of the second clip, against where the score puts it
  struct Point {
    double at_s = 0, a = 0, b = 0;
    double level_db(double correlation) const;  ///< of two sources as loud as each other
  };
  std::vector<Point> curve;  ///< amplitudes, from a tenth before to a tenth after it
};
/// Throws InputError where either clip is not there or nothing fades, Cancelled.
CrossfadeReading read_crossfade(const Clip& ret, const ProbeScore& score, const ProbeFit& fit, const Job& job = {});

/// Greatest departure of the level from 0 dB for a pair of gains over a fade and sources of a correlation.
double departure_db(const std::vector<CrossfadeReading::Point>& curve, double correlation);

}  // namespace heathmist
