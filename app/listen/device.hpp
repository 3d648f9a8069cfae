// Where sound goes: a real device through RtAudio, or, where there is none, a simulated one that runs on a clock.
#pragma once
#include <functional>
#include <memory>
#include <span>
#include <string>

namespace heathmist::app {

/// Fills `out` with stereo frames (left, right, ...). Called from the device's own thread; must not block.
using RenderCallback = std::function<void(std::span<double> out)>;

class OutputDevice {
 public:
  virtual ~OutputDevice() = default;
  /// Starts to call for sound at `sample_rate_hz`; a device that cannot run at that rate converts. False where it
  /// cannot start.
  virtual bool start(int sample_rate_hz, RenderCallback render) = 0;
  virtual void stop() = 0;
  virtual std::string name() const = 0;
  virtual bool is_simulated() const = 0;
  virtual int device_rate_hz() const = 0;  ///< while it runs
};

/// The default output, or the simulated one where there is none, or where HEATHMIST_AUDIO=simulated.
std::unique_ptr<OutputDevice> open_output();

/// A device of nothing but time: it takes frames exactly as fast as a real one would.
std::unique_ptr<OutputDevice> simulated_output();

}  // namespace heathmist::app
