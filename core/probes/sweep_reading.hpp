// Reading a sweep back: for every frequency that went in, what came out of it, and where.
//
// The wanted line and the images of the source's sampling are taken out of the return one by one (sweep_responses.hpp)
// and told as steady tones would tell them. What is left is multiplied by the sweep's harmonics, turned back, under a
// Kaiser window with side lobes under -200 dB. Levels in dB against the tone that went in; frequencies in Hz; times in
// s.
#pragma once
#include <array>
#include <complex>
#include <vector>

#include "core/measure/fold.hpp"
#include "core/probes/probe.hpp"

namespace heathmist {

struct SweepPoint {
  static constexpr int harmonics = 4;  ///< the second to the fifth
  double in_hz = 0;
  std::complex<double> wanted = 0;  ///< gain and phase after the delay of `SweepReading` was taken out
  std::vector<double> image_db;     ///< as `SweepReading::images`
  std::array<double, harmonics> harmonic_db{};
  double rest_db = 0;  ///< all that is none of these
  double wanted_db() const;
};

struct BandEdges {
  std::optional<double> minus_0_1_db, minus_3_db, minus_60_db;  ///< none: it does not fall so far below half the rate
};

struct SweepReading {
  int from_hz = 0, to_hz = 0;
  double level_dbfs = 0;    ///< of the sweep in the return, where its response is flat
  std::vector<int> images;  ///< multiples of from_hz; see fold.hpp
  std::vector<SweepPoint> points;
  double pass_band_hz = 0;  ///< 0.9 of half the lower rate: ripple and clean levels are of this band
  double gain_db = 0;       ///< at 1 kHz
  double ripple_db = 0;     ///< greatest - least gain from 20 Hz to the end of the pass band
  BandEdges edges;
  struct Worst {
    double db = -400, in_hz = 0, out_hz = 0;
    int image = 0;
  };
  Worst alias;                ///< of tones over half the lower rate that come back folded, or images of tones under it
  Worst audible;              ///< the same where it lands under 20 kHz
  Worst harmonic;             ///< `image` is the harmonic's number
  double rest_db = -400;      ///< of the pass band: mean power
  double delay_s = 0;         ///< median group delay in the pass band, against the marks or the converter's start
  double delay_spread_s = 0;  ///< greatest - least group delay in the pass band
};

struct SweepReadingOptions {
  int points = 400;
  int channel = 0;
};
/// Reads the sweep of `score` in a return. `fit`: where it lies; for a converted body_clip() {rate, -score.body_s}.
/// Throws std::invalid_argument for a score without a sweep, InputError, Cancelled.
SweepReading read_sweep(const Clip& ret, const ProbeScore& score, const ProbeFit& fit,
                        const SweepReadingOptions& options = {}, const Job& job = {});

/// What eight impulses at different places between the return's samples tell together.
struct ImpulseReading {
  double peak_dbfs = 0;
  bool inverted = false;
  double delay_s = 0;                            ///< of the peak
  double pre_ringing_s = 0, post_ringing_s = 0;  ///< how long the response stays above -60 dB of its peak
  std::vector<double> after_s, value;            ///< the response, 1: full scale; time against the impulse, in order
};
ImpulseReading read_impulses(const Clip& ret, const ProbeScore& score, const ProbeFit& fit, int channel = 0);

/// Input frequency by output frequency: level in dB against what went in, the greatest of each cell.
struct AliasMap {
  int columns = 0, rows = 0;  ///< columns over input, rows over output, both from 0 to half the rate
  double in_top_hz = 0, out_top_hz = 0;
  std::vector<float> db;  ///< column by column
};
AliasMap alias_map(const Clip& ret, const ProbeScore& score, const ProbeFit& fit, int columns = 240, int rows = 160,
                   int channel = 0, const Job& job = {});

}  // namespace heathmist
