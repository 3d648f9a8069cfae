#include "app/listen/device.hpp"

#include <algorithm>
#include <chrono>
#include <cstdlib>
#include <thread>

#include "app/listen/rate_bridge.hpp"
#include "core/devices/device.hpp"

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
  explicit RealDevice(Device device) : device_(std::move(device)) {}
  ~RealDevice() override { stop(); }

  bool start(int sample_rate_hz, RenderCallback render) override {
    stop();
    render_ = std::move(render);
    rate_ = rate_for(sample_rate_hz);
    const bool same = rate_ == sample_rate_hz;
    if (!same) bridge_ = std::make_unique<RateBridge>(sample_rate_hz, rate_);
    conversion_ = !same ? Conversion::here : device_.converts(rate_) ? Conversion::server : Conversion::none;
    try {
      stream_ = open_stream({.output = device_.name, .sample_rate_hz = rate_}, [this](const StreamBlock& block) {
        fill(block.out);
        return true;
      });
    } catch (const std::exception&) {
      return false;
    }
    return true;
  }
  void stop() override {
    stream_.reset();
    bridge_.reset();
  }
  std::string name() const override { return device_.name; }
  bool is_simulated() const override { return false; }
  std::string lost() const override { return stream_ ? stream_->lost() : std::string(); }
  int device_rate_hz() const override { return rate_; }
  Conversion conversion() const override { return conversion_; }
  std::optional<int> own_rate_hz() const override { return device_.own_rate_hz; }
  void set_at_own_rate(bool on) override { at_own_rate_ = on; }

 private:
  int rate_for(int wanted) const {
    if (at_own_rate_ && device_.own_rate_hz) return *device_.own_rate_hz;
    if (device_.has_rate(wanted)) return wanted;
    return device_.own_rate_hz.value_or(device_.has_rate(48000) ? 48000 : device_.rates_hz.back());
  }
  void fill(std::span<double> out) {
    if (bridge_)
      bridge_->fill(out, render_);
    else
      render_(out);
  }

  const Device device_;
  bool at_own_rate_ = false;
  RenderCallback render_;
  int rate_ = 48000;
  Conversion conversion_ = Conversion::none;
  std::unique_ptr<RateBridge> bridge_;  // where the device runs at a rate of its own
  std::unique_ptr<Stream> stream_;
};

std::vector<Device> real_outputs() {
  const char* wanted = std::getenv("HEATHMIST_AUDIO");
  std::vector<Device> all;
  if (!wanted || std::string(wanted) != "simulated") all = devices();
  std::erase_if(all, [](const Device& d) { return d.stand_in || d.outputs < 2 || d.rates_hz.empty(); });
  return all;
}

}  // namespace

std::unique_ptr<OutputDevice> simulated_output() { return std::make_unique<ClockDevice>(); }

std::unique_ptr<OutputDevice> open_output(const std::string& name) {
  const auto all = real_outputs();
  for (const Device& d : all)
    if (d.name == name) return std::make_unique<RealDevice>(d);
  const Device* best = default_output(all);
  return best ? std::make_unique<RealDevice>(*best) : simulated_output();
}

std::unique_ptr<OutputDevice> open_like(const OutputDevice& device) {
  return device.is_simulated() ? simulated_output() : open_output(device.name());
}

std::vector<std::string> output_names() {
  std::vector<std::string> names;
  for (const Device& d : real_outputs()) names.push_back(d.name);
  return names;
}

}  // namespace heathmist::app
