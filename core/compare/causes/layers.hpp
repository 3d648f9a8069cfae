// The causes of a pair as layers that are put into the programme, one after the other, until the return stands there.
#pragma once
#include <vector>

#include "core/compare/causes/cause.hpp"
#include "core/compare/continuity.hpp"

namespace heathmist {

namespace causes {

struct Layer {
  Stands stands;
  PutIn put_in;
  double reach_s = 0;
};

/// Calls what(n) for n of [0, count) in the order in which causes happen: to the programme, beside it, over all.
template <class StandsOf, class What>
void in_order(size_t count, StandsOf stands, What what) {
  for (const Stands place : {Stands::in_programme, Stands::beside_it, Stands::over_all})
    for (size_t n = 0; n < count; ++n)
      if (stands(n) == place) what(n);
}

}  // namespace causes

/// What is needed to hear each cause by itself (audition.hpp).
struct Layers {
  std::vector<causes::Layer> layers;
  Continuity jumps;         ///< that were undone first
  bool own_delays = false;  ///< then every channel was laid by its own delay
  double gain_db = 0;       ///< and turned down by so much beyond the fit's gain
};

}  // namespace heathmist
