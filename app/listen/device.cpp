#include "app/listen/device.hpp"

#include <RtAudio.h>

#include <algorithm>
#include <chrono>
#include <cstdlib>
#include <filesystem>
#include <thread>
#include <vector>

#include "app/listen/rate_bridge.hpp"

namespace heathmist::app {

namespace {

class ClockDevice : public OutputDevice {
 public:
  ~ClockDevice() override { stop(); }
  bool start(int sample_rate_hz, RenderCallback render) override {
    stop();
    rate_ = sample_rate_hz;
    thread_ = std::jthread([this, render = std::move(render)](std::stop_token stop_token) {
      using clock = std::chrono::steady_clock;
      const auto began = clock::now();
      int64_t given = 0;
      std::vector<double> buffer;
      while (!stop_token.stop_requested()) {
        std::this_thread::sleep_for(std::chrono::milliseconds(5));
        const double seconds = std::chrono::duration<double>(clock::now() - began).count();
        const int64_t due = std::min<int64_t>(int64_t(seconds * rate_) - given, rate_);
        if (due <= 0) continue;
        buffer.assign(size_t(due) * 2, 0.0);
        render(buffer);
        given += due;
      }
    });
    return true;
  }
  void stop() override {
    if (thread_.joinable()) {
      thread_.request_stop();
      thread_.join();
    }
  }
  std::string name() const override { return "simulated"; }
  bool is_simulated() const override { return true; }
  int device_rate_hz() const override { return rate_; }

 private:
  std::jthread thread_;
  int rate_ = 48000;
};

class RealDevice : public OutputDevice {
 public:
  explicit RealDevice(std::unique_ptr<RtAudio> audio)
      : audio_(std::move(audio)), device_(audio_->getDefaultOutputDevice()) {
    info_ = audio_->getDeviceInfo(device_);
  }
  ~RealDevice() override { stop(); }

  bool start(int sample_rate_hz, RenderCallback render) override {
    stop();
    render_ = std::move(render);
    const auto& rates = info_.sampleRates;
    const bool same = std::find(rates.begin(), rates.end(), unsigned(sample_rate_hz)) != rates.end();
    rate_ = same ? sample_rate_hz : int(info_.preferredSampleRate);
    if (!same) bridge_ = std::make_unique<RateBridge>(sample_rate_hz, rate_);
    RtAudio::StreamParameters parameters;
    parameters.deviceId = device_;
    parameters.nChannels = 2;
    unsigned frames = 256;
    try {
      audio_->openStream(&parameters, nullptr, RTAUDIO_FLOAT64, unsigned(rate_), &frames, &RealDevice::called, this);
      audio_->startStream();
    } catch (const RtAudioError&) {
      return false;
    }
    return true;
  }
  void stop() override {
    if (audio_->isStreamOpen()) audio_->closeStream();
    bridge_.reset();
  }
  std::string name() const override { return info_.name; }
  bool is_simulated() const override { return false; }
  int device_rate_hz() const override { return rate_; }

 private:
  static int called(void* out, void*, unsigned frames, double, RtAudioStreamStatus, void* self) {
    static_cast<RealDevice*>(self)->fill({static_cast<double*>(out), size_t(frames) * 2});
    return 0;
  }

  void fill(std::span<double> out) {
    if (bridge_)
      bridge_->fill(out, render_);
    else
      render_(out);
    for (double& x : out) x = std::clamp(x, -1.0, 1.0);
  }

  std::unique_ptr<RtAudio> audio_;
  unsigned device_;
  RtAudio::DeviceInfo info_;
  RenderCallback render_;
  int rate_ = 48000;
  std::unique_ptr<RateBridge> bridge_;  // where the device runs at a rate of its own
};

/// Whether the kernel knows of any sound output; asking ALSA where it does not makes it complain on standard error.
bool has_sound_card() {
  std::error_code none;
  for (const auto& entry : std::filesystem::directory_iterator("/dev/snd", none))
    if (const auto name = entry.path().filename().string(); name.starts_with("pcm") && name.ends_with("p")) return true;
  return false;
}

}  // namespace

std::unique_ptr<OutputDevice> simulated_output() { return std::make_unique<ClockDevice>(); }

std::unique_ptr<OutputDevice> open_output() {
  const char* wanted = std::getenv("HEATHMIST_AUDIO");
  if (wanted && std::string(wanted) == "simulated") return simulated_output();
  for (const auto api : {RtAudio::UNIX_JACK, RtAudio::LINUX_PULSE, RtAudio::LINUX_ALSA}) {
    if (api == RtAudio::LINUX_ALSA && !has_sound_card()) continue;
    try {
      auto audio = std::make_unique<RtAudio>(api);
      audio->showWarnings(false);
      if (audio->getDeviceCount() == 0) continue;
      if (audio->getDeviceInfo(audio->getDefaultOutputDevice()).outputChannels >= 2)
        return std::make_unique<RealDevice>(std::move(audio));
    } catch (const RtAudioError&) {
    }
  }
  return simulated_output();
}

}  // namespace heathmist::app
