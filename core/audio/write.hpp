// Writing clips and other files whole or not at all.
#pragma once
#include <filesystem>
#include <functional>
#include <memory>
#include <string>

#include "core/audio/planar.hpp"
#include "core/audio/tags.hpp"

namespace heathmist {

class Clip;
struct Job;

enum class WordFormat { pcm16, pcm24, pcm32, float32, float64 };

/// Writes audio to a file beside `file` and moves it into place at finish(); without finish() nothing is left behind.
/// `.wav` becomes WAV (RF64 past 4 GiB), `.flac` FLAC (16 or 24 bit), `.w64`, `.aiff`, `.caf` likewise.
/// Integers are rounded to nearest and clipped at full scale; no dither. Throws InputError (a full disk too).
class ClipWriter {
 public:
  ClipWriter(const std::filesystem::path& file, int sample_rate_hz, int channels, WordFormat format);
  ~ClipWriter();
  ClipWriter(const ClipWriter&) = delete;
  ClipWriter& operator=(const ClipWriter&) = delete;
  /// Puts its loudness into the `bext` chunk of a WAV file; before the first write(). Elsewhere it does nothing.
  void tag(const LoudnessTags& tags);
  void write(const Planar& block);
  void write(const Planar& block, int64_t frames);
  void finish();

 private:
  struct State;
  std::unique_ptr<State> state_;
};

/// Writes a whole clip. Throws as its reader and the writer do, Cancelled.
void write_clip(ClipWriter& out, const Clip& clip, const Job& job);

/// Replaces a file's content in one step: an interrupted or failed write leaves the old file whole. Throws InputError.
void write_whole(const std::filesystem::path& file, const std::string& content);

}  // namespace heathmist
