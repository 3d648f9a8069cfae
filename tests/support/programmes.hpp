// Programmes that are not the demo's: one function for each sort of music or speech, all by chance from a seed.
#pragma once
#include <string>
#include <vector>

#include "core/audio/planar.hpp"

namespace heathmist::test {

/// dense, piano, speech, wide, near_mono, loop, from_silence, bass, swells, drone, drums, choir
const std::vector<std::string>& programme_names();

/// Two channels, peak 0.7, rounded to 24 bits with dither (none in digital silence).
Planar programme(const std::string& name, int rate_hz, double seconds, uint64_t seed);

}  // namespace heathmist::test
