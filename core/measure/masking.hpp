// Simultaneous masking after psychoacoustic model 1 of ISO/IEC 11172-3 (1993), annex D.1, layer II tables.
//
// A hint at what the programme covers, not a verdict on hearing: a full-scale sine is taken to play at 96 dB SPL, as
// the standard does, and nothing is said of rooms, ears or training. Temporal masking is not part of the model.
#pragma once
#include <span>
#include <vector>

namespace heathmist {

/// Critical-band rate in Bark: 13 atan(0.76 f) + 3.5 atan((f / 7.5)^2), f in kHz (the z of tables D.1).
double bark_of(double hz);

/// Threshold in quiet in dB SPL: 3.64 f^-0.8 - 6.5 exp(-0.6 (f - 3.3)^2) + 0.001 f^4, f in kHz (Terhardt 1979; the
/// values of tables D.1 a to f).
double threshold_in_quiet_db(double hz);

/// One masker: its place and its level in dB SPL.
struct Masker {
  double bark = 0, level_db = 0;
  bool tonal = false;
};

/// Masking threshold in dB SPL that a masker alone sets up at `bark`: level + masking index + masking function, from
/// -3 Bark to below 8 Bark away (step 6 of D.1); -200 beyond.
double masked_level_db(const Masker& masker, double bark);

/// Points per block for a rate: 1024 at 44.1 and 48 kHz, the like width of bins elsewhere.
int masking_block(int sample_rate_hz);

/// Tonal and noise-like maskers of one block (steps 4 and 5). `level_db` holds dB SPL of the bins 0 .. size / 2, from a
/// Hann window scaled so that a full-scale sine reads 96 dB.
std::vector<Masker> find_maskers(std::span<const double> level_db, double bin_hz);

/// Edges of the 24 critical bands in Hz (Zwicker 1961), those below `top_hz`.
std::vector<double> critical_band_edges(double top_hz);

/// Least masking threshold within each critical band, in dB SPL (step 7, global threshold).
std::vector<double> band_thresholds_db(const std::vector<Masker>& maskers, std::span<const double> edges_hz);

}  // namespace heathmist
