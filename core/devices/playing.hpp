// What is played through a device, read block by block. Inside core/devices only.
#pragma once
#include <algorithm>
#include <memory>
#include <span>
#include <vector>

#include "core/audio/clip.hpp"

namespace heathmist {

/// A clip as interleaved frames for so many outputs: a mono one goes to all of them. No clip: there is nothing.
class Playing {
 public:
  Playing(std::shared_ptr<const Clip> clip, int outputs, bool round_and_round = false)
      : clip_(std::move(clip)),
        outputs_(outputs),
        again_(round_and_round),
        reader_(clip_ ? clip_->reader() : nullptr) {}
  int64_t frames() const { return clip_ ? clip_->format().frames : 0; }
  bool has_more() const { return at_ < frames(); }
  /// The most samples that next() gives.
  size_t block_samples() const { return size_t(block_frames * outputs_); }

  /// Valid until the next call. Throws InputError.
  std::span<const double> next() {
    const int64_t count = std::min(block_frames, frames() - at_);
    reader_->read(at_, count, block_);
    samples_.assign(size_t(count * outputs_), 0.0);
    const int channels = clip_->format().channels;
    for (int c = 0; c < outputs_ && (c < channels || channels == 1); ++c) {
      const auto x = block_.channel(std::min(c, channels - 1));
      for (int64_t n = 0; n < count; ++n) samples_[size_t(n * outputs_ + c)] = x[size_t(n)];
    }
    at_ += count;
    if (again_ && at_ == frames()) at_ = 0;
    return samples_;
  }

 private:
  static constexpr int64_t block_frames = 1 << 12;
  std::shared_ptr<const Clip> clip_;
  int64_t outputs_;
  bool again_;
  std::unique_ptr<Reader> reader_;
  int64_t at_ = 0;
  Planar block_;
  std::vector<double> samples_;
};

}  // namespace heathmist
