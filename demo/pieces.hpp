// Curlew Hours by the Sluice Quartet, recorded in a tide mill that never was: five pieces, synthesised.
#pragma once
#include "core/audio/planar.hpp"

namespace heathmist::demo {

struct Piece {
  const char* name;
  const char* file;
  int sample_rate_hz;
  int bits;
  Planar sound;
};

Piece mill_race();                  ///< 96 kHz, 24 bit: machinery, strings and bells; loud and dense
Piece slack_water();                ///< 96 kHz, 24 bit: low drones and bells; quiet and wide
Piece lantern_walk(uint64_t take);  ///< 44.1 kHz, 16 bit: a waltz for plucked strings; every take is played anew
Piece spoken_tide();                ///< 48 kHz, 24 bit: a voice over water
Piece weir_by_lamplight();          ///< 96 kHz, 24 bit: bells over a weir, and a lamp's supply that sings at 27.4 kHz

}  // namespace heathmist::demo
