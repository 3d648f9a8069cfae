// A file that is recorded into: whatever happens to the program or the disk, what came until then is a playable file.
#pragma once
#include <filesystem>
#include <memory>
#include <span>

#include "core/audio/atomic_file.hpp"
#include "core/audio/write.hpp"

namespace heathmist {

/// A WAV file (RF64 past 4 GiB) at its own place from the first moment on. Its header says what is there four times for
/// every second of sound, so that a killed program loses less than that. Where a file may be replaced, the old one
/// stays until the end, and the new one lies beside it as "NAME (recording).wav". Integers are rounded to nearest and
/// clipped at full scale.
class Recording {
 public:
  /// Throws OutputRefused, InputError (another ending than .wav, no folder, no right, a full disk).
  Recording(const Destination& to, int sample_rate_hz, int channels, WordFormat word);
  /// Keeps what was written; a file into which nothing was written goes away.
  ~Recording();
  Recording(const Recording&) = delete;
  Recording& operator=(const Recording&) = delete;

  /// Interleaved frames. Throws InputError where they did not reach the disk (what was written before is whole).
  void write(std::span<const double> frames);
  int64_t frames() const;
  const std::filesystem::path& file() const;  ///< where it lies just now
  /// Ends it, and brings it to its name. Throws InputError.
  void finish();

 private:
  struct Inside;
  std::unique_ptr<Inside> inside_;
};

}  // namespace heathmist
