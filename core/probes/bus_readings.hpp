// Reading back what an engine's inside does to samples: `transit`, `trim` and `silence`.
//
// Levels of noise are rms with 0 dBFS = a full-scale square wave; none: digital silence.
#pragma once
#include <optional>
#include <vector>

#include "core/audio/clip.hpp"
#include "core/compare/causes/cause.hpp"
#include "core/probes/probe.hpp"

namespace heathmist {

struct TransitReading {
  bool identical = false;
  double gain_db = 0;
  std::vector<int> channel_map;  ///< for each output the input that is loudest in it
  std::vector<bool> inverted;    ///< of each output
  double latency_samples = 0;    ///< at the return's rate
  std::optional<double> silence_dbfs;
  std::optional<int> word_bits;  ///< fewest that carry every sample; none: floating point
  bool dithered = false;
  double dc = 0;                      ///< greatest of the channels, full scale = 1
  double probe_bits = 0;              ///< of the probe that was found in it
  std::optional<double> residual_db;  ///< of what is not the probe at its gain, against it
  std::vector<Cause> causes;          ///< what the null of the probe with its render finds beside the above
};
TransitReading read_transit(const Clip& ret, const ProbeScore& score, const ProbeFit& fit, const Job& job = {});

/// `ideal`: the probe before its word length. The null of the probe, at the word length that leaves least, with its
/// render: the causes beside delay, drift, gain, places of channels, polarity and DC. Throws as null_test().
std::vector<Cause> causes_of_transit(const Clip& ret, const ProbeScore& score, const Planar& ideal,
                                     const Job& job = {});

enum class Arithmetic { fixed, floating, transparent };
const char* name_of(Arithmetic arithmetic);

struct TrimReading {
  Arithmetic arithmetic = Arithmetic::transparent;
  std::optional<int> bits;           ///< of the fixed word, or of the float's mantissa with its leading one
  std::optional<double> floor_dbfs;  ///< with nothing turned and nothing playing
  std::optional<double> floor_with_signal_dbfs;
  bool dithered = false, clips = false;
  std::optional<double> clips_at_dbfs;  ///< on the bus, peak
  std::optional<double> clean_to_dbfs;  ///< the loudest peak on the bus that went through unclipped
  bool by_samples = false;  ///< told by the samples; else by the tone, where the probe's own noise hides much
  struct Section {
    TrimSection asked;
    std::optional<double> tone_dbfs, noise_dbfs, thd_n_db, silence_dbfs;
  };
  std::vector<Section> sections;
};
/// Throws InputError where the tone is not there.
TrimReading read_trim(const Clip& ret, const ProbeScore& score, const ProbeFit& fit, const Job& job = {});

struct SilenceReading {
  std::optional<double> added_dbfs;
  bool dithered = false;
};
SilenceReading read_silence(const Clip& ret, const ProbeScore& score, const ProbeFit& fit, int channel);

}  // namespace heathmist
