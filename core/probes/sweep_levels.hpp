// What a sweep's responses come to at any frequency. Where a component crosses another they cannot be told from each
// other: there its level is what it is on either side. Inside core/probes only.
#pragma once
#include <array>
#include <map>
#include <mutex>
#include <optional>

#include "core/probes/sweep_reading.hpp"
#include "core/probes/sweep_responses.hpp"

namespace heathmist {

constexpr double sweep_window_s = 0.085;  ///< of the block that harmonics are read in
constexpr double sweep_lobe_bins = 9;     ///< from a line's middle to where its window's leakage lies under -190 dB

class SweepLevels {
 public:
  /// `reading`: its rates and images; both must outlive this.
  SweepLevels(const SweepResponses& responses, const SweepReading& reading, const ProbeScore& score,
              const ProbeFit& fit);
  /// With its phase against the marks; 1: as loud as what went in.
  std::complex<double> wanted(double hz) const;
  /// Of the k-th image that was asked for.
  double image_power(size_t k, double hz) const;
  /// Where a harmonic crosses the wanted line, an image that counts or another harmonic, it was taken out with that.
  bool harmonic_crosses(int multiple, double hz, const std::array<double, SweepPoint::harmonics>& db) const;

 private:
  struct Place {
    std::once_flag once{};
    std::optional<LocalTaps> taps{};
  };
  Place& place_at(double hz) const;
  double wanted_size(double hz, double seen) const;
  const std::optional<LocalTaps>& taps_at(double hz, const TapsPlan& plan) const;
  double half_width(double hz) const;
  double median(size_t k, double from_hz, double until_hz) const;
  std::optional<double> crossing(size_t k, double hz, double size) const;
  double around(size_t k, double hz) const;
  std::optional<double> beside_crossings(size_t k, double hz, double size) const;
  double at_the_turn(double turn, double away, double seen) const;

  const SweepResponses& responses_;
  const ProbeScore& score_;
  const SweepLaw& law_;
  double from_, to_;                              // rates, in Hz of the probe's time
  std::vector<std::pair<int, double>> counting_;  // images that are there, and their sizes
  mutable std::mutex lock_;
  mutable std::map<double, Place> places_;  // by Hz
};

}  // namespace heathmist
