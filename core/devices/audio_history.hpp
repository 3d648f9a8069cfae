// What came in lately, on disk and in no memory: the oldest makes room for the newest.
#pragma once
#include <filesystem>
#include <memory>
#include <mutex>
#include <span>
#include <vector>

#include "core/audio/write.hpp"

namespace heathmist {

struct Job;

/// A ring of stereo frames of 24 bits in a nameless file (in the folder for passing files), which grows to its length
/// and goes away with the program, however that ends.
class AudioHistory {
 public:
  /// Throws InputError where no file can be made.
  AudioHistory(int sample_rate_hz, double seconds);
  ~AudioHistory();
  AudioHistory(const AudioHistory&) = delete;
  AudioHistory& operator=(const AudioHistory&) = delete;

  /// Interleaved stereo. One thread. False: the disk takes no more, and nothing is kept from here on.
  bool add(std::span<const double> stereo);
  /// Frames that ever came, and the first that is still there; from any thread.
  int64_t end() const;
  int64_t begin() const;
  /// Frames [first, first + out.size() / 2), all of which must be there: false where they are not any more.
  bool read(int64_t first, std::span<double> out) const;
  /// Writes frames [first, last) as a file, as far as they are there when they are read. Throws InputError (they are
  /// gone), OutputRefused, Cancelled.
  void write(int64_t first, int64_t last, const Destination& to, const Job& job) const;

 private:
  const int rate_;
  const int64_t most_;
  int file_ = -1;
  mutable std::mutex lock_;  // of end_
  int64_t end_ = 0;
  bool full_ = false;
  std::vector<unsigned char> bytes_;
};

}  // namespace heathmist
