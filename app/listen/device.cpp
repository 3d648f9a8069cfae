#include "app/listen/device.hpp"

#include <RtAudio.h>
#include <soxr.h>

#include <algorithm>
#include <chrono>
#include <cstdlib>
#include <thread>
#include <vector>

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
    source_rate_ = sample_rate_hz;
    const auto& rates = info_.sampleRates;
    const bool same = std::find(rates.begin(), rates.end(), unsigned(sample_rate_hz)) != rates.end();
    rate_ = same ? sample_rate_hz : int(info_.preferredSampleRate);
    if (!same) converter_.reset(soxr_create(source_rate_, rate_, 2, nullptr, &interleaved(), &quality(), nullptr));
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
    converter_.reset();
  }
  std::string name() const override { return info_.name; }
  bool is_simulated() const override { return false; }
  int device_rate_hz() const override { return rate_; }

 private:
  static const soxr_io_spec_t& interleaved() {
    static const soxr_io_spec_t spec = soxr_io_spec(SOXR_FLOAT64_I, SOXR_FLOAT64_I);
    return spec;
  }
  static const soxr_quality_spec_t& quality() {
    static const soxr_quality_spec_t spec = soxr_quality_spec(SOXR_HQ, 0);
    return spec;
  }

  static int called(void* out, void*, unsigned frames, double, RtAudioStreamStatus, void* self) {
    static_cast<RealDevice*>(self)->fill({static_cast<double*>(out), size_t(frames) * 2});
    return 0;
  }

  void fill(std::span<double> out) {
    if (!converter_) {
      render_(out);
    } else {
      size_t done = 0;
      while (done < out.size() / 2) {
        source_.assign(256 * 2, 0.0);
        render_(source_);
        size_t used = 0, made = 0;
        soxr_process(converter_.get(), source_.data(), 256, &used, out.data() + 2 * done, out.size() / 2 - done, &made);
        for (; used < 256;) {  // what the converter could not take at once is kept for it
          size_t more = 0, more_made = 0;
          soxr_process(converter_.get(), source_.data() + 2 * used, 256 - used, &more, out.data() + 2 * (done + made),
                       out.size() / 2 - done - made, &more_made);
          used += more, made += more_made;
          if (more == 0) break;
        }
        done += made;
      }
    }
    for (double& x : out) x = std::clamp(x, -1.0, 1.0);
  }

  struct Drop {
    void operator()(soxr_t s) const { soxr_delete(s); }
  };
  std::unique_ptr<RtAudio> audio_;
  unsigned device_;
  RtAudio::DeviceInfo info_;
  RenderCallback render_;
  int rate_ = 48000, source_rate_ = 48000;
  std::unique_ptr<soxr, Drop> converter_;
  std::vector<double> source_;
};

}  // namespace

std::unique_ptr<OutputDevice> simulated_output() { return std::make_unique<ClockDevice>(); }

std::unique_ptr<OutputDevice> open_output() {
  const char* wanted = std::getenv("HEATHMIST_AUDIO");
  if (wanted && std::string(wanted) == "simulated") return simulated_output();
  for (const auto api : {RtAudio::UNIX_JACK, RtAudio::LINUX_PULSE, RtAudio::LINUX_ALSA}) {
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
