// Audio devices: what there is, and a stream through them, out and in, block by block.
//
//   for (const Device& d : devices()) ...
//   auto stream = open_stream({.input = "system", .output = "system", .sample_rate_hz = 48000},
//                             [](const StreamBlock& block) { ...; return true; });
//
// Samples are doubles with full scale = 1, interleaved. Integers of up to 32 bits and floats of 32 bits pass exact, in
// both directions. Through JACK, PulseAudio and ALSA by RtAudio; stand-ins need no hardware (converter_loop.hpp).
#pragma once
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <stdexcept>
#include <string>
#include <vector>

#include "core/devices/converter_loop.hpp"

namespace heathmist {

/// A device that cannot be used, or went away. what() is one sentence: which, what is wrong, what to do.
struct DeviceError : std::runtime_error {
  using std::runtime_error::runtime_error;
};

struct Device {
  std::string name;       ///< no two have the same
  std::string of_server;  ///< what its server calls it
  std::string backend;    ///< "JACK", "PulseAudio", "ALSA", "stand-in"
  int inputs = 0, outputs = 0;
  std::vector<int> rates_hz;       ///< it can be opened at
  std::optional<int> own_rate_hz;  ///< at every other one it is converted on the way; none: at none of them
  bool stand_in = false;
  bool default_input = false, default_output = false;  ///< of its backend

  bool has_rate(int rate_hz) const;
  bool converts(int rate_hz) const { return own_rate_hz && *own_rate_hz != rate_hz; }
};

/// All that there are just now, the ones to be taken first in front; stand-ins last. Asks every server that runs.
std::vector<Device> devices();

/// The one to record from or to play through where none was named: the first that can; a stand-in where no other is.
const Device* default_input(const std::vector<Device>& all);
const Device* default_output(const std::vector<Device>& all);
/// The one of a name. Throws std::invalid_argument that lists the names that there are.
const Device& device_of(const std::vector<Device>& all, const std::string& name);

/// What records just what a device plays, or plays what it records: of a PulseAudio sink its monitor, and of that the
/// sink. nullptr: there is none.
const Device* counterpart_of(const std::vector<Device>& all, const Device& device);

/// Two outputs of a device, `first` and the one after it.
struct OutputPair {
  std::string device;
  int first = 0;
  bool operator==(const OutputPair&) const = default;
};

struct StreamOrder {
  std::string input{}, output{};  ///< names; empty: nothing comes in, nothing goes out. Both are of one backend
  int sample_rate_hz = 48000;
  int inputs = 2, first_input = 0, outputs = 2, first_output = 0;  ///< channels
  LoopSettings loop{};                                             ///< of a stand-in
  bool operator==(const StreamOrder&) const = default;
};

/// Where sound can be heard while an order's outputs send other sound: pairs of its own device first, then those of
/// others that run at its rate; a stand-in, which makes no sound, beside a stand-in only.
std::vector<OutputPair> outputs_beside(const std::vector<Device>& all, const StreamOrder& order);

/// What passes in one call: `in` is `inputs` wide, `out` (silent when it comes) `outputs` wide, both equally long.
struct StreamBlock {
  int64_t frames = 0;
  std::span<const double> in;
  std::span<double> out;
  bool interrupted = false;  ///< the device lost sound before this block
};
/// Called in the device's own thread; must neither wait nor allocate nor throw. False: there is no room for it just
/// now; it is lost, but for a stand-in whose clock waits.
using StreamCallback = std::function<bool(const StreamBlock&)>;

class Stream {
 public:
  virtual ~Stream() = default;  ///< stops; no call comes after it
  /// Why it gives no more sound, "NAME: it is gone"; empty: it does.
  virtual std::string lost() const = 0;
  Stream() = default;
  Stream(const Stream&) = delete;
  Stream& operator=(const Stream&) = delete;
};

/// What the stand-in is called.
const char* loop_name();

/// Opens and starts. Throws DeviceError (no such device, a rate it refuses, held by another program, too few channels).
std::unique_ptr<Stream> open_stream(const StreamOrder& order, StreamCallback callback);

}  // namespace heathmist
