// The first look at a whole clip, in one pass on all cores: its outline, levels, clipped runs and the bits it uses.
#pragma once
#include <optional>
#include <vector>

#include "core/measure/overview.hpp"

namespace heathmist {

struct Levels {
  double sample_peak = 0;             ///< greatest |sample|, full scale = 1
  double mean_square = 0;             ///< of all samples of all channels
  std::vector<double> dc_offset;      ///< full scale, per channel
  int64_t clipped_runs = 0;           ///< runs of three or more equal full-scale samples, channel by channel
  std::optional<double> first_run_s;  ///< where the first of them starts
  std::optional<int> bits_used;       ///< fewest bits that carry every sample; none for float or lossy
};

struct Survey {
  Overview overview;
  Levels levels;
};

/// Surveys a clip. Throws InputError where a sample is no number or infinite, saying where.
Survey survey(const Clip& clip, const Job& job = {});

/// The same, kept between runs in the user's cache by the file's fingerprint.
Survey cached_survey(const Clip& clip, const Job& job = {});

}  // namespace heathmist
