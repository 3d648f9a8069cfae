// How far up a programme reaches.
#pragma once
#include "core/measure/spectrum.hpp"

namespace heathmist {

/// The highest frequency at which a long-term spectrum still stands clear of its own floor, in Hz; where it falls to
/// that by 90 dB per octave and more, the corner from which it falls (4 dB under the band below). The top of the band
/// where it has neither a floor nor such a fall, nothing for silence.
std::optional<double> bandwidth_hz(const Spectrum& spectrum);

/// The spectrum that is meant for it: lines of 6 Hz at any rate, under a window whose leakage lies 150 dB down.
Spectrum band_spectrum(const Clip& clip, const Job& job = {}, int most_blocks = 400);
/// Both in one.
std::optional<double> bandwidth_of(const Clip& clip, const Job& job = {}, int most_blocks = 400);

}  // namespace heathmist
