// Where a clip comes from, as far as its spectrum tells: where its band stops and how steeply, images, steady tones,
// hum.
#pragma once
#include <optional>
#include <vector>

#include "core/audio/clip.hpp"

namespace heathmist {

struct SteadyTone {
  double hz = 0, dbfs = 0;  ///< RMS level
};

struct Origin {
  std::optional<double> bandwidth_hz;     ///< as in measure/spectrum.hpp
  double steepness_db = 0;                ///< fall from 1/12 octave under the edge to 1/12 octave above it
  std::optional<double> ultrasonic_dbfs;  ///< RMS above 24 kHz, for clips that can carry that
  std::optional<double> folded_about_hz;  ///< the spectrum is mirrored about this frequency: images of a lower rate
  double fold_likeness = 0;               ///< correlation of the fine structure on both sides, 0..1
  std::vector<SteadyTone> pilot_tones;    ///< lines that never move, from 14 kHz up, strongest first
  std::optional<double> hum_hz;           ///< 50 or 60
  double hum_dbfs = 0;                    ///< RMS of its lines
  std::vector<SteadyTone> hum_lines;
};

/// Studies up to 160 blocks of about 1.4 s, evenly spread.
Origin study_origin(const Clip& clip, const Job& job = {});

}  // namespace heathmist
