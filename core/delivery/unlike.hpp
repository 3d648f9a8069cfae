// What is said of two clips that do not belong together.
#pragma once
#include "core/audio/clip.hpp"
#include "core/printable.hpp"

namespace heathmist {

inline InputError unlike(const Clip& master, const Clip& ret) {
  return InputError(ret.path(), "it does not lie on " + printable(master.path()) +
                                    " anywhere: the two do not sound alike; choose the master that it came from");
}

}  // namespace heathmist
