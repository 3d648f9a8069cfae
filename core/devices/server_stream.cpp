// Real devices, through RtAudio.
#include <RtAudio.h>
#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <cmath>
#include <filesystem>
#include <future>
#include <thread>

#include "core/devices/backends.hpp"
#include "core/printable.hpp"

namespace heathmist {

namespace {

constexpr std::pair<RtAudio::Api, const char*> backends[] = {
    {RtAudio::UNIX_JACK, "JACK"}, {RtAudio::LINUX_PULSE, "PulseAudio"}, {RtAudio::LINUX_ALSA, "ALSA"}};

/// Whether the kernel knows of any audio device; asking ALSA where it does not makes it complain on standard error.
bool has_sound_card() {
  std::error_code none;
  for (const auto& entry : std::filesystem::directory_iterator("/dev/snd", none))
    if (entry.path().filename().string().starts_with("pcm")) return true;
  return false;
}

/// One way to devices, and what is there; nullptr: nothing.
std::unique_ptr<RtAudio> server(RtAudio::Api api) {
  if (api == RtAudio::LINUX_ALSA && !has_sound_card()) return nullptr;
  try {
    auto audio = std::make_unique<RtAudio>(api);
    audio->showWarnings(false);
    return audio->getDeviceCount() > 0 ? std::move(audio) : nullptr;
  } catch (const RtAudioError&) {
    return nullptr;
  }
}

Device described(const RtAudio::DeviceInfo& info, const char* backend) {
  Device d;
  d.name = info.name, d.backend = backend;
  d.inputs = int(info.inputChannels), d.outputs = int(info.outputChannels);
  for (const unsigned rate : info.sampleRates) d.rates_hz.push_back(int(rate));
  std::sort(d.rates_hz.begin(), d.rates_hz.end());
  return d;
}

/// Every device of one way, at its place in RtAudio's own list.
std::vector<Device> devices_of(RtAudio& audio, const char* backend) {
  std::vector<Device> all;
  for (unsigned n = 0; n < audio.getDeviceCount(); ++n) {
    Device d;
    try {
      const auto info = audio.getDeviceInfo(n);
      if (info.probed) {
        d = described(info, backend);
        d.default_input = d.inputs > 0 && (info.isDefaultInput || audio.getDefaultInputDevice() == n);
        d.default_output = d.outputs > 0 && (info.isDefaultOutput || audio.getDefaultOutputDevice() == n);
      }
    } catch (const RtAudioError&) {  // held by another program, or gone since it was counted
    }
    all.push_back(std::move(d));
  }
  return all;
}

/// Integers as doubles, exact: RtAudio's own conversion between the two is off by half a step.
constexpr double full_scale = 2147483648.0;

void take_words(const void* from, std::span<double> to) {
  const auto* words = static_cast<const int32_t*>(from);
  for (size_t n = 0; n < to.size(); ++n) to[n] = words[n] / full_scale;
}

void give_words(std::span<const double> from, void* to) {
  auto* words = static_cast<int32_t*>(to);
  for (size_t n = 0; n < from.size(); ++n)
    words[n] = int32_t(std::clamp(std::nearbyint(from[n] * full_scale), -full_scale, full_scale - 1));
}

/// Some of the channels of a device that is opened whole, and back. PulseAudio is: it mixes what is opened narrower.
struct Channels {
  size_t skipped = 0, used = 0, all = 0;
  size_t width() const { return all; }
  bool are_all() const { return used == all; }
  void take(std::span<const double> from, std::span<double> to) const {
    for (size_t n = 0; n < to.size() / used; ++n) std::copy_n(&from[n * width() + skipped], used, &to[n * used]);
  }
  void give(std::span<const double> from, std::span<double> to) const {
    for (size_t n = 0; n < from.size() / used; ++n) std::copy_n(&from[n * used], used, &to[n * width() + skipped]);
  }
};

/// What is opened, from its opening to its close.
class Connection {
 public:
  /// `all_inputs`, `all_outputs`: that the devices have.
  Connection(const StreamOrder& order, std::unique_ptr<RtAudio> audio, std::optional<unsigned> in,
             std::optional<unsigned> out, int all_inputs, int all_outputs, StreamCallback callback)
      : name_(printable(order.input.empty() ? order.output : order.input)),
        inputs_(in ? size_t(order.inputs) : 0),
        outputs_(out ? size_t(order.outputs) : 0),
        callback_(std::move(callback)),
        audio_(std::move(audio)) {
    const bool offsets = audio_->getCurrentApi() != RtAudio::LINUX_PULSE;
    RtAudio::StreamParameters from, to;
    if (in) {
      input_channels_ = {offsets ? 0 : size_t(order.first_input), inputs_, offsets ? inputs_ : size_t(all_inputs)};
      from = {*in, unsigned(input_channels_.width()), offsets ? unsigned(order.first_input) : 0};
    }
    if (out) {
      output_channels_ = {offsets ? 0 : size_t(order.first_output), outputs_, offsets ? outputs_ : size_t(all_outputs)};
      to = {*out, unsigned(output_channels_.width()), offsets ? unsigned(order.first_output) : 0};
    }
    integers_ = (in && !is_real(*in)) || (out && !is_real(*out));
    unsigned frames = 256;
    RtAudio::StreamOptions options;
    options.streamName = "Heathmist";
    try {
      audio_->openStream(out ? &to : nullptr, in ? &from : nullptr, integers_ ? RTAUDIO_SINT32 : RTAUDIO_FLOAT64,
                         unsigned(order.sample_rate_hz), &frames, &Connection::called, this, &options,
                         &Connection::failed);
      in_.resize(frames * inputs_), out_.resize(frames * outputs_);
      device_in_.resize(frames * input_channels_.width()), device_out_.resize(frames * output_channels_.width());
      last_ns_ = now_ns();
      audio_->startStream();
    } catch (const RtAudioError& error) {
      throw DeviceError(
          fmt::format("{}: it cannot be opened at {} Hz ({}); another program may hold it: close that, or "
                      "choose another device",
                      name_, order.sample_rate_hz, printable(error.what())));
    }
    // a device that fails while it opens tells it by the callback
    if (!audio_->isStreamOpen()) throw DeviceError(name_ + ": it cannot be opened; choose another device");
  }
  ~Connection() {
    if (audio_->isStreamOpen()) audio_->closeStream();
  }
  Connection(const Connection&) = delete;
  Connection& operator=(const Connection&) = delete;

  /// No call comes after it.
  void stop_calling() {
    left_ = true;
    while (inside_) std::this_thread::sleep_for(std::chrono::milliseconds(1));
  }

  std::string lost() const {
    if (gone_ || !audio_->isStreamRunning()) return name_ + ": it is gone";
    if (now_ns() - last_ns_ > int64_t(5e9)) return name_ + ": it gives no more sound";
    return {};
  }

 private:
  static int64_t now_ns() { return std::chrono::steady_clock::now().time_since_epoch().count(); }

  bool is_real(unsigned device) {
    return audio_->getDeviceInfo(device).nativeFormats & (RTAUDIO_FLOAT32 | RTAUDIO_FLOAT64);
  }

  static int called(void* out, void* in, unsigned frames, double, RtAudioStreamStatus status, void* self) {
    of_this_thread = static_cast<Connection*>(self);
    return of_this_thread->pass(out, in, frames, status != 0);
  }
  /// RtAudio tells it in the stream's own thread; after an overrun of ALSA, too, with whatever it said before.
  static void failed(RtAudioError::Type, const std::string& what) {
    const bool ended = what.find("callbackEvent: audio read error") != std::string::npos ||
                       what.find("callbackEvent: audio write error") != std::string::npos;
    if (of_this_thread && ended) of_this_thread->gone_ = true;
  }

  int pass(void* out, void* in, unsigned frames, bool interrupted) {
    if (gone_) return 2;
    last_ns_ = now_ns();
    const std::span<const double> from = take_in(in, frames);
    const std::span<double> to{out_.data(), frames * outputs_};
    std::fill(to.begin(), to.end(), 0.0);
    inside_ = true;
    if (!left_) callback_({int64_t(frames), from, to, interrupted});
    inside_ = false;
    for (double& x : to) x = std::clamp(x, -1.0, 1.0);
    if (outputs_ > 0) give_out(to, out, frames);
    return 0;
  }

  std::span<const double> take_in(const void* in, size_t frames) {
    if (inputs_ == 0) return {};
    const size_t coming = frames * input_channels_.width();
    std::span<const double> all(static_cast<const double*>(in), coming);
    if (integers_) {
      take_words(in, {device_in_.data(), coming});
      all = {device_in_.data(), coming};
    }
    if (input_channels_.are_all()) return all;
    input_channels_.take(all, {in_.data(), frames * inputs_});
    return {in_.data(), frames * inputs_};
  }

  void give_out(std::span<const double> from, void* out, size_t frames) {
    std::span<double> all = integers_ ? std::span<double>(device_out_.data(), frames * output_channels_.width())
                                      : std::span<double>(static_cast<double*>(out), frames * output_channels_.width());
    std::fill(all.begin(), all.end(), 0.0);
    output_channels_.give(from, all);
    if (integers_) give_words(all, out);
  }

  inline static thread_local Connection* of_this_thread = nullptr;

  const std::string name_;
  const size_t inputs_, outputs_;
  const StreamCallback callback_;
  bool integers_ = false;
  Channels input_channels_, output_channels_;
  std::vector<double> in_, out_, device_in_, device_out_;  // what is used of it, and all of it
  std::atomic<bool> gone_{false}, left_{false}, inside_{false};
  std::atomic<int64_t> last_ns_{0};
  std::unique_ptr<RtAudio> audio_;
};

class ServerStream : public Stream {
 public:
  explicit ServerStream(std::unique_ptr<Connection> connection) : connection_(std::move(connection)) {}
  /// A server that hangs never answers that its client goes: it is waited for, but not for ever.
  ~ServerStream() override {
    connection_->stop_calling();
    std::packaged_task<void()> close([c = std::move(connection_)]() mutable { c.reset(); });
    const auto closed = close.get_future();
    std::thread(std::move(close)).detach();
    closed.wait_for(std::chrono::seconds(5));
  }
  std::string lost() const override { return connection_->lost(); }

 private:
  std::unique_ptr<Connection> connection_;
};

}  // namespace

std::vector<Device> devices_of_servers() {
  std::vector<Device> all;
  for (const auto& [api, backend] : backends)
    if (const auto audio = server(api))
      for (Device& d : devices_of(*audio, backend))
        if (d.inputs + d.outputs > 0) all.push_back(std::move(d));
  const auto rates = pulse_rates();
  std::erase_if(all, [&](const Device& d) {  // RtAudio goes on to list those of a server that has ended
    return d.backend == "PulseAudio" && !rates.count(d.name);
  });
  for (Device& d : all) {
    if (d.backend != "PulseAudio") continue;
    const int own = rates.at(d.name);  // that server converts every other rate
    d.own_rate_hz = own;
    if (!d.has_rate(own)) d.rates_hz.insert(std::lower_bound(d.rates_hz.begin(), d.rates_hz.end(), own), own);
  }
  return all;
}

std::unique_ptr<Stream> open_server(const StreamOrder& order, const Device* in, const Device* out,
                                    StreamCallback callback) {
  const Device& either = in ? *in : *out;
  for (const auto& [api, backend] : backends) {
    if (either.backend != backend) continue;
    auto audio = server(api);
    if (!audio) break;
    std::optional<unsigned> from, to;
    const auto there = devices_of(*audio, backend);
    for (unsigned n = 0; n < there.size(); ++n) {
      if (in && !from && there[n].name == in->of_server && there[n].inputs > 0) from = n;
      if (out && !to && there[n].name == out->of_server && there[n].outputs > 0) to = n;
    }
    if ((in && !from) || (out && !to)) break;
    return std::make_unique<ServerStream>(std::make_unique<Connection>(
        order, std::move(audio), from, to, in ? in->inputs : 0, out ? out->outputs : 0, std::move(callback)));
  }
  throw DeviceError(printable(either.name) + ": it is gone; connect it, or choose another device");
}

}  // namespace heathmist
