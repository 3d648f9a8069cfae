// A block of samples: channels x frames, each channel in one piece, full scale = 1.
#pragma once
#include <cstdint>
#include <span>
#include <vector>

namespace heathmist {

class Planar {
 public:
  Planar() = default;
  Planar(int channels, int64_t frames) { resize(channels, frames); }
  /// Contents are zero afterwards only where the block grew.
  void resize(int channels, int64_t frames) {
    channels_ = channels;
    frames_ = frames;
    data_.resize(size_t(channels) * size_t(frames));
  }
  int channels() const { return channels_; }
  int64_t frames() const { return frames_; }
  std::span<double> channel(int c) { return {data_.data() + size_t(c) * size_t(frames_), size_t(frames_)}; }
  std::span<const double> channel(int c) const { return {data_.data() + size_t(c) * size_t(frames_), size_t(frames_)}; }

 private:
  int channels_ = 0;
  int64_t frames_ = 0;
  std::vector<double> data_;
};

}  // namespace heathmist
