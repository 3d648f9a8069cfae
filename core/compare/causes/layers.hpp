// The causes of a pair as layers that are put into the programme, one after the other, until the return stands there.
#pragma once
#include <algorithm>
#include <functional>
#include <numeric>
#include <utility>
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
  size_t turn = 0;  ///< among all layers, where that is not the order in which they are told
};

/// Calls what(n) for n of [0, count) in the order in which causes happen: to the programme, beside it, over all; each
/// of these by turns. `place_of(n)`: what Stands it has, and its turn.
template <class PlaceOf, class What>
void in_order(size_t count, PlaceOf place_of, What what) {
  std::vector<size_t> order(count);
  std::iota(order.begin(), order.end(), size_t(0));
  std::ranges::stable_sort(order, {}, [&](size_t n) -> std::pair<Stands, size_t> { return place_of(n); });
  for (const size_t n : order) what(n);
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
