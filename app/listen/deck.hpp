// Several sounds of one length, played round and round from memory; which one is heard changes at the same place and
// without a click. All are treated alike: the same work for each, whichever is heard.
#pragma once
#include <QObject>
#include <QTimer>
#include <array>
#include <atomic>

#include "app/listen/device.hpp"
#include "app/listen/seam.hpp"
#include "core/hearing/stimuli.hpp"

namespace heathmist::app {

class Deck : public QObject {
  Q_OBJECT

 public:
  static constexpr size_t most = 13;  ///< sounds
  /// A switch is a crossfade in straight lines: long enough to be one, or just long enough not to click.
  static constexpr double crossfade_s = 0.010, cut_s = 0.001;

  using Open = std::function<std::unique_ptr<OutputDevice>()>;
  /// The device is opened when something is first played.
  explicit Deck(Open open, QObject* parent = nullptr);
  ~Deck() override;

  /// Stops, and starts at the beginning when it is played. One to `most` sounds.
  void load(std::shared_ptr<const Stimuli> stimuli);
  /// Another sound of the same length takes the place of one, in the middle of it: as soon as nothing of the old one is
  /// heard any more, until when the first sound is.
  void put(size_t sound, std::shared_ptr<const Planar> in_its_place);
  void set_crossfade(bool on) { switch_s_ = on ? crossfade_s : cut_s; }
  void play();
  void pause();  ///< it fades out by itself
  bool is_playing() const { return playing_; }
  /// Heard from the device's next block on.
  void choose(int sound) { chosen_ = sound; }
  int chosen() const { return chosen_; }
  double place_s() const;
  /// Loudness of what was really sent of a sound: its own, and by how much what left here was louder than it. None: it
  /// was not heard yet.
  std::optional<double> sent_lufs(size_t sound) const;

 signals:
  void playing_changed(bool playing);
  void dropped_out();  ///< the device asks for nothing any more; it is stopped

 private:
  static constexpr int patience_ms = 1000, fade_out_ms = 60;
  void stop_device();
  void look_after();
  void render(std::span<double> out) noexcept;
  size_t target_now() noexcept;
  void mix(std::span<double> out, int64_t at, size_t target) noexcept;
  void note_sent(std::span<const double> out, int64_t at, size_t target) noexcept;

  Open open_;
  std::unique_ptr<OutputDevice> device_;
  std::shared_ptr<const Stimuli> stimuli_;
  QTimer watch_, fading_out_;
  bool playing_ = false;
  int64_t seen_ = 0;  // frames given when it was last looked at
  std::atomic<int> chosen_{0};
  std::atomic<double> switch_s_{crossfade_s};
  std::atomic<bool> stopping_{false};
  std::atomic<int64_t> given_{0}, at_{0};
  /// A sound on its way to the device's thread: what is offered is taken once, and what was taken before is let go when
  /// the next one has been.
  struct Change {
    std::atomic<const Planar*> offer{nullptr};
    std::shared_ptr<const Planar> offered, taken;  // kept for as long as they may be read
  };
  std::array<Change, most> changes_;
  // the device's thread alone
  std::array<const Planar*, most> sound_{};
  std::array<double, most> weight_{};
  Seam seam_{48000};
  int64_t since_jump_ = 0;  // frames since the sound last did not follow on
  bool fades_out_ = false;
  struct Sent {
    std::atomic<double> product{0}, energy{0};  // of what was sent with its own, and of its own
  };
  std::array<Sent, most> sent_{};
};

}  // namespace heathmist::app
