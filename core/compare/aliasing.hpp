// Aliases: what of the master comes back at another frequency, because it was sampled at another rate on the way; and
// how they are told from shaped noise.
//
// A tone of f sampled anew at r stands at |k r + f|. Such a pair of frequencies keeps one phase from block to block
// once the turn of k r is taken out, so the cyclic cross-spectrum of master and residual does not average away
// (Gardner, "Exploitation of spectral redundancy in cyclostationary signals", IEEE SP Magazine 8, 1991). Noise, shaped
// dither among it, keeps none. What the master does at the landing place itself is taken out first.
#pragma once
#include <optional>

#include "core/compare/sums.hpp"

namespace heathmist {

/// A stretch of the master that comes back elsewhere.
struct FoldedBand {
  int image = -1;        ///< k of |k r + f|; -1: mirrored about r / 2
  bool mirrored = true;  ///< rising frequencies land falling
  double in_low_hz = 0, in_high_hz = 0, out_low_hz = 0, out_high_hz = 0;
  bool is_line = false;          ///< one line; then low is high, to about a hundredth of a bin
  double power = 0, source = 0;  ///< mean squares: what landed, and what it comes from
  double coherence = 0;          ///< squared, over the stretch
  bool down() const { return in_low_hz > out_low_hz; }
  double level_db() const;  ///< of what landed against what it comes from
};

struct Aliasing {
  double rate_hz = 0;  ///< where it was sampled in between, on the master's clock
  int64_t blocks = 0;
  std::vector<FoldedBand> bands;  ///< strongest first; empty: nothing folds at that rate
  double power() const;
};

/// `master`: the clip as it stands, with all of its band; `laid`: the pair it is compared in, fitted. Looks at up to
/// 160 blocks of about 16384 frames. Throws InputError, Cancelled.
Aliasing find_aliases(const Clip& master, const Clip& compared, const Clip& ret, const Fit& fit, double rate_hz,
                      const Job& job = {});

/// Whether a tone in the return is what became of one of the master's at one of these rates, by itself or by any image.
bool comes_of(const std::vector<Aliasing>& aliasing, double master_rate_hz, double tone_hz, double within_hz);

/// Rates at which a return may have been sampled in between: its own where that is the lower one, else usual ones under
/// the master's.
std::vector<double> likely_rates(int master_hz, int return_hz);

/// Steady noise that rises towards the top of the band, without lines: shaped dither.
struct ShapedNoise {
  double from_hz = 0;  ///< where it stands 6 dB over its floor
  double rise_db = 0;  ///< density at the top against the floor
};
/// `line_hz`: where the residual has lines. Nothing where it does not rise, moves with the programme, or lines carry
/// it.
std::optional<ShapedNoise> find_shaped_noise(const ResidualSums& sums, double top_hz,
                                             const std::vector<double>& line_hz);

}  // namespace heathmist
