// Sound rendered at one rate, delivered at another, in blocks of any size, without losing a sample.
#pragma once
#include <functional>
#include <memory>
#include <span>
#include <vector>

struct soxr;

namespace heathmist::app {

class RateBridge {
 public:
  using Render = std::function<void(std::span<double> out)>;  ///< fills stereo frames: left, right, ...
  RateBridge(int from_hz, int to_hz);
  /// Fills `out` with stereo frames at to_hz, asking `render` for as many at from_hz as that takes.
  void fill(std::span<double> out, const Render& render);

 private:
  static constexpr size_t chunk = 256;  // frames asked for at a time
  struct Drop {
    void operator()(soxr* converter) const;
  };
  std::unique_ptr<soxr, Drop> converter_;
  std::vector<double> source_;
  size_t used_ = chunk;  // frames of source_ that the converter has taken
};

}  // namespace heathmist::app
