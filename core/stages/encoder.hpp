// Encoding a clip to a file with the real encoders of FFmpeg's libraries.
#pragma once
#include <filesystem>

#include "core/audio/clip.hpp"

namespace heathmist {

enum class StereoMode { encoders_choice, joint, split };

struct Encoding {
  std::string codec;     ///< an encoder's name: libmp3lame, aac, libopus, libvorbis, ac3, alac, wavpack, flac
  int bit_rate_bps = 0;  ///< 0: the encoder's own choice, or lossless
  std::optional<double> quality{};  ///< variable bit rate, as the encoder counts it, in place of a bit rate
  StereoMode stereo = StereoMode::encoders_choice;
};

struct Encoded {
  int64_t bytes = 0;          ///< of the file
  int64_t delay_samples = 0;  ///< silence the encoder puts before the audio, which a decoder may take away again
  int64_t block_samples = 0;  ///< what it codes at a time: the last one is filled up
  int64_t bit_rate_bps = 0;   ///< what the encoder set itself to, which may not be what it was asked for; 0: not told
};

/// Encodes to `file`, in the container its ending names, whole or not at all. Throws InputError: encoder missing, or it
/// cannot take the rate, the channels or the setting (the sentence says which it can); the disk is full.
Encoded encode(const Clip& clip, const Encoding& encoding, const std::filesystem::path& file, const Job& job = {});

/// The bit rates of the usual ones that an encoder opens with, in kbit/s.
std::vector<int> bit_rates_taken(const std::string& encoder, int sample_rate_hz, int channels);

/// The same for a codec as its stage calls it ("mp3"), at the rate that stage would encode at; none for one that has no
/// bit rate to set. Throws std::invalid_argument for a name that is none.
std::vector<int> bit_rates_of_codec(const std::string& codec, int sample_rate_hz, int channels);

/// The rate an encoder takes that is nearest above `sample_rate_hz` (or its highest).
int rate_for_encoder(const std::string& encoder, int sample_rate_hz);

}  // namespace heathmist
