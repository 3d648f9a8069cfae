// Cue points of a WAV file: places and stretches with a label each ("cue " and "LIST" "adtl" chunks, Multimedia
// Programming Interface and Data Specifications 1.0, IBM and Microsoft 1991).
#pragma once
#include <cstdint>
#include <span>
#include <string>
#include <utility>
#include <vector>

namespace heathmist {

struct CuePoint {
  int64_t frame = 0, frames = 0;  ///< frames 0: a place
  std::string label;              ///< UTF-8
};

/// The chunks, {identifier, bytes}; none where there are no points. Throws std::invalid_argument where a place lies
/// beyond what 32 bits count.
std::vector<std::pair<std::string, std::string>> cue_chunks(std::span<const CuePoint> points);

}  // namespace heathmist
