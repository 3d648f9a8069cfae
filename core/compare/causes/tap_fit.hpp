// Taps of an impulse response at chosen places, by least squares.
#pragma once
#include <cstdint>
#include <span>
#include <vector>

namespace heathmist::causes {

/// What is left of one channel as a sum of the model n samples later, for n = 0 (the direct sound) and for the delays
/// around some places. Read behind the latest delay, so that nothing is missing of what is repeated (the covariance
/// method: Makhoul, Proc. IEEE 63, 1975, section II.B).
class TapFit {
 public:
  static constexpr int64_t around = 24;  ///< delays on either side of a place

  /// Places at least 2 around + 1 apart, in samples; `left` is as long as the model, and longer than any delay. What is
  /// left before `from` is not known.
  TapFit(std::span<const double> model, std::span<const double> left, const std::vector<int64_t>& places,
         int64_t from = 0);

  /// Of each unknown its delay; the first is 0, then place by place.
  const std::vector<int64_t>& delays() const { return delays_; }
  /// The unknowns of a place.
  std::vector<int> of_place(size_t place) const;
  /// Energy of what is left, behind the latest delay.
  double energy() const { return energy_; }
  /// Of these unknowns alone: their gains, and the energy that they take out.
  struct Gains {
    std::vector<double> gains{};
    double taken = 0;
  };
  Gains of(const std::vector<int>& unknowns) const;

 private:
  class Sums;
  void cross(size_t rows, size_t columns, std::span<const double> model, int64_t first, const Sums& along,
             const Sums& down);

  std::vector<int64_t> delays_{0};
  std::vector<size_t> starts_{0};  // of blocks of neighbouring delays; the first is the direct sound
  std::vector<double> products_;   // of the model later by each delay, with one another: row by row
  std::vector<double> with_left_;  // and with what is left
  double energy_ = 0;
};

}  // namespace heathmist::causes
