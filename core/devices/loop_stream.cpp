// The stand-in's clock: a thread that takes and gives sound as fast as a real device would, or faster.
#include <algorithm>
#include <atomic>
#include <chrono>
#include <thread>

#include "core/devices/backends.hpp"

namespace heathmist {

namespace {

constexpr int64_t block_frames = ConverterLoop::most_frames;

/// What comes back of a block is given with the next one.
LoopSettings less_a_block(LoopSettings settings) {
  settings.delay_samples -= double(block_frames);
  return settings;
}

class LoopStream : public Stream {
 public:
  LoopStream(const StreamOrder& order, StreamCallback callback)
      : order_(order),
        callback_(std::move(callback)),
        inputs_(order.input.empty() ? 0 : order.inputs),
        outputs_(order.output.empty() ? 0 : order.outputs),
        wires_(std::max({int64_t(2), order.first_input + inputs_, order.first_output + outputs_})),
        loop_(less_a_block(order.loop), order.sample_rate_hz, int(wires_)),
        wires_out_(size_t(block_frames * wires_)),
        wires_in_(wires_out_.size()),
        out_(size_t(block_frames * outputs_)),
        in_(size_t(block_frames * inputs_)) {
    thread_ = std::jthread([this](std::stop_token stop) { run(stop); });
  }
  std::string lost() const override { return gone_ ? std::string(loop_name()) + ": it is gone" : std::string(); }

 private:
  void run(const std::stop_token& stop) {
    using clock = std::chrono::steady_clock;
    const auto began = clock::now();
    const double rate = order_.sample_rate_hz, speed = order_.loop.clock;
    int64_t done = 0, late = 0;  // late: time that the machine gave to others for so long that nobody could wait
    while (!stop.stop_requested()) {
      if (order_.loop.gone_after_s && double(done) >= *order_.loop.gone_after_s * rate) {
        gone_ = true;
        return;
      }
      if (speed > 0) {
        const double passed = std::chrono::duration<double>(clock::now() - began).count();
        const auto due = int64_t(passed * speed * rate) - done - late;
        if (due < block_frames) {
          std::this_thread::sleep_for(std::chrono::milliseconds(2));
          continue;
        }
        late += std::max<int64_t>(0, due - int64_t(rate * speed));
      }
      pass_block(stop);
      done += block_frames;
    }
  }

  void pass_block(const std::stop_token& stop) {
    std::fill(out_.begin(), out_.end(), 0.0);
    StreamBlock block{block_frames, in_, out_, interrupted_};
    while (!callback_(block) && order_.loop.clock == 0 && !stop.stop_requested())
      std::this_thread::sleep_for(std::chrono::microseconds(200));
    for (int64_t n = 0; n < block_frames; ++n)
      for (int64_t c = 0; c < wires_; ++c) wires_out_[size_t(wires_ * n + c)] = wire(c, n);
    interrupted_ = !loop_.process(wires_out_, wires_in_);
    for (int64_t n = 0; n < block_frames; ++n)
      for (int64_t c = 0; c < inputs_; ++c)
        in_[size_t(n * inputs_ + c)] = wires_in_[size_t(wires_ * n + c + order_.first_input)];
  }
  /// What is played on one of the wires.
  double wire(int64_t c, int64_t n) const {
    const int64_t from = c - order_.first_output;
    return from >= 0 && from < outputs_ ? out_[size_t(n * outputs_ + from)] : 0;
  }

  const StreamOrder order_;
  const StreamCallback callback_;
  const int64_t inputs_, outputs_, wires_;  // no more wires than are used
  ConverterLoop loop_;
  std::vector<double> wires_out_, wires_in_, out_, in_;
  bool interrupted_ = false;
  std::atomic<bool> gone_{false};
  std::jthread thread_;  // last: it ends before what it uses
};

}  // namespace

const char* loop_name() { return "Stand-in converter loop"; }

Device loop_device() {
  Device d;
  d.name = d.of_server = loop_name(), d.backend = "stand-in";
  d.inputs = d.outputs = 4;
  d.rates_hz = {1000, 8000, 16000, 32000, 44100, 48000, 88200, 96000, 176400, 192000, 352800, 384000};
  d.stand_in = d.default_input = d.default_output = true;
  return d;
}

std::unique_ptr<Stream> open_loop(const StreamOrder& order, StreamCallback callback) {
  return std::make_unique<LoopStream>(order, std::move(callback));
}

}  // namespace heathmist
