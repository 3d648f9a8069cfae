// True peaks: the greatest value of the wave itself, between samples too (ITU-R BS.1770-5 annex 2, at eightfold rate).
#pragma once
#include <optional>
#include <vector>

#include "core/audio/clip.hpp"
#include "core/measure/overview.hpp"

namespace heathmist {

/// A moment above a limit: its highest true peak, and where. Moments less than 100 ms apart are one.
struct Over {
  double at_s = 0, dbtp = 0;
  int channel = 0;
};

struct TruePeaks {
  std::optional<double> dbtp;  ///< greatest of all channels; nothing for silence
  double at_s = 0;
  int channel = 0;
  std::vector<Over> overs;  ///< above the limit, in order, up to 1000
};

/// Reads the whole clip.
TruePeaks true_peaks(const Clip& clip, double limit_dbtp = 0, const Job& job = {});

/// Only the moments above 0 dBTP, read where the overview shows samples within 3 dB of full scale.
std::vector<Over> find_overs(const Clip& clip, const Overview& overview, const Job& job = {});

}  // namespace heathmist
