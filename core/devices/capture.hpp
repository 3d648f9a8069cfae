// Recording what comes back while a master is played: its delay is known by a chirp in front, and what was lost on the
// way is told.
//
//   CapturePlan plan{.stream = {.input = "system", .output = "system", .sample_rate_hz = 48000},
//                    .play = Clip::open("master.wav"), .to = Destination("return.wav")};
//   Captured c = capture(plan);
//
// The recording begins with the frame that was recorded while the first frame of what is played went out: the master
// lies in it `latency_samples` late.
#pragma once
#include "core/audio/clip.hpp"
#include "core/devices/device.hpp"
#include "core/devices/recording.hpp"

namespace heathmist {

struct CapturePlan {
  StreamOrder stream{};
  WordFormat word = WordFormat::pcm24;
  std::optional<double> seconds{};     ///< at least so long; none: as long as it plays, or until it is stopped
  std::shared_ptr<const Clip> play{};  ///< at the stream's rate; nothing: only what comes in
  bool chirp = true;                   ///< in front of what is played; the recording holds none of it
  Destination to;
};

/// What a recording is like while it runs.
struct CaptureReading {
  enum class State { chirp, running } state = State::chirp;
  double seconds = 0, of_seconds = 0;   ///< recorded; 0: until it is stopped
  std::vector<double> peak, held_peak;  ///< since the last reading, and since the start; full scale = 1
  int64_t interruptions = 0;
};

struct Captured {
  std::filesystem::path file;
  int sample_rate_hz = 0, channels = 0;
  int64_t frames = 0;
  std::optional<double> latency_samples{};  ///< round trip, by the chirp; none: it was not heard
  std::vector<double> interrupted_s{};      ///< where sound was lost, in seconds of the recording; the first thousand
  int64_t interruptions = 0;
  std::string cut_short{};  ///< why it ended before it should have, a sentence; empty: it did not
};

/// Records until all is there or the job is stopped: that ends a recording, and keeps it. `watch` is called some 20
/// times a second. A device that goes away, a disk that is full and a master that cannot be read on end it, too
/// (Captured::cut_short). Throws DeviceError, OutputRefused, InputError, std::invalid_argument where nothing was
/// recorded.
Captured capture(const CapturePlan& plan, const Job& job = {},
                 const std::function<void(const CaptureReading&)>& watch = {});

}  // namespace heathmist
