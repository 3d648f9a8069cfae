// The transport: the interface says what is to be heard and never waits; the feeder reads it, the device's thread
// mixes.
#pragma once
#include <QObject>
#include <QTimer>
#include <atomic>

#include "app/listen/device.hpp"
#include "app/listen/feeder.hpp"
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
  /// Another sound is heard in place of the return; nothing: the return itself. Let go by another source,
  /// and by a cause.
  void set_other(std::shared_ptr<const OtherSound> other);
  bool has_other() const { return order_.hearing.other != nullptr; }
  int rate_hz() const { return rate_; }  ///< of what is heard; 0: nothing is
  bool has_source() const { return order_.source != nullptr; }
  void play();
  void pause();
  bool is_playing() const { return playing_; }
  void seek(double at_s);
  double place_s() const;
  void set_loop(std::optional<std::pair<double, double>> seconds);
  /// Only this band of all three is heard; nothing: all of it.
  void set_band(std::optional<std::pair<double, double>> hz);
  void set_mix(const MixSettings& settings);
  const MixSettings& mix() const { return mix_; }
  const OutputDevice& device() const { return *device_; }
  /// What is heard goes on through another one.
  void set_device(std::unique_ptr<OutputDevice> device);
  /// The device runs at its own rate, and sound of another one is converted here and not by its server.
  void set_at_own_rate(bool on);
  bool is_at_own_rate() const { return at_own_rate_; }
  LiveMeter::Reading meters() const { return meter_->reading(); }  ///< of what is heard
  void reset_meters() { meter_->reset(); }

 signals:
  void moved(double at_s);
  void playing_changed(bool playing);
  void device_changed();                 ///< another one, or it runs at another rate
  void source_changed();                 ///< a cause that was heard is let go with it
  void failed(const QString& sentence);  ///< a file or the device went away while it was heard; playing has stopped

 private:
  static constexpr int fade_out_ms = 60;  // until the device is stopped: the fade, and what it holds
  void give_up(const std::shared_ptr<PairStream>& source, const QString& sentence);
  void render(std::span<double> out) noexcept;
  void restart_device();
  void lose_device(const QString& sentence);
  void stop_device();
  void read_from(int64_t frame);

  std::unique_ptr<OutputDevice> device_;
  QTimer ticker_, fading_out_;
  std::atomic<bool> playing_{false}, ended_{false};

  // interface only
  Feeder::Order order_;
  MixSettings mix_;
  int rate_ = 0;
  bool at_own_rate_ = false;
  bool sounding_ = false;  // the device runs, if only to fade out

  std::atomic<uint64_t> epoch_{1};  // of the order
  size_t used_ = 0;                 // frames of the block being read; device thread only
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
  std::atomic<int> heard_{0};
  std::atomic<double> return_gain_{1}, lift_db_{0};
  std::unique_ptr<LiveMeter> meter_ = std::make_unique<LiveMeter>(48000);
  Feeder feeder_;
};

}  // namespace heathmist::app
