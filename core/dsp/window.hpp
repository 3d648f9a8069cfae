// Windows for spectra. All are periodic: w[n] of size N repeats after N. Side lobes and widths in docs/numerics.md.
#pragma once
#include <cstddef>
#include <string>
#include <vector>

namespace heathmist::dsp {

/// Kaiser (1974), by its beta.
std::vector<double> kaiser(size_t size, double beta);
/// The beta whose greatest side lobe lies `side_lobe_db` (positive, 40 to 240) under the peak: Kaiser and Schafer 1980.
double kaiser_beta(double side_lobe_db);
/// Five-term flat top: reads a line's level within 0.01 dB wherever it lies (ISO 18431-2).
std::vector<double> flat_top(size_t size);

enum class Window { hann, blackman_harris, flat_top, kaiser };
const char* name_of(Window window);
/// `side_lobe_db` counts for Kaiser alone.
std::vector<double> window_of(Window window, size_t size, double side_lobe_db = 200);
}  // namespace heathmist::dsp
