// All that one pass over a fitted pair adds up: levels, loudness, spectra, coherence, outline and depth of the
// residual.
#pragma once
#include <array>
#include <complex>

#include "core/compare/fit.hpp"
#include "core/measure/loudness.hpp"
#include "core/measure/overview.hpp"
#include "core/measure/spectrum.hpp"

namespace heathmist {

struct PairSums {
  double master = 0, residual = 0;  ///< mean squares
  std::optional<double> residual_relative_db() const;
};

/// Time by frequency: power of master and residual in each cell, columns x bands, per bin of the transform.
struct DepthCells {
  double first_s = 0, column_s = 0;   ///< in the master's time
  std::vector<double> band_edges_hz;  ///< bands + 1
  std::vector<float> master, residual;
  int bands() const { return int(band_edges_hz.size()) - 1; }
  int columns() const { return bands() > 0 ? int(master.size()) / bands() : 0; }
};

/// Master m and laid return r by the level of the master's sample, in 64 equal steps up to its peak (polarity applied).
struct ByLevel {
  static constexpr int steps = 64;
  std::array<double, steps> mm{}, mr{}, rr{};  ///< sums of m^2, m r, r^2
};

/// Master and laid return in pieces of 20 ms: sums of m^2, m r, r^2 over all pairs (polarity applied).
/// Frames of one of the short pieces, a fifth of a loudness piece: 20 ms.
int64_t short_piece_frames(int sample_rate_hz);
struct ShortPieces {
  std::vector<float> mm, mr, rr;
};

struct ResidualSums {
  int64_t first = 0, last = 0;
  double seconds = 0;
  double master = 0, ret = 0, residual = 0;  ///< mean squares over all pairs; ret as it stands, before gain
  double residual_peak = 0;
  int64_t residual_peak_at = 0;  ///< master frame
  double remainder = 0;          ///< mean square that no linear filter from master to return explains
  std::vector<PairSums> pairs;
  LoudnessPieces master_pieces, return_pieces, residual_pieces;
  Overview residual_overview;  ///< its frame 0 is `first`
  Spectrum master_spectrum, return_spectrum, residual_spectrum, remainder_spectrum;
  DepthCells depth;
  ByLevel by_level;
  ShortPieces short_pieces;

  std::optional<double> residual_relative_db() const;
  std::optional<double> remainder_relative_db() const;
};

struct SumsOptions {
  size_t fft_size = 16384;
  int64_t first = 0, last = -1;  ///< master frames; narrowed to the fit's overlap
  double master_peak = 1;        ///< for ByLevel
};

/// One pass. The result does not depend on the number of threads. Throws InputError.
ResidualSums residual_sums(const Clip& master, const Clip& ret, const Fit& fit, const SumsOptions& options,
                           const Job& job = {});

/// Residual under master in every cell, in dB, at least -200; not a number where the master is silent and so is the
/// residual.
std::vector<float> depth_db(const DepthCells& cells);

/// 10 lg of a power ratio; nothing where either is silent.
std::optional<double> power_db(double power, double against = 1);

}  // namespace heathmist
