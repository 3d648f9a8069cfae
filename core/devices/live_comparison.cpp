#include "core/devices/live_comparison.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "core/dsp/decibels.hpp"
#include "core/printable.hpp"

namespace heathmist {

namespace {

constexpr double elsewhere_s = 0.1;  // sound that waits for another device, whose clock is not the same
constexpr double most_gain_db = 30, silent_lufs = -70, pause_lu = 6;

/// The outputs from the first to the last of both pairs.
StreamOrder widened(const MonitorPlan& plan) {
  StreamOrder order = plan.stream;
  if (plan.listen->device != order.output) return order;
  const int send = order.first_output, send_end = send + order.outputs, hear = plan.listen->first;
  if (hear < send_end && send < hear + 2)
    throw std::invalid_argument(
        fmt::format("{}: what is sent goes out where it is listened to; listen to other outputs than {} to {}",
                    printable(order.output), send + 1, send_end));
  order.first_output = std::min(send, hear);
  order.outputs = std::max(send_end, hear + 2) - order.first_output;
  return order;
}

}  // namespace

LiveComparison::LiveComparison(const MonitorPlan& plan)
    : order_(widened(plan)),
      inputs_(order_.inputs),
      send_at_(plan.stream.first_output - order_.first_output),
      sends_(plan.stream.outputs),
      mark_(order_.sample_rate_hz, inputs_),
      switch_(order_.sample_rate_hz),
      frame_(size_t(inputs_) + 2),
      sent_frame_(size_t(sends_)),
      master_(order_.sample_rate_hz),
      spectrum_(order_.sample_rate_hz),
      heard_(size_t(order_.sample_rate_hz) * 2),
      elsewhere_frames_(int64_t(elsewhere_s * order_.sample_rate_hz)) {
  if (plan.listen->device == order_.output) {
    hear_at_ = plan.listen->first - order_.first_output;
    return;
  }
  const StreamOrder elsewhere{.output = plan.listen->device,
                              .sample_rate_hz = order_.sample_rate_hz,
                              .outputs = 2,
                              .first_output = plan.listen->first,
                              .loop = order_.loop};
  other_ = open_stream(elsewhere, [this](const StreamBlock& block) {
    play_elsewhere(block);
    return true;
  });
}

bool LiveComparison::pass(const StreamBlock& block, Ring& sent, Ring& came) {
  const bool sends = begun_;
  const auto width = size_t(order_.outputs), inputs = size_t(inputs_);
  bool enough = true;
  if (!sends) mark_.send(block.out, order_.outputs, send_at_, sends_, at_);
  for (size_t n = 0; n < size_t(block.frames); ++n) {
    std::fill(sent_frame_.begin(), sent_frame_.end(), 0.0);
    if (sends) {
      enough = sent.pop(sent_frame_.data(), sent_frame_.size()) == sent_frame_.size() && enough;
      std::copy(sent_frame_.begin(), sent_frame_.end(), &block.out[n * width + size_t(send_at_)]);
    }
    const double* in = &block.in[n * inputs];
    const auto passed = switch_.pass({sent_frame_.front(), sent_frame_[std::min<size_t>(1, sent_frame_.size() - 1)]},
                                     {in[0], in[std::min<size_t>(1, inputs - 1)]});
    const LiveSwitch::Frame heard = sends ? passed.heard : LiveSwitch::Frame{};
    if (hear_at_ >= 0)
      std::copy(heard.begin(), heard.end(), &block.out[n * width + size_t(hear_at_)]);
    else
      heard_.push(heard.data(), heard.size());
    std::copy_n(in, inputs, frame_.begin());
    std::copy(passed.master.begin(), passed.master.end(), frame_.begin() + std::ptrdiff_t(inputs));
    came.push(frame_.data(), frame_.size());
  }
  at_ += block.frames;
  return enough;
}

/// What the two clocks run apart is made up for by a moment of silence, or by one left out.
void LiveComparison::play_elsewhere(const StreamBlock& block) {
  const auto waiting = int64_t(heard_.read_available() / 2);
  if (!flowing_ && waiting < std::max(elsewhere_frames_, block.frames)) return;
  flowing_ = true;
  double unheard[2];
  for (int64_t n = waiting; n > 2 * std::max(elsewhere_frames_, block.frames); --n) heard_.pop(unheard, 2);
  flowing_ = heard_.pop(block.out.data(), block.out.size()) == block.out.size();
}

void LiveComparison::listen_for_mark(std::span<const double> came) {
  mark_.listen(came);
  if (!mark_.has_ended()) return;
  const std::scoped_lock held(lock_);
  reading_.begun = true;
  reading_.round_trip_samples = mark_.latency_samples();
  const auto frames = int64_t(std::llround(reading_.round_trip_samples.value_or(0)));
  switch_.set_delay(frames);
  switch_.restore();
  begun_ = true;
}

void LiveComparison::measure(std::span<const double> master, const LiveMeter::Reading& ret) {
  master_.add(master);
  spectrum_.add(master);
  const auto now = master_.reading();
  const bool whole = now.short_term_lufs && ret.short_term_lufs;
  const auto ours = whole ? now.short_term_lufs : now.momentary_lufs,
             theirs = whole ? ret.short_term_lufs : ret.momentary_lufs;
  // in a pause the last 3 s are what was before it, and more and more of the process' own noise
  const bool pause = !now.momentary_lufs || !ours || *now.momentary_lufs < *ours - pause_lu;
  if (!pause && theirs && *ours > silent_lufs && *theirs > silent_lufs) take_gain(*ours, *theirs);
  if (!matched_) switch_.set_return_gain(1);
  const std::scoped_lock held(lock_);
  reading_.master_lufs = ours, reading_.return_lufs = theirs;
}

void LiveComparison::take_gain(double master_lufs, double return_lufs) {
  const double gain_db = std::clamp(master_lufs - return_lufs, -most_gain_db, most_gain_db);
  if (matched_) switch_.set_return_gain(dsp::gain_of(gain_db));
  const std::scoped_lock held(lock_);
  reading_.return_gain_db = gain_db;
}

void LiveComparison::reset() {
  master_.reset(), spectrum_.reset();
  switch_.restore();
}

LiveReading LiveComparison::reading() const {
  LiveReading r;
  {
    const std::scoped_lock held(lock_);
    r = reading_;
  }
  r.trim_db = dsp::db_of(switch_.trim());
  r.hears_return = switch_.hears_return(), r.matched = matched_;
  r.master_spectrum = spectrum_.lines().average;
  return r;
}

}  // namespace heathmist
