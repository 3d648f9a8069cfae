// Loudness after ITU-R BS.1770-5 and EBU R 128: K weighting, momentary, short-term and gated loudness.
#pragma once
#include <array>
#include <optional>
#include <span>
#include <vector>

#include "core/audio/clip.hpp"

namespace heathmist {

/// The two biquads of BS.1770 annex 1, moved to any rate by the bilinear transform of their analogue prototypes
/// (shelf 1681.97 Hz, +4.0 dB; high pass 38.135 Hz).
class KWeighting {
 public:
  explicit KWeighting(double sample_rate_hz);
  /// Filters on, in place of nothing: returns the sum of squares of the weighted samples.
  double energy(std::span<const double> in);

 private:
  std::array<double, 5> shelf_, pass_;  // b0 b1 b2 a1 a2
  std::array<double, 4> state_{};
};

/// Weight of each channel (BS.1770 table 4): 1, surrounds 1.41, LFE 0, for the usual orders of 1 to 8 channels.
std::vector<double> channel_weights(int channels);

/// K-weighted, channel-weighted mean square of consecutive pieces of 100 ms.
using LoudnessPieces = std::vector<double>;

/// Frames of a piece at a rate.
int64_t loudness_piece_frames(int sample_rate_hz);

/// -0.691 + 10 lg of a mean square, in LUFS; nothing for silence.
std::optional<double> lufs(double mean_square);

/// Gated loudness of the programme (400 ms blocks, 75 % overlap, -70 LUFS and -10 LU gates); nothing where no block
/// passes. A programme shorter than a block counts as one.
std::optional<double> integrated_lufs(const LoudnessPieces& pieces);

/// The pieces of a whole clip; a last piece that is not full is left out, unless it is the only one.
LoudnessPieces loudness_pieces(const Clip& clip, const Job& job = {});

/// Loudness of the last `span` pieces at the end of every piece (4: momentary, 30: short-term), -120 at the least.
std::vector<float> sliding_lufs(const LoudnessPieces& pieces, int span);

}  // namespace heathmist
