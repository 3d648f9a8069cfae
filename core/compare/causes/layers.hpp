// The causes of a pair as layers that are put into the programme, one after the other, until the return stands there.
#pragma once
#include <functional>
#include <vector>

#include "core/audio/planar.hpp"
#include "core/compare/continuity.hpp"

namespace heathmist {

namespace causes {

struct Places;

/// Puts a cause into samples of a model of the return, so that what is left has it taken out. Nothing is done where the
/// cause is not known: outside of what it was found in, where it has a course of its own.
using PutIn = std::function<void(const Places& where, Planar& model)>;

/// Where a cause stands: done to the programme; added beside it, which nothing done to it changes; or over both.
enum class Stands { in_programme, beside_it, over_all };

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
