// The outline of a clip at every zoom: a pyramid of least, greatest and RMS value.
#pragma once
#include <cstdint>
#include <iosfwd>
#include <vector>

#include "core/audio/clip.hpp"

namespace heathmist {

/// Least, greatest and mean square of some samples of all channels. Empty columns have low > high.
struct OutlineBin {
  float low = 1e30f, high = -1e30f, mean_square = 0;
};

/// Bins of 512 frames over all channels, and coarser levels, each of 8 bins of the one below.
class Overview {
 public:
  static constexpr int64_t bin_frames = 512;
  static constexpr int64_t level_step = 8;

  Overview() = default;
  /// `bins` are the finest level, of a clip of `frames` frames.
  Overview(int64_t frames, std::vector<OutlineBin> bins);
  int64_t frames() const { return frames_; }
  size_t bytes() const;  ///< that it holds in memory
  bool empty() const { return levels_.empty(); }
  const std::vector<OutlineBin>& finest() const { return levels_.front(); }

  /// `count` columns over frames [first, first + frames), taken from the level that suits.
  std::vector<OutlineBin> columns(double first, double frames, int count) const;

  void write(std::ostream& out) const;
  static Overview read(std::istream& in);

 private:
  int64_t frames_ = 0;
  std::vector<std::vector<OutlineBin>> levels_;
};

/// The same columns straight from samples, for zooms finer than a bin: `block` starts at frame `begin` and holds
/// [first, first + frames) and two frames more.
std::vector<OutlineBin> outline_columns(const Planar& block, int64_t begin, double first, double frames, int count);

}  // namespace heathmist
