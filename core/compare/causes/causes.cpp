// The list of causes, in the order in which they are tried.
#include <algorithm>
#include <set>

#include "core/compare/causes/estimates.hpp"

namespace heathmist::causes {

const std::vector<Estimate>& all() {
  //  code, dB that it must take out, dB by which it must beat a simpler one, where it stands, how it is estimated,
  //  beside which
  static const std::vector<Estimate> list{
      {"mute", 0.05, 0, Stands::over_all, estimate_mute},
      {"channels", 0.5, 0, Stands::in_programme, estimate_mixing},
      {"fade", 1, 0.5, Stands::in_programme, estimate_fade},
      {"other_fade", 1, 0.5, Stands::in_programme, estimate_fade, "fade"},  // at the other end
      {"gain_step", 1, 1, Stands::in_programme, estimate_gain_step},
      {"clip", 1, 0.5, Stands::in_programme, estimate_clip},
      {"distortion", 1, 2, Stands::in_programme, estimate_curve},
      {"dc", 0.02, 0, Stands::beside_it, estimate_dc},
      {"lines", 0.02, 0.3, Stands::beside_it, estimate_lines},
      {"clicks", 0.1, 1, Stands::beside_it, estimate_clicks},
      {"echo", 1, 2, Stands::in_programme, estimate_echo},
      {"filter", 1, 3, Stands::in_programme, estimate_filter},
      {"mid_side", 1, 4, Stands::in_programme, estimate_mid_side},
      {"room", 1, 4, Stands::in_programme, estimate_room},
      {"tremolo", 1.5, 2, Stands::in_programme, estimate_tremolo},
      {"gain_ride", 1.5, 4, Stands::in_programme, estimate_gain_ride},
      {"dynamics", 1.5, 4, Stands::in_programme, estimate_dynamics},
      {"wow", 5, 4, Stands::in_programme, estimate_wow},
  };
  return list;
}

const Estimate& named(std::string_view code) {
  return *std::find_if(all().begin(), all().end(), [&](const Estimate& e) { return e.code == code; });
}

}  // namespace heathmist::causes

namespace heathmist {

bool Cause::is_of_the_fit() const {
  static const std::set<std::string> codes{"delay", "drift", "gain", "swap", "polarity", "conversion"};
  return codes.contains(code);
}

}  // namespace heathmist
