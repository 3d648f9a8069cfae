// Reading tones back: what a spectrum holds beside the lines it should.
#pragma once
#include <optional>
#include <span>

#include "core/measure/spectrum.hpp"

namespace heathmist {

struct ToneReading {
  double level_dbfs = 0;   ///< power of the wanted lines, 0 dB = a full-scale sine
  double thd_n_db = 0;     ///< all else from 20 Hz to the top, against the wanted lines (as AES17, with a narrow notch)
  double spurious_hz = 0;  ///< the strongest line that is not wanted
  double spurious_dbr = 0;  ///< against the wanted lines
};

/// Reads a spectrum under a Kaiser window of 200 dB (spectra_of()'s own): what stands beside a line is no leakage. A
/// line takes the bins within 12 of its place. Nothing where the wanted lines are not there, or none is wanted.
std::optional<ToneReading> read_tones(const Spectrum& spectrum, std::span<const double> tones_hz);

}  // namespace heathmist
