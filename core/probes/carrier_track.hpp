// The gains of one or two carriers (engine_kinds.hpp) over time, sample by sample. Inside core/probes only.
#pragma once
#include "core/audio/clip.hpp"
#include "core/probes/engine_kinds.hpp"

namespace heathmist {

/// Times are the probe's; 1: as loud as at rest.
struct CarrierTrack {
  double first_s = 0, step_s = 0;  ///< of the gains
  std::vector<double> a, b;        ///< of the carrier; of a second one a quarter turn on, where it was asked for
  double noise = 0;                ///< rms of what is no gain, at rest
  double level_db = 0;             ///< at rest, against the probe
  double spread_s = 0;             ///< half the foot of the triangle that gains are averaged over; 0: none are
  int64_t frames() const { return int64_t(a.size()); }
  double time(double frame) const { return first_s + frame * step_s; }
  double frame(double s) const { return (s - first_s) / step_s; }
  double at(double s) const;  ///< of the first carrier
  /// Mean of a gain over a stretch.
  double mean(const std::vector<double>& gain, Stretch where) const;
};

struct CarrierRest {
  Stretch a{}, b{};  ///< where either stands alone, with nothing done to it; of the first alone b is empty
};
/// Least squares over all channels at every sample: where two carry the sine and the cosine of one phase it is exact at
/// each; where noise stands over `quiet` or one channel is all there is, over a triangle of two periods.
/// Throws InputError where the carrier is not there.
CarrierTrack track_carriers(const Clip& ret, const ProbeScore& score, const ProbeFit& fit, const CarrierRest& rest,
                            const Job& job = {});

}  // namespace heathmist
