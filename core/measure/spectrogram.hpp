// Time by frequency: the part of a clip that is in view, in as many cells as there are pixels.
//
//   Spectrogram s = spectrogram_of(*clip, {.first_s = 10, .last_s = 20, .columns = 800, .rows = 300});
//
// A cell holds the greatest level of what falls into it, in dBFS of a sine (peak 1 = 0). Where a column is longer than
// a transform, `blocks` transforms are spread evenly over it: one is enough to be quick, more to miss nothing.
#pragma once
#include "core/measure/spectra.hpp"

namespace heathmist {

enum class FrequencyScale { linear, logarithmic, mel };

struct SpectrogramOptions {
  double first_s = 0, last_s = 0;  ///< last 0: the end of the clip
  int columns = 800, rows = 300;
  double low_hz = 20, high_hz = 0;  ///< high 0: half the rate
  FrequencyScale scale = FrequencyScale::logarithmic;
  size_t fft_size = 4096;
  int blocks = 1;
  /// Energy is put where it came from instead of where its bin is: sharp lines and onsets (Auger and Flandrin 1995).
  /// A cell then holds the sum of what was put there.
  bool reassigned = false;
  Listen listen = Listen::all;
  int channel = 0;
};

struct Spectrogram {
  int columns = 0, rows = 0;
  double first_s = 0, last_s = 0;
  std::vector<double> edges_hz;  ///< rows + 1, rising
  std::vector<float> db;         ///< column by column, from low frequencies up; -300 where there is nothing
  float at(int column, int row) const { return db[size_t(column) * size_t(rows) + size_t(row)]; }
};
/// Throws std::invalid_argument for cells, a size or a channel that cannot be, InputError, Cancelled.
Spectrogram spectrogram_of(const Clip& clip, const SpectrogramOptions& options, const Job& job = {});

/// The middle of a row, and the row a frequency falls into (none: outside).
double row_hz(const Spectrogram& s, int row);
std::optional<int> row_at(const Spectrogram& s, double hz);

}  // namespace heathmist
