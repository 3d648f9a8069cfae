// Watching what comes in, for days if need be: loudness, true peak, stereo, spectra, and the last hour to look back
// through and to keep.
//
//   Monitor monitor({.stream = {.input = "system", .sample_rate_hz = 48000}});
//   MonitorReading r = monitor.reading();      // as often as it is drawn
//   monitor.history().write(from, to, Destination("kept.wav"), {});
#pragma once
#include <array>
#include <deque>

#include "core/audio/clip.hpp"
#include "core/devices/audio_history.hpp"
#include "core/devices/device.hpp"
#include "core/measure/live_meter.hpp"
#include "core/measure/live_spectrum.hpp"
#include "core/measure/spectrogram.hpp"

namespace heathmist {

struct MonitorPlan {
  StreamOrder stream{};
  double history_s = 3600;  ///< 0: nothing is kept
  /// Sent through the output of the stream meanwhile, round and round: the return of a processor is watched. At the
  /// stream's rate.
  std::shared_ptr<const Clip> play{};
  /// Where what is sent is heard beside what comes back of it, at the same spot and equally loud. Needs something to
  /// play; a sync mark goes out in front of it.
  std::optional<OutputPair> listen{};
};

/// A master heard beside its live return.
struct LiveReading {
  bool begun = false;                          ///< the mark came back, or was waited for; nothing is heard before
  std::optional<double> round_trip_samples{};  ///< none: the mark was not heard, and the master is not late at all
  std::optional<double> master_lufs{}, return_lufs{};  ///< of the same 3 s
  double return_gain_db = 0;  ///< that brings the return to the master's loudness; stays as it was in a quiet moment
  double trim_db = 0;         ///< by so much both are heard lower, so that neither clips
  bool hears_return = false, matched = true;
  std::vector<float> master_spectrum{};  ///< average since the reset, dB at hz(); empty as long as there is none
};

/// What a second of the history was like.
struct MonitorSecond {
  std::optional<double> short_term_lufs, momentary_max_lufs;
  double peak = 0;                                     ///< greatest sample, full scale = 1
  std::array<float, LiveSpectrum::points> spectrum{};  ///< dB
};

/// All of it is of one moment.
struct MonitorReading {
  LiveMeter::Reading loudness{};
  std::optional<double> plr_db{};             ///< true peak - integrated loudness
  std::array<double, 2> peak{}, held_peak{};  ///< of the last tenth of a second; since the reset. Full scale = 1
  LiveSpectrum::Lines spectrum{};
  std::vector<std::array<float, 2>> stereo{};  ///< left and right of the last moments, thinned
  double seconds = 0;                          ///< since the start
  int64_t interruptions = 0;
  std::optional<LiveReading> live{};
  std::string lost{};  ///< why nothing comes any more, or why nothing is kept; empty: all is well
};

class Monitor {
 public:
  /// Opens the device and starts. A single input is shown on both sides; of more than two the first two are. Throws
  /// DeviceError, InputError; std::invalid_argument where it would be listened to at the outputs that send.
  explicit Monitor(const MonitorPlan& plan);
  ~Monitor();
  Monitor(const Monitor&) = delete;
  Monitor& operator=(const Monitor&) = delete;

  MonitorReading reading() const;  ///< from any thread
  void reset();                    ///< integrated loudness, range, peaks, average spectrum
  /// The return, or the master; and whether the return is brought to the master's loudness. Where it is listened to.
  void hear_return(bool on);
  void match(bool on);
  /// The seconds of the history, the oldest first.
  std::vector<MonitorSecond> seconds() const;
  const std::vector<float>& hz() const;  ///< of all spectra
  const AudioHistory* history() const;   ///< nullptr: nothing is kept
  int sample_rate_hz() const;

 private:
  struct Inside;
  std::unique_ptr<Inside> inside_;
};

/// Seconds side by side, a column each; `hz`: of their spectra.
Spectrogram spectrogram_of(const std::vector<MonitorSecond>& seconds, const std::vector<float>& hz);

}  // namespace heathmist
