// Where the residual comes closest to the programme: by third octave, by moment, and against what the programme masks.
#pragma once
#include "core/compare/sums.hpp"

namespace heathmist {

struct DepthBand {
  double centre_hz = 0;             ///< nominal, IEC 61260 base two: 1000 * 2^(n/3)
  double master = 0, residual = 0;  ///< mean squares
  std::optional<double>
      depth_db;  ///< residual against master; nothing where either is silent (master: under -120 dBFS)
};
std::vector<DepthBand> third_octave_depth(const ResidualSums& sums);

/// Levels by third octave on other third octaves, as those of another rate are; -200 where there is none.
std::vector<double> on_third_octaves(const std::vector<double>& hz, const std::vector<double>& of_hz,
                                     const std::vector<double>& db);

struct CloseMoment {
  double at_s = 0, low_hz = 0, high_hz = 0;  ///< of the closest cell
  double depth_db = 0;                       ///< of all bands together, at that moment
  double cell_db = 0;                        ///< of the closest cell
};
/// Up to `most` moments, closest first, at least `apart_s` from each other; cells under -96 dBFS are left out.
std::vector<CloseMoment> closest_moments(const DepthCells& cells, size_t most = 10, double apart_s = 1);

/// columns x bands of dB: of so many columns together the greatest by band, for a picture with fewer pixels than
/// columns. What is no number counts only where there is nothing else.
std::vector<float> greatest_of(const std::vector<float>& db, int bands, int together);

/// Residual against the masking threshold of the master, in critical bands over time.
struct MaskMap {
  double first_s = 0, column_s = 0;
  std::vector<double> band_edges_hz;
  std::vector<float> over_db;   ///< columns x bands: greatest residual-to-mask ratio in the column; below 0: covered
  std::vector<double> band_db;  ///< per band: the ratio that 95 % of the blocks stay under
  double covered_share = 1;     ///< of all cells, those with the residual under the mask
  double worst_db = -200, worst_at_s = 0, worst_low_hz = 0, worst_high_hz = 0;
  int bands() const { return int(band_edges_hz.size()) - 1; }
  int columns() const { return bands() > 0 ? int(over_db.size()) / bands() : 0; }
};
/// One block every 50 ms, up to 2000 columns; model: core/measure/masking.hpp.
MaskMap mask_map(const Clip& master, const Clip& ret, const Fit& fit, const Job& job = {});

}  // namespace heathmist
