// Whether the upper side of a spectrum is an image of the lower one.
#pragma once
#include "core/audio/clip.hpp"

namespace heathmist {

/// Share of the power, 0 to 1, that keeps its phase between what lies up to `reach_hz` above a frequency and the
/// conjugate of what lies under it (magnitude-squared coherence: Carter, Proc. IEEE 75, 1987), less what chance gives:
/// of an image the product of both turns as that frequency's double does, block after block. 0 of what is as coherent
/// about neighbouring frequencies, as notes are that come on a grid, all alike, and of fewer than four blocks. Reads 16
/// s in the middle. Throws Cancelled.
double coherence_with_mirror(const Clip& clip, double about_hz, double reach_hz, const Job& job = {});

}  // namespace heathmist
