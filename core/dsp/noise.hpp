// Reproducible chance: the same numbers on every machine.
#pragma once
#include <cstdint>

namespace heathmist::dsp {

/// xoshiro256** (Blackman and Vigna 2018), seeded by splitmix64.
class Noise {
 public:
  explicit Noise(uint64_t seed);
  uint64_t bits();
  double uniform();                         ///< [0, 1)
  double between(double low, double high);  ///< [low, high)
  double triangular();                      ///< (-1, 1), variance 1/6
  double gaussian();  ///< variance 1: sum of twelve uniform values, so that no libm rounding matters

 private:
  uint64_t state_[4];
};

}  // namespace heathmist::dsp
