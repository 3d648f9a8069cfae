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
#include "core/compare/null.hpp"
#include "core/dsp/biquad.hpp"
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
  void failed(const QString& sentence);  ///< a file went away or broke off while it was heard; playing has stopped

 private:
  static constexpr size_t block_frames = 512, ring_blocks = 32;
  struct RingBlock {
    uint64_t epoch = 0;
    int64_t first = 0;
    size_t frames = 0;
    std::array<MixFrame, block_frames> data;
  };
  void feed(std::stop_token stop);
  bool feed_block(RingBlock& block);
  void fill(RingBlock& block);
  std::pair<int64_t, int64_t> loop_frames() const;  // nothing to loop: both 0
  QString lost_file();                              // a sentence where one of the files is gone
  void give_up(const QString& sentence);
  void render(std::span<double> out);
  void restart_device();
  void prepare_band();
  void read_anew();
  void put_cause(RingBlock& block);

  std::unique_ptr<OutputDevice> device_;
  QTimer ticker_;
  std::atomic<bool> playing_{false}, ended_{false};

  mutable std::mutex lock_;  // source, place to read from, loop, mix: never held by the device's thread
  std::condition_variable_any wake_;
  Comparable pair_;
  Fit fit_;
  std::unique_ptr<Reader> reader_;
  std::unique_ptr<LaidReturn> laid_;
  std::shared_ptr<const Clip> cause_clip_;
  std::unique_ptr<Reader> cause_;  // opened by the feeder: it may take a while
  int64_t read_at_ = 0;
  std::optional<std::pair<double, double>> loop_s_;  // as it was asked for; cut to what there is where it is read
  int rate_ = 0;
  MixSettings mix_;
  std::optional<std::pair<double, double>> band_;
  std::vector<dsp::BandPass> filters_;  // of master, return and residual, left and right; empty: no band

  std::vector<RingBlock> ring_;
  std::atomic<size_t> written_{0}, read_{0};
  std::atomic<uint64_t> epoch_{1};
  size_t used_ = 0;  // frames of the block being read; device thread only
  std::atomic<int64_t> place_{0}, length_{0};
  Mixer mixer_{48000};
  std::atomic<int> heard_{0};
  std::atomic<double> return_gain_{1}, lift_db_{0};
  std::unique_ptr<LiveMeter> meter_ = std::make_unique<LiveMeter>(48000);
  std::chrono::steady_clock::time_point looked_at_files_{};  // feeder only
  std::jthread feeder_;
};

}  // namespace heathmist::app
