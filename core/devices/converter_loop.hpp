// The stand-in device: a converter whose outputs are wired to its inputs, with every fault that such a loop can have.
// It ships with the program, so that everything runs with no hardware, and its truth is known.
#pragma once
#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

namespace heathmist {

struct LoopSettings {
  double delay_samples = 1024;                 ///< round trip, 512 and more
  double drift_ppm = 0;                        ///< positive: what comes back is longer
  double gain_db = 0;                          ///< in all channels
  bool inverted = false;                       ///< polarity
  int bits = 0;                                ///< word length it converts with, rounded; 0: as it comes
  std::optional<double> noise_dbfs{};          ///< RMS, a full-scale square wave = 0
  std::optional<double> hum_dbfs{};            ///< RMS, 50 Hz and two overtones
  double dropout_every_s = 0, dropout_ms = 5;  ///< 0: none
  std::optional<double> gone_after_s{};        ///< it vanishes
  double clock = 1;                            ///< how fast time runs; 0: as fast as sound is taken
  bool operator==(const LoopSettings&) const = default;
};
/// "delay_samples=2000.5,noise_dbfs=-100"; empty: as it is. Throws std::invalid_argument that names what is wrong.
LoopSettings loop_settings(const std::string& text);

class ConverterLoop {
 public:
  static constexpr int64_t most_frames = 256;  ///< in one call
  static constexpr double least_delay = 512;

  ConverterLoop(const LoopSettings& settings, int sample_rate_hz, int channels);
  ~ConverterLoop();
  /// Takes a block that goes out and gives the one that comes in meanwhile; interleaved, equally long. False: the two
  /// clocks had run so far apart that a stretch was lost.
  bool process(std::span<const double> out, std::span<double> in);

 private:
  struct Inside;
  std::unique_ptr<Inside> inside_;
};

}  // namespace heathmist
