// The transforms of lossy coders, as their decoders undo them.
#pragma once
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

namespace heathmist {

/// A coder's transform: blocks of `reach` samples, one every `hop`, each giving `size` coefficients.
class CoderTransform {
 public:
  virtual ~CoderTransform() = default;
  std::string family;
  size_t hop = 0, reach = 0, size = 0;
  size_t grid = 0;       ///< blocks start at multiples of this apart: the hop, or less where short blocks come between
  bool mid_side = true;  ///< stereo may be coded as its sum and difference
  /// The samples that blocks are taken from; they must stay where they are.
  virtual void take(std::span<const double> samples) { samples_ = samples; }
  /// The block that starts at a sample, `reach` of them; `out`: size coefficients, rising frequency.
  virtual void forward(size_t at, std::span<double> out) = 0;
  /// About how many bits a block's coefficients took, where that shows in one block; nothing: it shows in many only.
  virtual std::optional<double> bits_of(std::span<const double> /*block*/) const { return {}; }

 protected:
  std::span<const double> samples_;
};

/// AAC's long blocks (ISO/IEC 14496-3, 4.6.11) with the sine or the Kaiser-Bessel derived window, Vorbis' (Vorbis I
/// specification, 4.3.1), MP3's hybrid of polyphase filter bank and MDCT with its alias reduction (ISO/IEC 11172-3,
/// 2.4.3.4 and C.1.3), layer II's samples of the same bank, 12 of each band one after the other (2.4.3.3).
std::vector<std::unique_ptr<CoderTransform>> coder_transforms();

}  // namespace heathmist
