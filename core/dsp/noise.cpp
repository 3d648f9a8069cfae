#include "core/dsp/noise.hpp"

#include <bit>

namespace heathmist::dsp {

Noise::Noise(uint64_t seed) {
  for (auto& word : state_) {
    seed += 0x9e3779b97f4a7c15ULL;
    uint64_t z = seed;
    z = (z ^ (z >> 30)) * 0xbf58476d1ce4e5b9ULL;
    z = (z ^ (z >> 27)) * 0x94d049bb133111ebULL;
    word = z ^ (z >> 31);
  }
}

uint64_t Noise::bits() {
  const uint64_t result = std::rotl(state_[1] * 5, 7) * 9, t = state_[1] << 17;
  state_[2] ^= state_[0];
  state_[3] ^= state_[1];
  state_[1] ^= state_[2];
  state_[0] ^= state_[3];
  state_[2] ^= t;
  state_[3] = std::rotl(state_[3], 45);
  return result;
}

double Noise::uniform() { return double(bits() >> 11) * 0x1p-53; }
double Noise::between(double low, double high) { return low + (high - low) * uniform(); }
double Noise::triangular() {
  const double a = uniform();
  return a - uniform();
}
double Noise::gaussian() {
  double sum = -6;
  for (int n = 0; n < 12; ++n) sum += uniform();
  return sum;
}

}  // namespace heathmist::dsp
