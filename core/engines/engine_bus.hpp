// What an engine's bus makes of a sample. Inside core/engines only.
#pragma once
#include <algorithm>
#include <cmath>

#include "core/dsp/noise.hpp"
#include "core/engines/engine.hpp"

namespace heathmist {

/// One for each channel: its dither is its own.
class EngineBus {
 public:
  explicit EngineBus(const Engine& engine, uint64_t seed = 7)
      : bus_(engine.bus),
        dither_(engine.dither),
        chance_(seed),
        step_(std::ldexp(1.0, 1 - engine.bus_bits)),
        top_(engine.clips_at_dbfs ? std::pow(10, *engine.clips_at_dbfs / 20) : 1e300) {}
  double carry(double v) {
    if (bus_ == Engine::Bus::single) v = double(float(v));
    if (bus_ == Engine::Bus::fixed) v = step_ * std::nearbyint(v / step_ + (dither_ ? chance_.triangular() : 0));
    return std::clamp(v, -top_, top_);
  }

 private:
  Engine::Bus bus_;
  bool dither_;
  dsp::Noise chance_;
  double step_, top_;
};

}  // namespace heathmist
