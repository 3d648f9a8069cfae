// What a clip is: audio in a file of any format, read in blocks from any place.
//
// Samples come as double with full scale = 1; integers of up to 32 bits and floats of 32 and 64 bits arrive exact.
// A frame is one sample of every channel. PCM and FLAC are read in place through libsndfile; everything else is decoded
// once, through FFmpeg's libraries, to a nameless scratch file that vanishes with the clip.
#pragma once
#include <filesystem>
#include <memory>
#include <optional>
#include <stdexcept>
#include <string>

#include "core/audio/planar.hpp"
#include "core/job.hpp"

namespace heathmist {

/// A file that cannot be used. what() is one sentence: which file, what is wrong, what to do.
struct InputError : std::runtime_error {
  InputError(const std::filesystem::path& file, const std::string& wrong_and_remedy);
  /// The whole sentence, as another said it.
  static InputError told(const std::string& sentence) { return InputError(sentence); }

 private:
  explicit InputError(const std::string& sentence) : std::runtime_error(sentence) {}
};

/// Throws InputError unless this is a plain file, not empty, that may be read: no folder, pipe or device.
void refuse_unless_plain(const std::filesystem::path& name);

/// What a clip may be: other rates and more channels are in damaged files only.
inline constexpr int least_rate_hz = 1000, most_rate_hz = 1536000, most_channels = 64;
/// Louder than this is damage and no sound: +60 dBFS.
inline constexpr double most_level = 1000;

enum class SampleFormat { integer, real };

/// What a container says around the samples of a clip. One rule for all of them: priming and padding that are declared
/// (edit lists, gapless tags, codec delays, granule positions) are no samples of the clip, everything else is; where
/// the timeline has the first of them is told, and moves nothing.
struct Timeline {
  std::optional<double> start_s;  ///< of the clip's first sample; none: the format keeps no timeline
  int64_t priming_frames = 0;     ///< taken off in front
  int64_t padding_frames = 0;     ///< and at the end
};

struct ClipFormat {
  std::string codec;  ///< pcm, flac, mp3, aac, vorbis, opus, ...
  int sample_rate_hz = 0;
  int channels = 0;
  int64_t frames = 0;
  std::optional<int> container_bits;  ///< word length the container declares; none for lossy
  SampleFormat sample_format = SampleFormat::real;
  bool lossy = false;
  std::optional<int64_t> bit_rate_bps;
  Timeline timeline{};
  double duration_s() const { return sample_rate_hz > 0 ? double(frames) / sample_rate_hz : 0; }
};

/// One way into a clip's samples. Not to be shared by threads: each takes its own.
class Reader {
 public:
  virtual ~Reader() = default;
  /// Fills `out` (channels x frames) from frame `first`; what lies outside the clip reads as zero.
  /// Throws InputError when the file has vanished, is cut short or cannot be decoded.
  void read(int64_t first, int64_t frames, Planar& out);

 protected:
  explicit Reader(const ClipFormat& format) : format_(format) {}
  /// Fills frames [at, at + frames) of `out` with the clip's frames from `first`, all inside the clip.
  virtual void fetch(int64_t first, int64_t frames, Planar& out, int64_t at) = 0;
  const ClipFormat format_;
};

class Clip {
 public:
  virtual ~Clip() = default;
  /// Opens a file, or one of the sounds in it (sound_name.hpp); decodes it first where its format needs it (the job
  /// shows and stops that). Throws InputError.
  static std::shared_ptr<const Clip> open(const std::filesystem::path& file, const Job& job = {});
  /// The same clip at another rate, converted once to scratch by libsoxr at its highest quality, pass band to 0.98 of
  /// the lower rate's band. Frame 0 stays frame 0.
  static std::shared_ptr<const Clip> at_rate(std::shared_ptr<const Clip> clip, int sample_rate_hz, const Job& job = {});

  const std::filesystem::path& path() const { return path_; }
  const ClipFormat& format() const { return format_; }
  /// Its samples are not those of the file path() names, but were made from them.
  virtual bool is_made() const { return false; }
  /// What it holds on the disk beside that file, for as long as it lives.
  virtual int64_t scratch_bytes() const { return 0; }
  virtual std::unique_ptr<Reader> reader() const = 0;

 protected:
  Clip(std::filesystem::path path, ClipFormat format) : path_(std::move(path)), format_(std::move(format)) {}
  std::filesystem::path path_;
  ClipFormat format_;
};

}  // namespace heathmist
