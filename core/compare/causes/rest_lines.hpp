// What of a rest stands in lines, and which of them are no programme's that was there before: evidence that something
// with notes of its own was added.
#pragma once
#include "core/compare/causes/excerpt.hpp"

namespace heathmist::causes {

struct RestLines {
  double share = 0;  ///< of the rest's power that stands in lines; of noise of whatever colour next to none does
  double own = 0;  ///< of the lines' power: where the programme had nothing within 10 dB, nor in the two seconds before
  int count = 0;   ///< lines of the channel that has most
};

/// By spectra of 8192 frames: a line is a peak of their mean that rises 6 dB out of what lies around it. What a filter,
/// a tail, an echo, a gain or a curve makes of a programme has no lines of its own.
RestLines lines_in_rest(const Excerpt& excerpt, const Planar& model);

}  // namespace heathmist::causes
