// A part of an excerpt, for a first look.
#pragma once
#include "core/compare/causes/excerpt.hpp"

namespace heathmist::causes {

/// Parts of an excerpt, no more than `most_samples` in all: of its first stretch the start, of its last the end, of
/// others where the residual is greatest. For a first look: what is found there is estimated again in all of it.
Excerpt outline_of(const Excerpt& excerpt, int64_t most_samples);

}  // namespace heathmist::causes
