// A clip whose samples lie in a nameless temporary file (or wait to be written there).
#pragma once
#include "core/audio/clip.hpp"

namespace heathmist {

/// Collects decoded samples; the file has no name, so that nothing stays behind however the program ends.
/// Samples are kept as float32, or as float64 where `wide`.
class ScratchWriter {
 public:
  ScratchWriter(const std::filesystem::path& origin, int channels, bool wide);
  ~ScratchWriter();
  ScratchWriter(const ScratchWriter&) = delete;
  ScratchWriter& operator=(const ScratchWriter&) = delete;
  void write(const Planar& block, int64_t frames);
  int64_t frames() const { return frames_; }
  /// The clip of all that was written; `format.frames` is filled in. Ends the writing. `made`: the samples are no
  /// longer those of the file.
  std::shared_ptr<const Clip> finish(ClipFormat format, bool made = false);

 private:
  std::filesystem::path origin_;
  int channels_;
  bool wide_;
  int file_ = -1;
  int64_t frames_ = 0;
  std::vector<char> bytes_;
};

/// Sound that was made here as a clip of its own, in double precision; `name` stands for it in sentences.
std::shared_ptr<const Clip> made_clip(const Planar& sound, int sample_rate_hz, const std::string& name);

/// Decodes the first audio stream of any file FFmpeg's libraries can read. Throws InputError.
std::shared_ptr<const Clip> decode_with_ffmpeg(const std::filesystem::path& file, const Job& job);

/// Opens PCM and FLAC through libsndfile; nullptr where the file is neither. Throws InputError where it is, but broken.
std::shared_ptr<const Clip> open_with_sndfile(const std::filesystem::path& file);

}  // namespace heathmist
