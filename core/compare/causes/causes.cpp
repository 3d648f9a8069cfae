// The list of causes, in the order in which they are tried.
#include "core/compare/causes/estimates.hpp"

namespace heathmist::causes {

const std::vector<Estimate>& all() {
  //  code, dB that it must take out, dB by which it must beat a simpler one, structural, how it is estimated
  static const std::vector<Estimate> list{
      {"mute", 0.05, 0, false, estimate_mute},       {"channels", 0.5, 0, true, estimate_mixing},
      {"fade", 1, 0.5, true, estimate_fade},         {"gain_step", 1, 1, true, estimate_gain_step},
      {"clip", 1, 0.5, true, estimate_clip},         {"distortion", 1, 2, true, estimate_curve},
      {"dc", 0.02, 0, false, estimate_dc},           {"lines", 0.02, 0.5, false, estimate_lines},
      {"clicks", 0.1, 1, false, estimate_clicks},    {"echo", 1, 2, true, estimate_echo},
      {"filter", 1, 3, true, estimate_filter},       {"gain_ride", 1.5, 4, true, estimate_gain_ride},
      {"dynamics", 1.5, 4, true, estimate_dynamics}, {"wow", 10, 4, true, estimate_wow},
  };
  return list;
}

}  // namespace heathmist::causes
