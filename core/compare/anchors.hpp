// Anchors: short stretches of the master, spread over the overlap, each found in the return by itself.
#pragma once
#include <complex>
#include <span>
#include <vector>

#include "core/compare/coarse.hpp"
#include "core/compare/fit.hpp"
#include "core/dsp/fft.hpp"

namespace heathmist {

struct Anchor {
  int64_t at = 0, frames = 0;  ///< master frames
  double delay = 0;            ///< where it lies in the return, less where it lies in the master
  double clearness = 0;        ///< correlation peak over the RMS of the correlation
};

/// Up to `most` anchors in the loudest place of equal parts of the overlap that `delay` leaves. Silent parts have none.
std::vector<Anchor> place_anchors(const Sketch& master, int64_t master_frames, int64_t return_frames, double delay,
                                  int most);

/// Finds every anchor near `delay` (and what a drift has added to it there), within `slack` samples.
void find_anchors(std::vector<Anchor>& anchors, const Clip& master, const Clip& ret, const Mixture& master_mixture,
                  const Mixture& return_mixture, double delay, int64_t slack, const Job& job, double drift_ppm = 0);

/// The straight line of delay over master time on which most anchors lie.
struct DelayLine {
  double delay = 0, drift_ppm = 0;
  double share = 0;    ///< of the anchors' clearness that lies on it
  double support = 0;  ///< that clearness
};
DelayLine line_through(const std::vector<Anchor>& anchors);
/// How far off the line an anchor may be read, in samples: under drift its delay moves within it.
double slack_on_line(const Anchor& anchor, double drift_ppm);

/// Averaged cross-spectra of master and laid return for one pair, over the anchors (Welch 1967; Carter 1987 for
/// coherence).
struct CrossSpectra {
  static constexpr size_t size = 4096;
  std::vector<double> master, ret;                           ///< power
  std::vector<std::complex<double>> cross;                   ///< conj(master) * return
  std::vector<std::vector<std::complex<double>>> by_anchor;  ///< cross
  std::vector<std::vector<double>> master_by_anchor, ret_by_anchor;
  double blocks = 0;

  /// Squared coherence of bin k, its bias by the finite average taken off; 0 where either is as good as silent.
  double coherence(size_t k) const;
  double peak_power = 0;  ///< of master
  /// Of half-overlapped Hann blocks, that say as much.
  static constexpr double independent = 0.75;
};

/// Transforms of blocks, half overlapped, under a Hann window.
struct BlockSpectra {
  dsp::RealFft<double> master{CrossSpectra::size}, ret{CrossSpectra::size};
};
/// Adds the blocks of two signals of one length, and counts them.
void add_blocks(std::span<const double> master, std::span<const double> ret, BlockSpectra& work, CrossSpectra& sum);

/// What lies between the two after the fit so far.
std::vector<CrossSpectra> cross_spectra(const std::vector<Anchor>& anchors, const Clip& master, const Clip& ret,
                                        const std::vector<ChannelPair>& pairs, double delay, double drift_ppm,
                                        const Job& job);

/// The same of every channel of the master with every one of the return: each is transformed once, and what belongs to
/// one channel is kept once, as there may be 64 of either.
struct AllCrossed {
  std::vector<std::vector<double>> master, ret;          ///< [channel]: power
  std::vector<std::vector<std::complex<double>>> cross;  ///< [master * return channels + return]
  double blocks = 0;

  /// Of one pair; without what belongs to the anchors.
  CrossSpectra pair(int master_channel, int return_channel) const;
};
AllCrossed cross_all(const std::vector<Anchor>& anchors, const Clip& master, const Clip& ret, double delay,
                     double drift_ppm, const Job& job);

/// Delay that is left in a cross-spectrum, in samples (positive: the return is late), by the slope of its phase
/// weighted with the signal-to-noise ratio that the coherence shows (maximum likelihood: Knapp and Carter 1976, eq.
/// 48).
struct PhaseDelay {
  double samples = 0;
  bool inverted = false;
  double peak = 0;  ///< of the weighted correlation, 0..1
};
PhaseDelay phase_delay(std::span<const std::complex<double>> cross, std::span<const double> weights);

/// Weight of every bin: coherence / (1 - coherence), at most 1000.
std::vector<double> snr_weights(const std::vector<CrossSpectra>& pairs);

}  // namespace heathmist
