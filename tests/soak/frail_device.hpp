// A sound output that can be pulled out while it plays.
#pragma once
#include <atomic>

#include "app/listen/device.hpp"

namespace heathmist::soak {

using Plug = std::shared_ptr<std::atomic<bool>>;

/// As the simulated one, as long as its plug is in.
class FrailDevice : public app::OutputDevice {
 public:
  explicit FrailDevice(Plug plug) : plug_(std::move(plug)) {}
  bool start(int sample_rate_hz, app::RenderCallback render) override {
    runs_ = *plug_ && inner_->start(sample_rate_hz, std::move(render));
    return runs_;
  }
  void stop() override {
    inner_->stop();
    runs_ = false;
  }
  std::string name() const override { return "Loose plug"; }
  bool is_simulated() const override { return false; }
  std::string lost() const override { return runs_ && !*plug_ ? name() + ": it is gone" : std::string(); }
  int device_rate_hz() const override { return inner_->device_rate_hz(); }

 private:
  Plug plug_;
  std::unique_ptr<app::OutputDevice> inner_ = app::simulated_output();
  bool runs_ = false;
};

}  // namespace heathmist::soak
