// Where sound goes: a real device (core/devices), or, where there is none, a simulated one that runs on a clock.
#pragma once
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

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
  /// Why nothing is heard any more though it was started: "NAME: it is gone"; empty: all is well.
  virtual std::string lost() const { return {}; }
  virtual int device_rate_hz() const = 0;  ///< while it runs
  /// Who brings sound of the rate it was started at to the rate it runs at: nobody, this program, or its server.
  enum class Conversion { none, here, server };
  virtual Conversion conversion() const { return Conversion::none; }  ///< while it runs
  /// The one rate at which its server converts nothing; none: it takes what comes, or that is not known.
  virtual std::optional<int> own_rate_hz() const { return {}; }
  /// From the next start on it runs at that rate, and sound of another one is converted here.
  virtual void set_at_own_rate(bool) {}
};

/// The output of a name; where it is not there, or none is named, the default one; the simulated one where there is
/// none, or where HEATHMIST_AUDIO=simulated.
std::unique_ptr<OutputDevice> open_output(const std::string& name = {});
/// Another one on the same device.
std::unique_ptr<OutputDevice> open_like(const OutputDevice& device);
/// What there is to choose from.
std::vector<std::string> output_names();

/// A device of nothing but time: it takes frames exactly as fast as a real one would.
std::unique_ptr<OutputDevice> simulated_output();

}  // namespace heathmist::app
