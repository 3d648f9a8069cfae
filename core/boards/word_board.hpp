// The word-length board: what each number of bits leaves, with each dither, next to what theory says.
//
//   for (const WordCut& cut : board_cuts()) WordRow row = read_word_cut(cut);
//
// Levels in dBFS with a full-scale sine at 0, densities in dBFS per root Hz; frequencies in Hz.
#pragma once
#include "core/measure/spectra.hpp"
#include "core/stages/chain.hpp"

namespace heathmist {

struct WordCut {
  int bits = 16;
  std::string dither = "triangular";  ///< as the stage `word_length` calls it
  bool operator==(const WordCut&) const = default;
};
/// 8, 12, 16, 20 and 24 bits, each with every dither.
std::vector<WordCut> board_cuts();
Chain chain_of(const WordCut& cut);
/// "16 bit, TPDF"
std::string label_of(const WordCut& cut);

/// A tone of 997 Hz, sent through: what of it comes back at its own frequency and phase.
struct LevelPoint {
  double in_dbfs = 0;
  std::optional<double> out_dbfs;     ///< none: nothing of it came back
  std::optional<double> theory_dbfs;  ///< none: theory has nothing come back
  double error_db = 0;                ///< standard error of the reading, from the noise beside it
};

struct WordRow {
  WordCut cut;
  Spectra error;                            ///< return - master, with a tone of 997 Hz at -20 dBFS on the way
  double noise_dbfs = 0, noise_a_dbfs = 0;  ///< of the error, 20 Hz to 20 kHz
  double theory_dbfs = 0;                   ///< of the same band
  std::vector<LevelPoint> levels;           ///< from -1 down to -140 dBFS
  double worst_linearity_db = 0;            ///< greatest departure where the reading is certain within 0.1 dB
};
/// Throws ChainError, Cancelled.
WordRow read_word_cut(const WordCut& cut, int rate_hz = 48000, const Job& job = {});

/// The answer in a sentence.
std::string label_of(const WordRow& row);

/// Density of the error that theory has, in dBFS per root Hz: white by the word's step, and the dither's own spectrum
/// (Lipshitz, Wannamaker and Vanderkooy, "Quantization and dither: a theoretical survey", JAES 40, 1992; Wannamaker,
/// Lipshitz, Vanderkooy and Wright, "A theory of nonsubtractive dither", IEEE Trans. SP 48, 2000). Without dither it is
/// the classical model of a busy signal.
double theory_per_root_hz(const WordCut& cut, double hz, double rate_hz);
/// What of a sine comes back at its own frequency: the mean of the rounding over the dither's density, through Bessel
/// functions. Nothing where it never reaches a step.
std::optional<double> theory_level_dbfs(const WordCut& cut, double in_dbfs);

/// A chord that fades evenly in dB from 36 dB over one step of the word to 36 dB under it in 12 s, and how far both
/// are turned up so that it can be heard.
struct Fade {
  std::shared_ptr<const Clip> before, after;
  double raised_db = 0;
};
Fade fade_through(const WordCut& cut, int rate_hz = 48000, const Job& job = {});

/// A line of a table.
Json word_line(const WordRow& row);

}  // namespace heathmist
