// Which of two versions a file was made from, although a codec stood between.
#pragma once
#include "core/audio/clip.hpp"
#include "core/job.hpp"

namespace heathmist {

/// How much of `difference` (another version less the master) is in `residual` (a file less the master), all three on
/// the master's time axis and at its rate: 0: the file was made from the master, 1: from the other one. By least
/// squares over the bins of a Welch spectrum (4096, Hann) in which the file is coherent with the master by 0.98 and
/// more: what a coder has replaced or left out there says nothing. `error`: its standard error; 1 where nothing can be
/// told.
struct VersionShare {
  double share = 0, error = 1;
};
VersionShare version_share(const Clip& master, const Clip& residual, const Clip& difference, const Job& job = {});

}  // namespace heathmist
