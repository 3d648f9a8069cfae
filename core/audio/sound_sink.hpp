// Samples into an open file through libsndfile, which looks at what fails only here and there: here it is remembered.
// Inside core only; users' files are written by write.hpp and devices/recording.hpp.
#pragma once
#include <sndfile.h>

#include <span>
#include <string>
#include <vector>

#include "core/audio/write.hpp"

namespace heathmist {

class SoundSink {
 public:
  /// `file`: the name that says the format by its ending, and stands in sentences. The descriptor stays the caller's.
  /// Throws InputError where it cannot be written so.
  SoundSink(int descriptor, const std::filesystem::path& file, int sample_rate_hz, int channels, WordFormat word);
  ~SoundSink();
  SoundSink(const SoundSink&) = delete;
  SoundSink& operator=(const SoundSink&) = delete;

  /// Interleaved; integers are rounded to nearest and clipped at full scale. 0, or an errno.
  [[nodiscard]] int write(std::span<const double> interleaved);
  /// The header says what is there now. 0, or an errno.
  [[nodiscard]] int refresh();
  /// Puts a chunk into a WAV file, before the first write. False: it cannot be.
  [[nodiscard]] bool put_chunk(const std::string& id, std::string bytes);
  /// 0, or an errno.
  [[nodiscard]] int close();
  bool is_open() const { return sound_ != nullptr; }
  int64_t frames() const { return frames_; }
  int bytes_per_frame() const;

 private:
  struct Channel {  // how libsndfile reaches the file
    int descriptor;
    int error = 0;
  };
  static SF_VIRTUAL_IO calls();
  Channel channel_;
  WordFormat word_;
  int channels_;
  int64_t frames_ = 0;
  SNDFILE* sound_ = nullptr;
  std::vector<int> words_;
};

}  // namespace heathmist
