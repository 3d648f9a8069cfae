// A mixer of the tests' own, written from definitions and not from the shipped stand-ins: what it does to a probe is
// known in closed form.
#pragma once
#include <functional>

#include "core/probes/probe.hpp"

namespace heathmist::test {

/// Gain by time, s; a factor for every channel.
Planar with_gain(Planar sound, int rate_hz, const std::function<double(double)>& gain);

/// A volume line after a glide. `line`: drawn amplitude by time, s.
struct Glide {
  enum Kind { none, straight, one_pole, stairs } kind = none;
  double seconds = 0;  ///< whole time; time constant; a block
  double late_s = 0;
  double late_ms(double drawn_s) const;  ///< half of a step that is drawn there
  double rise_ms() const;                ///< 10 to 90 %
  double length_ms() const;              ///< 1 to 99 %
  const char* name() const;
};
/// Every frame of a line as it comes out of a glide: by its differential equation, or its definition.
std::vector<double> glided(const GainScore& line, const Glide& glide, int rate_hz, int64_t frames);

/// The gain probe itself after a glide.
Planar glided_probe(const ProbeScore& score, const Glide& glide, ProbeWord word);

/// Both inputs by a matrix that hangs on the time.
using Matrix = std::array<std::array<double, 2>, 2>;
Planar mixed(const Planar& sound, int rate_hz, const std::function<Matrix(double)>& matrix);

/// Later by whole frames (earlier where negative), at another level.
Planar moved(const Planar& sound, int64_t frames, double gain);

}  // namespace heathmist::test
