// Loudness after ITU-R BS.1770-5 and EBU R 128: K weighting, momentary, short-term and gated loudness.
#pragma once
#include <array>
#include <optional>
#include <span>
#include <vector>

#include <cstdint>

namespace heathmist {

/// The two biquads of BS.1770 annex 1, moved to any rate by the bilinear transform of their analogue prototypes
/// (shelf 1681.97 Hz, +4.0 dB; high pass 38.135 Hz). The standard's high pass has 0.043 dB more than unity at 48 kHz.
/// Kept as printed at other rates it would lie 0.038 dB lower at 384 kHz, kept at its gain it would lie apart from
/// meters that keep it as printed: it stands in the middle, 0.02 dB from either at most.
class KWeighting {
 public:
  explicit KWeighting(double sample_rate_hz);
  /// Filters on, in place of nothing: returns the sum of squares of the weighted samples.
  double energy(std::span<const double> in);
  const std::array<double, 5>& shelf() const { return shelf_; }  ///< b0 b1 b2 a1 a2
  const std::array<double, 5>& high_pass() const { return pass_; }

 private:
  std::array<double, 5> shelf_, pass_;  // b0 b1 b2 a1 a2
  std::array<double, 4> state_{};
};

/// Weight of each channel (BS.1770-5 tables 3 and 4): 1, side surrounds 1.41, LFE 0, for the usual orders of 1 to 8
/// channels (L R C LFE, then surrounds; 7 and 8 channels have their back before their sides).
std::vector<double> channel_weights(int channels);

/// K-weighted, channel-weighted mean square of consecutive pieces of 100 ms.
using LoudnessPieces = std::vector<double>;

/// Frames of a piece at a rate.
int64_t loudness_piece_frames(int sample_rate_hz);

/// -0.691 + 10 lg of a mean square, in LUFS; nothing for silence.
std::optional<double> lufs(double mean_square);

/// Mean square of every `span` pieces in a row; none where there are fewer.
std::vector<double> window_means(const LoudnessPieces& pieces, int span);

/// Gated loudness of blocks of 400 ms, and the relative gate that was used (BS.1770: -70 LUFS, then -10 LU).
struct Gated {
  std::optional<double> lufs, gate_lufs;
};
Gated gated_loudness(const std::vector<double>& blocks);

/// Gated loudness of the programme (400 ms blocks, 75 % overlap, -70 LUFS and -10 LU gates); nothing where no block
/// passes. A programme shorter than a block counts as one.
std::optional<double> integrated_lufs(const LoudnessPieces& pieces);

/// Loudness range of the programme (EBU Tech 3342: short-term loudness, -70 LUFS and -20 LU gates, 10th to 95th
/// percentile). Nothing where no 3 s pass.
struct LoudnessRange {
  double low_lufs = 0, high_lufs = 0;
  double lu() const { return high_lufs - low_lufs; }
};
/// `short_terms`: mean squares of 3 s, at least every second.
std::optional<LoudnessRange> range_of(std::vector<double> short_terms);

/// Loudness of the last `span` pieces at the end of every piece (4: momentary, 30: short-term), -120 at the least.
std::vector<float> sliding_lufs(const LoudnessPieces& pieces, int span);

}  // namespace heathmist
