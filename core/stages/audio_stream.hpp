// Audio on its way through a chain: blocks in order, from the first frame on.
#pragma once
#include <functional>
#include <memory>

#include "core/audio/clip.hpp"

namespace heathmist {

/// Gives its frames once, in order. After format().frames come zeros, without end.
class AudioStream {
 public:
  explicit AudioStream(ClipFormat format) : format_(std::move(format)) {}
  virtual ~AudioStream() = default;
  const ClipFormat& format() const { return format_; }
  /// The clip behind it, where it is nothing but one.
  virtual std::shared_ptr<const Clip> clip() const { return nullptr; }
  /// The next frames (channels x frames).
  virtual void next(int64_t frames, Planar& out) = 0;

 protected:
  ClipFormat format_;
};
using AudioStreamPtr = std::unique_ptr<AudioStream>;

/// The frames of a clip.
AudioStreamPtr stream_of(std::shared_ptr<const Clip> clip);

/// The whole flow in a scratch clip; what it says of itself goes with it. Nothing may have been taken from it yet.
std::shared_ptr<const Clip> materialise(AudioStream& flow, const std::filesystem::path& origin, const Job& job);

/// The same, but the clip itself where there is one behind the flow.
std::shared_ptr<const Clip> clip_of(AudioStream& flow, const std::filesystem::path& origin, const Job& job);

/// What a stage makes is no longer what the file was: double precision, no codec.
ClipFormat reals_like(const ClipFormat& format);

/// A flow changed block by block, in place; `lead` frames at its start are thrown away (what the change is late by).
AudioStreamPtr changed_flow(AudioStreamPtr in, std::function<void(Planar&)> change, int64_t lead = 0);

/// Passes a flow's frames by a window that moves forward.
class FlowWindow {
 public:
  explicit FlowWindow(AudioStreamPtr in);
  const ClipFormat& format() const { return in_->format(); }
  /// Makes frames [from, to) available; frames before the start are zeros. `from` never goes back.
  void move_to(int64_t from, int64_t to);
  /// Samples from frame `from` of the last move_to on.
  std::span<const double> channel(int c) const { return std::span(data_[size_t(c)]).subspan(size_t(from_ - first_)); }

 private:
  void drop_before(int64_t from);
  AudioStreamPtr in_;
  std::vector<std::vector<double>> data_;
  int64_t first_ = 0, from_ = 0, given_ = 0;
  bool begun_ = false;
  Planar block_;
};

}  // namespace heathmist
