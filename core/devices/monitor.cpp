#include "core/devices/monitor.hpp"

#include <atomic>
#include <boost/lockfree/spsc_queue.hpp>
#include <chrono>
#include <cmath>
#include <thread>

#include "core/devices/live_comparison.hpp"
#include "core/devices/playing.hpp"

namespace heathmist {

namespace {

constexpr double monitor_ring_s = 2;
constexpr size_t cloud_frames = 1024, cloud_every = 4;

}  // namespace

struct Monitor::Inside {
  explicit Inside(const MonitorPlan& plan)
      : rate(plan.stream.sample_rate_hz),
        inputs(size_t(plan.stream.inputs)),
        width(inputs + (plan.listen ? 2 : 0)),
        can_wait(plan.stream.loop.clock == 0),
        most_seconds(size_t(std::max(60.0, plan.history_s))),
        ring(size_t(monitor_ring_s * rate) * width),
        playing(plan.play, plan.stream.outputs, true),
        sent_width(size_t(plan.stream.outputs)),
        sent(std::max<size_t>(1, plan.play ? size_t(monitor_ring_s * rate) * sent_width : 0)),
        meter(rate),
        spectrum(rate) {
    send();
    if (plan.history_s > 0) history = std::make_unique<AudioHistory>(rate, plan.history_s);
    if (plan.listen) live = std::make_unique<LiveComparison>(plan);
    stream = open_stream(live ? live->order() : plan.stream, [this](const StreamBlock& block) { return take(block); });
    thread = std::jthread([this](std::stop_token stop) { run(stop); });
  }
  ~Inside() {
    thread.request_stop();
    thread.join();
    stream.reset();
  }

  /// The device's thread.
  bool take(const StreamBlock& block) {
    const size_t count = size_t(block.frames);
    const bool sends = playing.frames() > 0 && (!live || live->has_begun());
    if (ring.write_available() < count * width) {
      if (!can_wait) ++interruptions;
      return false;
    }
    if (can_wait && sends && sent.read_available() < count * sent_width) return false;
    if (block.interrupted) ++interruptions;
    if (live) {
      if (!live->pass(block, sent, ring)) ++interruptions;
      return true;
    }
    if (sends && sent.pop(block.out.data(), block.out.size()) < block.out.size()) ++interruptions;
    ring.push(block.in.data(), block.in.size());
    return true;
  }

  void run(const std::stop_token& stop) {
    std::vector<double> came(size_t(rate / 50) * width), in, stereo, master;
    while (!stop.stop_requested()) {
      send();
      const size_t count = ring.pop(came.data(), came.size()) / width;
      if (count == 0) {
        std::this_thread::sleep_for(can_wait ? std::chrono::microseconds(100) : std::chrono::milliseconds(10));
        note_loss();
        continue;
      }
      in.resize(count * inputs), stereo.resize(count * 2), master.resize(live ? count * 2 : 0);
      for (size_t n = 0; n < count; ++n) {
        const double* frame = &came[n * width];
        std::copy_n(frame, inputs, &in[n * inputs]);
        for (size_t c = 0; c < 2; ++c) stereo[2 * n + c] = frame[std::min(c, inputs - 1)];
        if (live) std::copy_n(frame + inputs, 2, &master[2 * n]);
      }
      if (live && !live->has_begun()) {
        live->listen_for_mark(in);  // which is no part of what is measured
        continue;
      }
      const std::scoped_lock whole(moment);
      measure(stereo);
      if (live) live->measure(master, meter.reading());
    }
  }

  /// What is played is read ahead.
  void send() {
    if (send_failed) return;
    try {
      while (playing.has_more() && sent.write_available() >= playing.block_samples()) {
        const auto samples = playing.next();
        sent.push(samples.data(), samples.size());
      }
    } catch (const InputError& error) {
      send_failed = true;
      const std::scoped_lock held(lock);
      lost = error.what();
    }
  }

  void note_loss() {
    auto why = stream->lost();
    if (why.empty() && live) why = live->lost();
    if (!why.empty()) {
      const std::scoped_lock held(lock);
      lost = std::move(why);
    }
  }

  void measure(std::span<const double> stereo) {
    if (resetting.exchange(false)) {
      meter.reset(), spectrum.reset();
      if (live) live->reset();
      const std::scoped_lock held(lock);
      held_peak = {};
    }
    meter.add(stereo);
    spectrum.add(stereo);
    const bool kept = !history || history->add(stereo);
    const std::scoped_lock held(lock);
    if (!kept && lost.empty()) lost = "The disk for the history is full: nothing more is kept, all else goes on";
    for (size_t n = 0; n < stereo.size(); ++n) {
      const double level = std::abs(stereo[n]);
      running_peak[n % 2] = std::max(running_peak[n % 2], level);
      held_peak[n % 2] = std::max(held_peak[n % 2], level);
    }
    for (size_t n = 0; n + 1 < stereo.size(); n += 2 * cloud_every) {
      cloud.push_back({float(stereo[n]), float(stereo[n + 1])});
      if (cloud.size() > cloud_frames) cloud.pop_front();
    }
    frames += int64_t(stereo.size() / 2);
    if (frames - tenth_at >= rate / 10) end_tenth();
  }

  // with the lock held
  void end_tenth() {
    tenth_at = frames;
    peak = running_peak;
    second.peak = std::max({second.peak, peak[0], peak[1]});
    running_peak = {};
    const auto now = meter.reading();
    if (now.momentary_lufs)
      second.momentary_max_lufs = std::max(second.momentary_max_lufs.value_or(-300), *now.momentary_lufs);
    if (frames - second_at < rate) return;
    second_at += rate;
    second.short_term_lufs = now.short_term_lufs;
    const auto lines = spectrum.lines();
    if (!lines.momentary.empty()) std::copy_n(lines.momentary.begin(), second.spectrum.size(), second.spectrum.begin());
    seconds.push_back(second);
    if (seconds.size() > most_seconds) seconds.pop_front();
    second = {};
  }

  const int rate;
  const size_t inputs, width;  // of a frame of the ring: what came in, and the master that belongs to it
  const bool can_wait;
  const size_t most_seconds;
  boost::lockfree::spsc_queue<double> ring;
  Playing playing;
  const size_t sent_width;
  boost::lockfree::spsc_queue<double> sent;
  bool send_failed = false;
  LiveMeter meter;
  LiveSpectrum spectrum;
  std::unique_ptr<AudioHistory> history;
  std::atomic<int64_t> interruptions{0};
  std::atomic<bool> resetting{false};

  std::mutex moment;  // taken before `lock`: a reading falls between two blocks, so that all of it is of one moment
  mutable std::mutex lock;  // of what follows; the device's thread takes neither
  std::array<double, 2> peak{}, running_peak{}, held_peak{};
  std::deque<std::array<float, 2>> cloud;
  std::deque<MonitorSecond> seconds;
  MonitorSecond second;
  int64_t frames = 0, tenth_at = 0, second_at = 0;
  std::string lost;

  std::unique_ptr<LiveComparison> live;
  std::unique_ptr<Stream> stream;
  std::jthread thread;
};

Monitor::Monitor(const MonitorPlan& plan) {
  if (plan.listen && (!plan.play || plan.stream.output.empty()))
    throw std::invalid_argument("nothing is sent that could be heard beside its return; choose a master to send");
  inside_ = std::make_unique<Inside>(plan);
}
Monitor::~Monitor() = default;

MonitorReading Monitor::reading() const {
  auto& i = *inside_;
  const std::scoped_lock whole(i.moment);
  MonitorReading r;
  r.loudness = i.meter.reading();
  if (r.loudness.true_peak_dbtp && r.loudness.integrated_lufs)
    r.plr_db = *r.loudness.true_peak_dbtp - *r.loudness.integrated_lufs;
  r.spectrum = i.spectrum.lines();
  r.interruptions = i.interruptions;
  if (i.live) r.live = i.live->reading();
  const std::scoped_lock held(i.lock);
  r.peak = i.peak, r.held_peak = i.held_peak;
  r.stereo.assign(i.cloud.begin(), i.cloud.end());
  r.seconds = double(i.frames) / i.rate;
  r.lost = i.lost;
  return r;
}

void Monitor::hear_return(bool on) {
  if (inside_->live) inside_->live->hear_return(on);
}
void Monitor::match(bool on) {
  if (inside_->live) inside_->live->match(on);
}

void Monitor::reset() { inside_->resetting = true; }

std::vector<MonitorSecond> Monitor::seconds() const {
  const std::scoped_lock held(inside_->lock);
  return {inside_->seconds.begin(), inside_->seconds.end()};
}

const std::vector<float>& Monitor::hz() const { return inside_->spectrum.hz(); }
const AudioHistory* Monitor::history() const { return inside_->history.get(); }
int Monitor::sample_rate_hz() const { return inside_->rate; }

Spectrogram spectrogram_of(const std::vector<MonitorSecond>& seconds, const std::vector<float>& hz) {
  Spectrogram cells;
  cells.columns = std::max(1, int(seconds.size()));
  cells.rows = int(hz.size());
  cells.last_s = double(cells.columns);
  const double half_step = std::sqrt(double(hz[1]) / hz[0]);
  for (const float f : hz) cells.edges_hz.push_back(f / half_step);
  cells.edges_hz.push_back(hz.back() * half_step);
  cells.db.assign(size_t(cells.columns) * hz.size(), -300.f);
  for (size_t n = 0; n < seconds.size(); ++n)
    std::copy_n(seconds[n].spectrum.begin(), hz.size(), cells.db.begin() + std::ptrdiff_t(n * hz.size()));
  return cells;
}

}  // namespace heathmist
