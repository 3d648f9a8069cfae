// Writing clips whole or not at all.
#pragma once
#include <filesystem>
#include <functional>
#include <memory>
#include <string>

#include "core/audio/atomic_file.hpp"
#include "core/audio/cue_points.hpp"
#include "core/audio/planar.hpp"
#include "core/audio/tags.hpp"

namespace heathmist {

class Clip;
struct ClipFormat;
struct Job;

enum class WordFormat { pcm16, pcm24, pcm32, float32, float64 };

/// The word that keeps every sample of a clip as it is.
WordFormat word_that_holds(const ClipFormat& format);

/// Writes audio through an AtomicFile; without finish() nothing is left behind.
/// `.wav` becomes WAV (RF64 past 4 GiB), `.flac` FLAC (16 or 24 bit), `.w64`, `.aiff`, `.caf` likewise.
/// Integers are rounded to nearest and clipped at full scale; no dither. Every byte that goes out is looked at: throws
/// InputError (a full disk too), OutputRefused.
class ClipWriter {
 public:
  ClipWriter(const Destination& to, int sample_rate_hz, int channels, WordFormat format);
  ~ClipWriter();
  ClipWriter(const ClipWriter&) = delete;
  ClipWriter& operator=(const ClipWriter&) = delete;
  /// Puts a `bext` chunk (EBU Tech 3285) into a WAV file; before the first write(). Elsewhere it does nothing.
  void describe(const BroadcastExtension& bext);
  /// Puts cue points into a WAV file; before the first write(). Elsewhere it does nothing. Throws
  /// std::invalid_argument for places beyond what 32 bits count.
  void mark(std::span<const CuePoint> points);
  /// How many frames will come, for the sentence where the disk is too small for them.
  void expect(int64_t frames);
  void write(const Planar& block);
  void write(const Planar& block, int64_t frames);
  /// Ends the audio, and leaves the file under its passing name: to be tagged and checked before finish().
  const std::filesystem::path& close();
  void finish();

 private:
  struct State;
  std::unique_ptr<State> state_;
};

/// Writes a whole clip. Throws as its reader and the writer do, Cancelled.
void write_clip(ClipWriter& out, const Clip& clip, const Job& job);

}  // namespace heathmist
