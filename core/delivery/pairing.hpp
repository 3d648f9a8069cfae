// Which return belongs to which master, by the sound alone: at any delay, level, rate and through any codec.
//
//   Pairing p = pair_by_sound(prints_of(masters), prints_of(returns));
//   for (const auto& pair : p.pairs) ...
#pragma once
#include <optional>
#include <vector>

#include "core/measure/acoustic_print.hpp"

namespace heathmist {

struct Pairing {
  struct Pair {
    size_t master = 0, ret = 0;
    double agreement = 0;  ///< 1: every bit of the prints is equal; 0: they have nothing in common
    double delay_s = 0;    ///< to about 12 ms; positive: the return is late
    double overlap_s = 0;
    std::optional<double> delay_samples{};  ///< to a fraction, of the master at its first frame; where it was read
    std::optional<size_t> as_well{};        ///< another master that sounds as much like it
  };
  std::vector<Pair> pairs;  ///< each return once at most, in the order of the returns
  std::vector<size_t> masters_left, returns_left;
};

/// An index of the masters' words proposes, the distance of the prints at that place decides: a third of the bits may
/// differ. Throws Cancelled.
Pairing pair_by_sound(const std::vector<AcousticPrint>& masters, const std::vector<AcousticPrint>& returns,
                      const Job& job = {});

/// The delay of a pair to a fraction of a sample of the master, at its first frame, from the fit of a stretch near
/// either end of what both have; nothing where none is to be trusted. `about_s`: as it was paired. Throws InputError,
/// Cancelled.
std::optional<double> exact_delay_samples(std::shared_ptr<const Clip> master, std::shared_ptr<const Clip> ret,
                                          double about_s, const Job& job = {});

/// Another take of the same notes can come near in the bits alone. Pairs whose agreement is under 0.85 are looked at
/// again: three stretches must fit, at delays that lie on a line (within 1 ms, 1000 ppm); else they are none, and their
/// files are left over. The others have their exact delay then. `masters`, `returns`: as the prints were. Throws
/// Cancelled.
void leave_other_takes(Pairing& pairing, const std::vector<std::filesystem::path>& masters,
                       const std::vector<std::filesystem::path>& returns, const Job& job = {});

}  // namespace heathmist
