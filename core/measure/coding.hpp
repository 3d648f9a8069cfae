// Traces of a lossy coder in plain samples: at the place of its frames, and nowhere else, its own transform gives
// coefficients of which many are nothing at all. Herre and Schug, "Analysis of decompressed audio: the inverse
// decoder", AES 109th convention, 2000, preprint 5256.
#pragma once
#include <optional>
#include <string>

#include "core/audio/clip.hpp"
#include "core/json.hpp"

namespace heathmist {

struct CodingTrace {
  std::string family;                ///< mp3, aac, vorbis, opus, mp2
  double confidence = 0;             ///< 0.5 .. 1
  int64_t frame_offset = 0;          ///< frames into the clip at which a block of the coder starts, less than its hop
  std::optional<double> about_kbps;  ///< by how many coefficients are more than nothing
  double depth_db = 0;               ///< by how much the coefficients are smaller at that place than elsewhere
  double agreeing = 0;               ///< share of the studied blocks that say so
};

/// Tries the transforms of the known coders at every offset, over blocks spread over the clip. Nothing where no offset
/// stands out. Throws InputError, Cancelled.
std::optional<CodingTrace> find_coding(const Clip& clip, const Job& job = {});

/// {"family", "confidence", "about_kbps", "frame_offset"}, as `lossy_origin` has it.
Json coding_json(const CodingTrace& trace);
/// The same of a clip, null where it bears no traces, or comes from a lossy file itself.
Json lossy_origin_json(const Clip& clip, const Job& job = {});

}  // namespace heathmist
