#include "core/devices/capture.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <atomic>
#include <boost/lockfree/spsc_queue.hpp>
#include <chrono>
#include <cmath>
#include <thread>

#include "core/devices/playing.hpp"
#include "core/devices/round_trip.hpp"
#include "core/printable.hpp"

namespace heathmist {

namespace {

constexpr double ring_s = 8;          // of what came in and waits for the disk
constexpr double tail_s = 0.25;       // recorded after the last of what was played came back
constexpr double tail_unknown_s = 2;  // the same where nobody knows how late it comes back
constexpr const char* kept = "; what came until then is kept";
constexpr size_t most_places = 1000;  // of interruptions

/// What the device's thread does: samples from one ring go out, samples that come in go to another. It waits for
/// nothing and allocates nothing.
class Passing {
 public:
  /// `chirp`: goes out first; nullptr: there is none.
  Passing(const StreamOrder& order, const RoundTrip* chirp)
      : inputs_(size_t(order.inputs)),
        outputs_(order.output.empty() ? 0 : size_t(order.outputs)),
        chirp_(chirp),
        can_wait_(order.loop.clock == 0),
        in_(size_t(ring_s * order.sample_rate_hz) * inputs_),
        out_(std::max<size_t>(1, size_t(ring_s * order.sample_rate_hz) * outputs_)),
        losses_(most_places) {}

  bool pass(const StreamBlock& block) {
    if (in_.write_available() < block.in.size()) {
      if (!waiting_ && !can_wait_) lose(at_);
      waiting_ = true;
      return false;
    }
    if (can_wait_ && starting_ && !all_played_ && out_.read_available() < block.out.size()) return false;
    waiting_ = false;
    if (block.interrupted && at_ > 0) lose(at_);
    if (outputs_ > 0) play(block);
    in_.push(block.in.data(), block.in.size());
    at_ += block.frames;
    return true;
  }

  // by the recording thread
  void start_playing() { starting_ = true; }
  void no_more_to_play() { all_played_ = true; }
  int64_t played_from() const { return played_from_; }  ///< frame of the stream; -1: not yet
  size_t room_to_play() const { return out_.write_available(); }
  void queue(std::span<const double> samples) { out_.push(samples.data(), samples.size()); }
  size_t take(std::span<double> samples) { return in_.pop(samples.data(), samples.size()); }
  bool take_loss(int64_t& frame) { return losses_.pop(frame); }

 private:
  void lose(int64_t frame) { losses_.push(frame); }

  void play(const StreamBlock& block) {
    if (chirp_) chirp_->send(block.out, int(outputs_), 0, int(outputs_), at_);
    if (!starting_) return;
    if (played_from_ < 0) played_from_ = at_;
    const size_t given = out_.pop(block.out.data(), block.out.size());
    if (given < block.out.size() && !all_played_) lose(at_);
  }

  using Ring = boost::lockfree::spsc_queue<double>;
  const size_t inputs_, outputs_;
  const RoundTrip* chirp_;
  const bool can_wait_;  // a stand-in's clock
  Ring in_, out_;
  boost::lockfree::spsc_queue<int64_t> losses_;
  std::atomic<int64_t> played_from_{-1};
  std::atomic<bool> starting_{false}, all_played_{false};
  bool waiting_ = false;
  int64_t at_ = 0;  // frames of the stream until now
};

/// A recording from its start to its end, in the calling thread.
class Take {
 public:
  Take(const CapturePlan& plan, const Job& job, const std::function<void(const CaptureReading&)>& watch)
      : plan_(plan),
        job_(job),
        watch_(watch),
        rate_(plan.stream.sample_rate_hz),
        inputs_(size_t(plan.stream.inputs)),
        playing_(plan.play, plan.stream.outputs),
        chirp_(rate_, plan.stream.inputs),
        sends_chirp_(plan.play && plan.chirp && !chirp_.has_ended()),
        passing_(plan.stream, sends_chirp_ ? &chirp_ : nullptr),
        recording_(plan.to, rate_, plan.stream.inputs, plan.word),
        buffer_(size_t(1 << 13) * inputs_) {
    reading_.peak.assign(inputs_, 0), reading_.held_peak.assign(inputs_, 0);
  }

  Captured run() {
    read_ahead();
    const auto stream = open_stream(plan_.stream, [this](const StreamBlock& block) { return passing_.pass(block); });
    if (sends_chirp_) listen_for_chirp(*stream);
    if (!ends_early(*stream)) record(*stream);
    return ended();
  }

 private:
  bool ends_early(const Stream& stream) {
    if (const auto lost = stream.lost(); result_.cut_short.empty() && !lost.empty())
      result_.cut_short =
          lost + (recording_.frames() > 0 ? kept : "; look at its cable or its server, and begin again");
    return job_.stop.stop_requested() || !result_.cut_short.empty();
  }

  /// The first `limit` samples that came in, or fewer.
  std::span<double> next(size_t limit) {
    return {buffer_.data(), passing_.take({buffer_.data(), std::min(limit, buffer_.size())})};
  }

  void listen_for_chirp(const Stream& stream) {
    while (!ends_early(stream) && !chirp_.has_ended()) {
      const auto came = next(buffer_.size());
      if (came.empty()) nap();
      chirp_.listen(came);
      note_levels(came);
      taken_ += int64_t(came.size() / inputs_);
      tell();
    }
    result_.latency_samples = chirp_.latency_samples();
  }

  int64_t wanted_frames() const {
    const double tail =
        result_.latency_samples ? std::max(0.0, *result_.latency_samples) + tail_s * rate_ : tail_unknown_s * rate_;
    const auto played = plan_.play ? playing_.frames() + int64_t(std::ceil(tail)) : 0;
    return std::max(played, plan_.seconds ? int64_t(std::llround(*plan_.seconds * rate_)) : 0);
  }

  void record(const Stream& stream) {
    reading_.state = CaptureReading::State::running;
    std::fill(reading_.held_peak.begin(), reading_.held_peak.end(), 0.0);
    const int64_t wanted = wanted_frames();
    reading_.of_seconds = double(wanted) / rate_;
    if (plan_.play) {
      passing_.start_playing();
      wait_for_first(stream);
    } else {
      from_ = taken_;
    }
    while (!ends_early(stream) && (wanted == 0 || recording_.frames() < wanted)) {
      feed();
      if (!take_some(wanted)) nap();
      tell();
    }
    while (take_some(wanted)) {
    }  // what came until it was stopped
    if (wanted > 0 && recording_.frames() >= wanted) result_.cut_short.clear();
  }

  /// Until the frame is known that was recorded while the first one went out; what came before is no part of it.
  void wait_for_first(const Stream& stream) {
    std::vector<double> waiting;
    const int64_t waits_from = taken_;
    while (passing_.played_from() < 0 && !ends_early(stream)) {
      const auto came = next(buffer_.size());
      waiting.insert(waiting.end(), came.begin(), came.end());
      taken_ += int64_t(came.size() / inputs_);
      if (came.empty()) nap();
    }
    from_ = std::max<int64_t>(0, passing_.played_from());
    while (taken_ < from_ && !ends_early(stream)) {
      const auto came = next(size_t(from_ - taken_) * inputs_);
      taken_ += int64_t(came.size() / inputs_);
      if (came.empty()) nap();
    }
    if (from_ < taken_ && from_ >= waits_from) keep(std::span(waiting).subspan(size_t(from_ - waits_from) * inputs_));
  }

  /// Throws InputError.
  void read_ahead() {
    while (playing_.has_more() && passing_.room_to_play() >= playing_.block_samples()) passing_.queue(playing_.next());
    if (!playing_.has_more()) passing_.no_more_to_play();
  }

  void feed() {
    try {
      read_ahead();
    } catch (const InputError& error) {
      result_.cut_short = error.what() + std::string(kept);
    }
  }

  bool take_some(int64_t wanted) {
    const auto limit = wanted > 0 ? size_t(wanted - recording_.frames()) * inputs_ : buffer_.size();
    const auto came = limit > 0 ? next(limit) : std::span<double>();
    if (came.empty() || disk_failed_) return false;
    taken_ += int64_t(came.size() / inputs_);
    keep(came);
    return !disk_failed_;
  }

  void keep(std::span<const double> came) {
    note_levels(came);
    try {
      recording_.write(came);
    } catch (const InputError& error) {
      disk_failed_ = true;
      result_.cut_short = error.what();
    }
  }

  void note_levels(std::span<const double> came) {
    for (size_t n = 0; n < came.size(); ++n) {
      double& peak = reading_.peak[n % inputs_];
      peak = std::max(peak, std::abs(came[n]));
    }
    for (size_t c = 0; c < inputs_; ++c) reading_.held_peak[c] = std::max(reading_.held_peak[c], reading_.peak[c]);
  }

  void note_losses() {
    for (int64_t frame; passing_.take_loss(frame);) {
      if (from_ < 0 || frame < from_) continue;
      ++result_.interruptions;
      if (result_.interrupted_s.size() < most_places) result_.interrupted_s.push_back(double(frame - from_) / rate_);
    }
    reading_.interruptions = result_.interruptions;
  }

  void tell() {
    const auto now = std::chrono::steady_clock::now();
    if (now - told_at_ < std::chrono::milliseconds(50)) return;
    told_at_ = now;
    note_losses();
    reading_.seconds = double(recording_.frames()) / rate_;
    if (watch_) watch_(reading_);
    if (reading_.of_seconds > 0) job_.report(std::min(1.0, reading_.seconds / reading_.of_seconds));
    std::fill(reading_.peak.begin(), reading_.peak.end(), 0.0);
  }

  void nap() const {
    std::this_thread::sleep_for(std::chrono::microseconds(plan_.stream.loop.clock == 0 ? 100 : 2000));
  }

  Captured ended() {
    note_losses();
    if (recording_.frames() == 0) {
      if (!result_.cut_short.empty()) throw DeviceError(result_.cut_short);
      throw Cancelled();
    }
    result_.sample_rate_hz = rate_, result_.channels = int(inputs_);
    result_.frames = recording_.frames();
    try {
      recording_.finish();
    } catch (const InputError& error) {
      if (result_.cut_short.empty()) result_.cut_short = error.what();
    }
    result_.file = recording_.file();
    return std::move(result_);
  }

  const CapturePlan& plan_;
  const Job& job_;
  const std::function<void(const CaptureReading&)>& watch_;
  const int rate_;
  const size_t inputs_;
  Playing playing_;
  RoundTrip chirp_;
  const bool sends_chirp_;
  Passing passing_;
  Recording recording_;
  std::vector<double> buffer_;
  CaptureReading reading_;
  Captured result_;
  int64_t taken_ = 0, from_ = -1;  // frames of the stream: until now; with which the recording begins
  bool disk_failed_ = false;
  std::chrono::steady_clock::time_point told_at_{};
};

}  // namespace

Captured capture(const CapturePlan& plan, const Job& job, const std::function<void(const CaptureReading&)>& watch) {
  if (plan.stream.input.empty()) throw DeviceError("no device to record from was chosen; choose one");
  if (plan.play && plan.stream.output.empty()) throw DeviceError("no device to play through was chosen; choose one");
  if (plan.play && plan.play->format().sample_rate_hz != plan.stream.sample_rate_hz)
    throw std::invalid_argument(
        fmt::format("{}: it has {} Hz and the device was to run at {} Hz; let it run at the "
                    "master's rate, or convert the master first",
                    printable(plan.play->path()), plan.play->format().sample_rate_hz, plan.stream.sample_rate_hz));
  if (plan.play && plan.play->format().channels > std::max(1, plan.stream.outputs))
    throw std::invalid_argument(fmt::format("{}: it has {} channels and only {} go out; choose more outputs",
                                            printable(plan.play->path()), plan.play->format().channels,
                                            plan.stream.outputs));
  Destination to = plan.to;
  if (plan.play) to.inputs.push_back(plan.play->path());
  CapturePlan safe = plan;
  safe.to = to;
  return Take(safe, job, watch).run();
}

}  // namespace heathmist
