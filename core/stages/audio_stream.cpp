#include "core/stages/audio_stream.hpp"

#include <algorithm>
#include <utility>

#include "core/audio/scratch.hpp"

namespace heathmist {

namespace {

constexpr int64_t block_frames = 1 << 16;

class ClipFlow : public AudioStream {
 public:
  explicit ClipFlow(std::shared_ptr<const Clip> clip)
      : AudioStream(clip->format()), clip_(std::move(clip)), reader_(clip_->reader()) {}
  std::shared_ptr<const Clip> clip() const override { return clip_; }
  void next(int64_t frames, Planar& out) override {
    reader_->read(at_, frames, out);
    at_ += frames;
  }

 private:
  std::shared_ptr<const Clip> clip_;
  std::unique_ptr<Reader> reader_;
  int64_t at_ = 0;
};

class ChangedFlow : public AudioStream {
 public:
  ChangedFlow(AudioStreamPtr in, std::function<void(Planar&)> change, int64_t lead)
      : AudioStream(reals_like(in->format())), in_(std::move(in)), change_(std::move(change)), lead_(lead) {}
  void next(int64_t frames, Planar& out) override {
    if (lead_ > 0) {
      Planar late;
      in_->next(std::exchange(lead_, 0), late);
      change_(late);
    }
    in_->next(frames, out);
    change_(out);
  }

 private:
  AudioStreamPtr in_;
  std::function<void(Planar&)> change_;
  int64_t lead_;
};

}  // namespace

ClipFormat reals_like(const ClipFormat& format) {
  ClipFormat real = format;
  real.codec = "pcm";
  real.container_bits = 64;
  real.sample_format = SampleFormat::real;
  real.lossy = false;
  real.bit_rate_bps = int64_t(64) * format.channels * format.sample_rate_hz;
  return real;
}

AudioStreamPtr stream_of(std::shared_ptr<const Clip> clip) { return std::make_unique<ClipFlow>(std::move(clip)); }

AudioStreamPtr changed_flow(AudioStreamPtr in, std::function<void(Planar&)> change, int64_t lead) {
  return std::make_unique<ChangedFlow>(std::move(in), std::move(change), lead);
}

std::shared_ptr<const Clip> materialise(AudioStream& flow, const std::filesystem::path& origin, const Job& job) {
  const auto& f = flow.format();
  ScratchWriter out(origin, f.channels, true, f.frames);
  Planar block;
  for (int64_t at = 0; at < f.frames; at += block_frames) {
    job.check();
    flow.next(std::min(block_frames, f.frames - at), block);
    out.write(block, block.frames());
    job.report(double(at) / double(f.frames));
  }
  return out.finish(f, true);
}

std::shared_ptr<const Clip> clip_of(AudioStream& flow, const std::filesystem::path& origin, const Job& job) {
  auto clip = flow.clip();
  return clip ? clip : materialise(flow, origin, job);
}

FlowWindow::FlowWindow(AudioStreamPtr in) : in_(std::move(in)), data_(size_t(in_->format().channels)) {}

void FlowWindow::move_to(int64_t from, int64_t to) {
  if (!std::exchange(begun_, true)) {  // zeros before the start
    first_ = std::min<int64_t>(from, 0);
    for (auto& channel : data_) channel.assign(size_t(-first_), 0.0);
  }
  from_ = from;
  drop_before(from);
  while (given_ < to) {
    const int64_t frames = std::clamp<int64_t>(to - given_, 4096, block_frames);
    in_->next(frames, block_);
    for (size_t c = 0; c < data_.size(); ++c) {
      const auto x = block_.channel(int(c));
      data_[c].insert(data_[c].end(), x.begin(), x.end());
    }
    given_ += frames;
    drop_before(from);
  }
}

void FlowWindow::drop_before(int64_t from) {
  const int64_t passed = std::min(from, given_) - first_;
  if (passed < block_frames) return;
  for (auto& channel : data_) channel.erase(channel.begin(), channel.begin() + passed);
  first_ += passed;
}

}  // namespace heathmist
