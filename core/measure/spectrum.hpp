// Long-term average spectra (Welch 1967).
#pragma once
#include <complex>
#include <optional>
#include <span>
#include <vector>

#include "core/audio/clip.hpp"

namespace heathmist {

/// Power per bin, mean over frames and channels: the bins sum to the mean square of the signal (0 dB: a full-scale
/// square wave).
struct Spectrum {
  double bin_hz = 0;
  std::vector<double> power;
};

/// The average spectrum of a clip's frames [first, last): Blackman-Harris, half overlap; a long clip is sampled at
/// `most_blocks` evenly spread blocks. All frames where last < 0. `side_lobe_db`: a Kaiser window of so much instead.
Spectrum average_spectrum(const Clip& clip, size_t fft_size, int64_t first, int64_t last, int most_blocks,
                          const Job& job = {}, std::optional<double> side_lobe_db = {});

/// A line for a plate: `points` frequencies from low_hz to high_hz (spaced logarithmically or evenly), each with the
/// mean power per bin over 1/`fraction` octave around it (fraction 0: the greatest bin of the point's own span), in dB.
struct SpectrumLine {
  std::vector<double> hz, db;
};
SpectrumLine smoothed(const Spectrum& spectrum, double low_hz, double high_hz, int points, bool logarithmic,
                      int fraction);

/// Power between two frequencies: bins from low (included) to high (not).
double power_between(const Spectrum& spectrum, double low_hz, double high_hz);

/// `line` in dB against another of the same frequencies.
SpectrumLine relative_to(SpectrumLine line, const SpectrumLine& against);

}  // namespace heathmist
