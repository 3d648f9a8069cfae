// The fit: delay, drift, gain, polarity and channel map that lay a return on its master.
//
// Master frame n is found in the return at place n (1 + drift) + delay: a positive delay means that the return is late,
// a positive drift that it is longer. Gain is the level of the return relative to the master. Residual = return -
// master after the fit, at the master's level. There is one delay, drift and gain for all channels; polarity and map go
// by channel.
#pragma once
#include <optional>
#include <vector>

#include "core/audio/clip.hpp"
#include "core/dsp/full_band.hpp"

namespace heathmist {

/// A channel of the master and the channel of the return that is its counterpart.
struct ChannelPair {
  int master = 0, ret = 0;
  bool inverted = false;
  double delay_samples = 0;  ///< of this pair alone; measured, not applied
  double gain_db = 0;        ///< likewise
};

struct Fit {
  double delay_samples = 0;
  double drift_ppm = 0;
  double gain_db = 0;
  std::vector<ChannelPair> pairs;
  /// Share of the two signals that agrees, 0..1: the greater of squared correlation and mean coherence over third
  /// octaves.
  double agreement = 0;
  bool trusted = false;
  bool others_fit = false;  ///< other alignments are as good, as the material repeats: the longest overlap was taken
  bool moves = false;  ///< no one delay lies on all of it, as of a speed that moves: this is the middle of them
  int64_t first = 0, last = 0;  ///< the overlap, in master frames [first, last)

  double ratio() const { return 1 + drift_ppm * 1e-6; }
  double place_in_return(double master_frame) const { return master_frame * ratio() + delay_samples; }
  double gain() const;
  /// The return has to be read between its samples. Master and return are then compared up to 0.998 of half the rate:
  /// what lies at the very edge of the band cannot be read there.
  bool between_samples() const { return drift_ppm != 0 || delay_samples != std::round(delay_samples); }
  const char* polarity() const;  ///< normal, inverted or mixed
  bool swapped() const;          ///< some channel comes back as another
};

/// What is held instead of measured.
struct FitOptions {
  std::optional<double> delay_samples;
  std::optional<double> gain_db;
  bool drift = true;  ///< false: held at zero
};

/// Finds the fit of two clips of the same rate. Never throws for unlike clips: the fit is then not trusted.
Fit find_fit(const Clip& master, const Clip& ret, const FitOptions& options, const Job& job = {});

/// The overlap that a delay and drift leave, short of the places that interpolation cannot reach.
void set_overlap(Fit& fit, int64_t master_frames, int64_t return_frames);

/// Pairs without any map: channel by channel, or a mono side with each channel of the other.
std::vector<ChannelPair> plain_pairs(int master_channels, int return_channels);

/// The return's channels on the master's time axis: delay and drift taken out, gain, polarity and map not.
class AlignedReturn {
 public:
  AlignedReturn(const Clip& ret, double delay_samples, double drift_ppm);
  AlignedReturn(const Clip& ret, const Fit& fit) : AlignedReturn(ret, fit.delay_samples, fit.drift_ppm) {}
  /// `out`: return channels x frames, for master frames [first, first + frames).
  void read(int64_t first, int64_t frames, Planar& out);

 private:
  void read_stretched(int64_t first, int64_t frames, Planar& out);
  std::unique_ptr<Reader> reader_;
  double delay_, step_;
  std::optional<dsp::FullBand> shift_;
  std::optional<dsp::FullBandStretch> stretch_;
  Planar raw_;
};

/// The master as it is compared: as it stands, or without the edge of its band where the return is read between its
/// samples.
class AlignedMaster {
 public:
  AlignedMaster(const Clip& master, const Fit& fit);
  void read(int64_t first, int64_t frames, Planar& out);

 private:
  std::unique_ptr<Reader> reader_;
  std::optional<dsp::FullBand> edge_;
  Planar raw_;
};

/// residual[n] = polarity * return / gain - master, for one pair.
void take_residual(std::span<const double> master, std::span<const double> laid, const ChannelPair& pair, double gain,
                   std::span<double> residual);

/// The residual as a stream, pairs x frames on the master's time axis; zero outside the overlap.
class ResidualReader {
 public:
  ResidualReader(const Clip& master, const Clip& ret, const Fit& fit);
  void read(int64_t first, int64_t frames, Planar& out);

 private:
  AlignedMaster master_;
  AlignedReturn laid_;
  Fit fit_;
  Planar m_, r_;
};

}  // namespace heathmist
