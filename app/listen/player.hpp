// The transport: reads master and laid return ahead in a thread of its own, mixes in the device's.
#pragma once
#include <QObject>
#include <QTimer>
#include <atomic>
#include <chrono>
#include <condition_variable>
#include <mutex>
#include <thread>

#include "app/listen/device.hpp"
#include "app/listen/mixer.hpp"
#include "app/listen/pair_stream.hpp"
#include "app/listen/seam.hpp"
#include "core/measure/live_meter.hpp"

namespace heathmist::app {

class Player : public QObject {
  Q_OBJECT

 public:
  explicit Player(std::unique_ptr<OutputDevice> device, QObject* parent = nullptr);
  ~Player() override;

  /// What is to be heard: a pair at one rate and the fit that lays the return on the master. Keeps place and transport.
  void set_source(const Comparable& pair, const Fit& fit);
  void clear_source();
  /// One cause is heard by itself in place of the residual, and the return without it; nothing: both as they are. Let
  /// go by another source.
  void set_cause(std::shared_ptr<const Clip> cause);
  bool has_source() const;
  void play();
  void pause();
  bool is_playing() const { return playing_; }
  void seek(double at_s);
  double place_s() const;
  void set_loop(std::optional<std::pair<double, double>> seconds);
  /// Only this band of all three is heard; nothing: all of it.
  void set_band(std::optional<std::pair<double, double>> hz);
  void set_mix(const MixSettings& settings);
  MixSettings mix() const;
  const OutputDevice& device() const { return *device_; }
  LiveMeter::Reading meters() const { return meter_->reading(); }  ///< of what is heard
  void reset_meters() { meter_->reset(); }

 signals:
  void moved(double at_s);
  void playing_changed(bool playing);
  void source_changed();                 ///< a cause that was heard is let go with it
  void failed(const QString& sentence);  ///< a file went away or broke off while it was heard; playing has stopped

 private:
  static constexpr int fade_out_ms = 60;  // until the device is stopped: the fade, and what it holds
  static constexpr size_t block_frames = 512, ring_blocks = 320;
  static constexpr double ahead_s = 0.4;  // read ahead, at every rate
  struct RingBlock {
    uint64_t epoch = 0;
    int64_t first = 0;
    size_t frames = 0;
    std::array<MixFrame, block_frames> data;
  };
  /// What the feeder reads next, taken with the lock held and read without it.
  struct Order {
    std::shared_ptr<PairStream> source;
    Hearing hearing;
    uint64_t epoch = 0;
    int64_t first = 0, then = 0;  // then: where the block after it begins
    size_t frames = 0;
  };
  void feed(std::stop_token stop);
  std::optional<Order> next_order() const;  // nothing to be read: none
  bool has_room() const;
  std::pair<int64_t, int64_t> loop_frames() const;  // nothing to loop: both 0
  QString lost_file(const PairStream& source);      // a sentence where one of the files is gone
  void lose(const std::shared_ptr<PairStream>& source, const QString& sentence);
  void give_up(const QString& sentence);
  void render(std::span<double> out);
  void restart_device();
  void stop_device();
  void read_anew();

  std::unique_ptr<OutputDevice> device_;
  QTimer ticker_, fading_out_;
  std::atomic<bool> playing_{false}, ended_{false};

  mutable std::mutex lock_;  // of what follows: held for moments only, never by the device's thread
  std::condition_variable_any wake_;
  std::shared_ptr<PairStream> source_;  // read by the feeder alone
  Hearing hearing_;
  int64_t read_at_ = 0;
  std::optional<std::pair<double, double>> loop_s_;  // as it was asked for; cut to what there is where it is read
  MixSettings mix_;

  int rate_ = 0;  // interface only
  std::vector<RingBlock> ring_;
  std::atomic<size_t> written_{0}, read_{0};
  std::atomic<uint64_t> epoch_{1};
  size_t used_ = 0;  // frames of the block being read; device thread only
  std::atomic<int64_t> place_{0}, length_{0};
  Mixer mixer_{48000};
  Seam seam_{48000};
  struct Follows {
    uint64_t epoch;
    int64_t frame;
    bool operator==(const Follows&) const = default;
  };
  std::optional<Follows> follows_;     // what would go on where the device left off; none: silence. Device thread only
  std::atomic<bool> stopping_{false};  // what is heard fades out, and nothing more is read
  bool sounding_ = false;              // the device runs, if only to fade out; interface only
  std::atomic<int> heard_{0};
  std::atomic<double> return_gain_{1}, lift_db_{0};
  std::unique_ptr<LiveMeter> meter_ = std::make_unique<LiveMeter>(48000);
  std::chrono::steady_clock::time_point looked_at_files_{};  // feeder only
  std::jthread feeder_;
};

}  // namespace heathmist::app
