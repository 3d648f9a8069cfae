// What a recording sounds like, as a short row of bits: alike for the same recording at any level, rate and codec, and
// unlike for another one, another take of the same music among them.
#pragma once
#include <cstdint>
#include <vector>

#include "core/audio/clip.hpp"
#include "core/job.hpp"

namespace heathmist {

/// A word for each 23.2 ms: 32 signs of how the energies of 33 neighbouring bands from 300 to 2000 Hz change against
/// each other (Haitsma and Kalker, "A highly robust audio fingerprinting system", ISMIR 2002, eq. 1), of all channels
/// together. 0: there is nothing to tell.
struct AcousticPrint {
  static constexpr double hop_s = 0.0232;
  std::vector<uint32_t> words;
};

/// On all cores. Throws InputError, Cancelled.
AcousticPrint acoustic_print(const Clip& clip, const Job& job = {});
/// The same of a file, kept between runs under its fingerprint.
AcousticPrint acoustic_print_of(const std::filesystem::path& file, const Job& job = {});

/// Share of bits that differ where `b` is laid on `a` `lag` words later, over the words that both have; each 3 s may
/// lie up to two words away from where the last ones lay, as under drift.
struct PrintDistance {
  double errors = 0.5;  ///< 0.5: they have nothing in common
  int64_t words = 0;    ///< that were compared
};
PrintDistance distance(const AcousticPrint& a, const AcousticPrint& b, int64_t lag);

}  // namespace heathmist
