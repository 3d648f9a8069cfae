// A clip whose samples lie in a nameless temporary file (or wait to be written there).
#pragma once
#include <algorithm>

#include "core/audio/clip.hpp"

namespace heathmist {

/// Collects decoded samples; the file has no name, so that nothing stays behind however the program ends.
/// Samples are kept as float32, or as float64 where `wide`.
class ScratchWriter {
 public:
  /// `expected_frames`: how many will come in all, for the sentence where the disk is too small; 0: not known.
  ScratchWriter(const std::filesystem::path& origin, int channels, bool wide, int64_t expected_frames = 0);
  ~ScratchWriter();
  ScratchWriter(const ScratchWriter&) = delete;
  ScratchWriter& operator=(const ScratchWriter&) = delete;
  void write(const Planar& block, int64_t frames);
  int64_t frames() const { return frames_; }
  /// Only the first so many of what was written are the clip's.
  void keep(int64_t frames) { frames_ = std::min(frames_, frames); }
  /// The clip of all that was written; `format.frames` is filled in. Ends the writing. `made`: the samples are no
  /// longer those of the file.
  std::shared_ptr<const Clip> finish(ClipFormat format, bool made = false);

 private:
  std::filesystem::path origin_;
  int channels_;
  bool wide_;
  std::filesystem::path folder_;
  int64_t expected_frames_;
  int file_ = -1;
  int64_t frames_ = 0;
  std::vector<char> bytes_;
};

/// Throws InputError where a sample of frames [at, at + frames) of a block is no number, infinite or above
/// `most_level`; `first`: the clip's frame at `at`.
void refuse_damage(const std::filesystem::path& file, const ClipFormat& format, const Planar& block, int64_t at,
                   int64_t frames, int64_t first);

/// Throws InputError for rates and channel counts that no clip has.
void refuse_out_of_range(const std::filesystem::path& file, int64_t sample_rate_hz, int64_t channels);

/// Sound that was made here as a clip of its own, in double precision; `name` stands for it in sentences.
std::shared_ptr<const Clip> made_clip(const Planar& sound, int sample_rate_hz, const std::string& name);

/// Decodes the first audio stream of any file FFmpeg's libraries can read. Throws InputError.
std::shared_ptr<const Clip> decode_with_ffmpeg(const std::filesystem::path& file, const Job& job);

/// Opens PCM and FLAC through libsndfile; nullptr where the file is neither. Throws InputError where it is, but broken.
std::shared_ptr<const Clip> open_with_sndfile(const std::filesystem::path& file);

}  // namespace heathmist
