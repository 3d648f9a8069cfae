// A master on the clock of its return: the good sound as late, as long and as fast as the one it is to take the place
// of.
#pragma once
#include "core/audio/video.hpp"
#include "core/compare/continuity.hpp"
#include "core/compare/fit.hpp"

namespace heathmist {

struct Aligned {
  Fit fit;  ///< of the master to the return: a positive delay means that the master starts early in it
  int sample_rate_hz = 0;
  int64_t frames = 0;  ///< as long as the return lasts, at the master's rate
  /// Where the return was cut, in its time: from there on the master is read elsewhere; what the return has more than
  /// the master is silence.
  std::vector<Break> splices{};
};

/// Writes it as 32-bit float, or in the word that is asked for; gain and polarity are left alone, and where the return
/// has sound before or after the master there is silence. A delay of whole samples moves samples and changes none. Cuts
/// of up to 2 s are followed, faded over 5 ms. Throws InputError (also where the two do not belong together),
/// OutputRefused, Cancelled.
Aligned write_aligned(std::shared_ptr<const Clip> master, std::shared_ptr<const Clip> ret, Destination to,
                      WordFormat word = WordFormat::float32, const Job& job = {});

struct AlignedVideo {
  Aligned aligned;
  VideoWritten video;
};
/// The sound as a file of its own beside the video.
struct SoundToo {
  Destination to;
  WordFormat word;
};
/// The return's picture with the master's sound on the return's clock (video.hpp), in the word of `sound`, or the
/// master's own with 24 bits at the least. Both files take their places at the end, the video first: what goes wrong
/// before leaves neither. Throws as both do.
AlignedVideo write_aligned_video(std::shared_ptr<const Clip> master, std::shared_ptr<const Clip> ret, Destination to,
                                 const std::optional<SoundToo>& sound = {}, const Job& job = {});

}  // namespace heathmist
