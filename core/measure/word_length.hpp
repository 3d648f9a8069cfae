// Word length: which bits a clip really uses, channel by channel and over time, and what its code values look like.
#pragma once
#include <array>
#include <optional>
#include <vector>

#include "core/audio/clip.hpp"

namespace heathmist {

struct ChannelWords {
  int bits_used = 0;             ///< fewest bits that carry every sample of the channel; 0: silence
  std::vector<double> activity;  ///< [0] the sign: share of samples in which the bit is not as in the sample before
  std::array<int64_t, 256>
      codes{};             ///< how often each code from -128 to 127 occurs, in steps of the clip's last used bit
  double empty_share = 0;  ///< of the codes near zero that a programme of this level should hit but never does
};

struct WordStudy {
  int container_bits = 0, bits_used = 0;
  std::vector<ChannelWords> channels;
  double column_s = 0;
  std::vector<uint8_t> bits_over_time;  ///< bits used in each column, over all channels; 0: silence
  int64_t quiet_pieces = 0;             ///< pieces of 10 ms in which no sample goes beyond one step
  int64_t zero_pieces = 0;              ///< of those, digital silence
  /// Silence between the programme is digital zero, where dither would not let it be.
  bool idle_in_silence() const { return quiet_pieces >= 5 && zero_pieces == quiet_pieces; }
};

/// Studies an integer clip. `bits_used` of the whole comes from the survey. Nothing for floating point and lossy clips.
std::optional<WordStudy> study_words(const Clip& clip, int bits_used, const Job& job = {});

}  // namespace heathmist
