// A master is sent through a process and heard beside what comes back, while the knobs of the process are turned: at
// the same spot, equally loud. Inside core/devices only; a Monitor has one.
#pragma once
#include <boost/lockfree/spsc_queue.hpp>
#include <memory>
#include <mutex>

#include "core/devices/device.hpp"
#include "core/devices/live_switch.hpp"
#include "core/devices/monitor.hpp"
#include "core/devices/round_trip.hpp"
#include "core/measure/live_meter.hpp"

namespace heathmist {

class LiveComparison {
 public:
  using Ring = boost::lockfree::spsc_queue<double>;

  /// Opens the device that is listened to, where it is another one. Throws DeviceError, std::invalid_argument where the
  /// master would be sent to where it is listened to.
  explicit LiveComparison(const MonitorPlan& plan);
  /// What the stream has to be: wide enough to be heard through, too.
  const StreamOrder& order() const { return order_; }

  // the device's thread
  /// Takes what is to be sent from one ring, plays it and what is heard, and puts what came in, and the master that
  /// belongs to it (two more samples a frame), into another. False: there was too little to send.
  bool pass(const StreamBlock& block, Ring& sent, Ring& came);
  bool has_begun() const {
    return begun_;
  }  ///< the round trip is known, or was waited for in vain; until then it is sent

  // the measuring thread
  void listen_for_mark(std::span<const double> came);  ///< until it has begun
  /// Brings the return to the master's loudness; both stereo, from the same moment on.
  void measure(std::span<const double> master, const LiveMeter::Reading& ret);
  void reset();

  // any thread
  void hear_return(bool on) { switch_.hear_return(on); }
  bool hears_return() const { return switch_.hears_return(); }
  void match(bool on) { matched_ = on; }
  LiveReading reading() const;
  std::string lost() const { return other_ ? other_->lost() : std::string(); }

 private:
  void take_gain(double master_lufs, double return_lufs);
  void hear_elsewhere(const LiveSwitch::Frame& frame);
  void play_elsewhere(const StreamBlock& block);

  StreamOrder order_;
  const int inputs_, send_at_, sends_;  // the first output of the stream that sends, how many do
  int hear_at_ = -1;                    // the first that is listened to; -1: on another device
  RoundTrip mark_;
  LiveSwitch switch_;
  int64_t at_ = 0;
  std::vector<double> frame_, sent_frame_;
  std::atomic<bool> begun_{false}, matched_{true};
  LiveMeter master_;
  LiveSpectrum spectrum_;  // of the master

  mutable std::mutex lock_;
  LiveReading reading_;

  Ring heard_;  // on its way to another device
  int64_t elsewhere_frames_;
  bool flowing_ = false;
  std::unique_ptr<Stream> other_;  // last: it ends before what it uses
};

}  // namespace heathmist
