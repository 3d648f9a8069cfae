// Spectra of any part of a clip, in double precision: average, peak-hold, and of one moment.
//
//   Spectra s = spectra_of(*Clip::open("master.wav"), {.fft_size = 1 << 18});
//   SpectrumLine line = shown(s.average, {.unit = SpectrumUnit::per_root_hz});
//
// 0 dBFS is a full-scale sine: a line of that level reads 0 whatever the window.
#pragma once
#include "core/dsp/window.hpp"
#include "core/measure/listen.hpp"
#include "core/measure/spectrum.hpp"

namespace heathmist {

inline constexpr size_t least_fft_size = 512, most_fft_size = 1 << 20;

struct SpectraOptions {
  size_t fft_size = 65536;  ///< least_fft_size to most_fft_size
  dsp::Window window = dsp::Window::kaiser;
  double side_lobe_db = 200;  ///< of Kaiser, 40 to 240
  double overlap = 0.5;       ///< of neighbouring blocks, 0 to 0.95
  Listen listen = Listen::all;
  int channel = 0;
  int64_t first = 0, last = -1;  ///< frames [first, last); -1: the end
  int most_blocks = 4000;        ///< a longer stretch is read at so many evenly spread blocks
};

struct Spectra {
  Spectrum average, hold;  ///< mean square per bin, mean over channels; hold: the greatest of all blocks
  double enbw_bins = 1;    ///< equivalent noise bandwidth of the window: a line on a bin puts 1/enbw of its power there
  int64_t blocks = 0;
};
/// Throws std::invalid_argument for a size or a channel that cannot be, InputError, Cancelled.
Spectra spectra_of(const Clip& clip, const SpectraOptions& options = {}, const Job& job = {});
/// Of `blocks` blocks in a row, the middle of them around a frame.
Spectra momentary_spectra(const Clip& clip, int64_t frame, int blocks = 1, SpectraOptions options = {},
                          const Job& job = {});

enum class SpectrumUnit { per_line, per_root_hz, third_octave };
struct Showing {
  SpectrumUnit unit = SpectrumUnit::per_line;
  double slope_db_per_octave = 0;   ///< added above 1 kHz and taken below it; 3 makes pink noise level
  double low_hz = 20, high_hz = 0;  ///< 0: half the rate
  int points = 1200;
  bool logarithmic = true;
};
/// A line for a plate, of the same frequencies whatever the clip's rate (-300 above half of it). per_line: dBFS of the
/// sine that would read so high, the greatest bin of each point's own span; per_root_hz: density in dBFS per root Hz;
/// third_octave: power in the band of IEC 61260-1 around the point.
SpectrumLine shown(const Spectra& spectra, const Spectrum& which, const Showing& showing);

/// Weightings of noise by frequency, in dB: IEC 61672-1 A, ITU-R BS.1770-5 K, ITU-R BS.468-4.
enum class Weighting { none, a, k, ccir_468 };
double weighting_db(Weighting weighting, double hz);

}  // namespace heathmist
