// Encoding a clip to a file with the real encoders of FFmpeg's libraries.
#pragma once
#include <filesystem>

#include "core/audio/clip.hpp"

namespace heathmist {

struct Encoding {
  std::string codec;     ///< an encoder's name: libmp3lame, aac, libopus, libvorbis, ac3, alac, wavpack, flac
  int bit_rate_bps = 0;  ///< 0: the encoder's own choice, or lossless
};

/// Encodes to `file`, in the container its ending names, whole or not at all. Throws InputError: encoder missing, or it
/// cannot take the rate or the channels.
void encode(const Clip& clip, const Encoding& encoding, const std::filesystem::path& file, const Job& job = {});

}  // namespace heathmist
