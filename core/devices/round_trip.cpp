#include "core/devices/round_trip.hpp"

#include "core/probes/sync_mark.hpp"

namespace heathmist {

namespace {

constexpr double sent_at_s = 0.2;  // after the start: devices begin with a click
constexpr double wait_s = 2.5;     // for its return
constexpr double look_every_s = 0.25;
constexpr double mark_s = 0.35;  // and what follows it
constexpr int least_mark_rate_hz = 7000;

}  // namespace

RoundTrip::RoundTrip(int sample_rate_hz, int inputs)
    : rate_(sample_rate_hz),
      mark_(sample_rate_hz >= least_mark_rate_hz ? sync_mark(sample_rate_hz) : std::vector<double>()),
      sent_at_(int64_t(sent_at_s * sample_rate_hz)),
      heard_(size_t(inputs)),
      look_at_(size_t((sent_at_s + 0.4) * sample_rate_hz)),
      ended_(mark_.empty()) {}

void RoundTrip::send(std::span<double> out, int of_outputs, int first, int count, int64_t at) const {
  const auto frames = int64_t(out.size()) / of_outputs;
  for (int64_t n = 0; n < frames; ++n)
    if (const int64_t k = at + n - sent_at_; k >= 0 && k < int64_t(mark_.size()))
      for (int c = first; c < first + count; ++c) out[size_t(n * of_outputs + c)] = mark_[size_t(k)];
}

void RoundTrip::listen(std::span<const double> came) {
  if (ended_) return;
  for (size_t n = 0; n < came.size(); ++n) heard_[n % heard_.size()].push_back(came[n]);
  const size_t frames = heard_[0].size();
  if (frames >= look_at_) {
    look_at_ += size_t(look_every_s * rate_);
    for (const auto& channel : heard_)  // the first that has the whole of it
      if (const auto mark = find_sync_mark(channel, rate_);
          mark && double(channel.size()) > mark->at_samples + mark_s * rate_) {
        latency_ = mark->at_samples - double(sent_at_);
        break;
      }
  }
  ended_ = latency_ || double(frames) >= (sent_at_s + wait_s) * rate_;
  if (ended_) heard_.clear();
}

}  // namespace heathmist
