// What may happen to a programme on its way, made here by means of the tests' own, with its truth.
#pragma once
#include <functional>
#include <set>
#include <string>
#include <vector>

#include "core/audio/write.hpp"
#include "core/dsp/noise.hpp"

namespace heathmist::test {

/// One thing done to a sound.
struct Treatment {
  std::string code;  ///< the cause that must be told, by the contract
  std::string kind;  ///< the kind where nothing else happened
  std::function<Planar(Planar sound, int rate_hz, dsp::Noise& chance)> run;
  WordFormat word = WordFormat::pcm24;
  std::set<std::string> not_on{};  ///< programmes on which it cannot be told, or makes no difference
};

/// A second-order section of Bristow-Johnson's cookbook: "bell", "all pass", "high pass", "low shelf", "high shelf"
/// (these two with a slope of 1, whatever q).
Planar filtered(Planar sound, double rate_hz, const std::string& what, double hz, double q, double db = 0);
/// Every line of each channel's spectrum, of all of it at once, times gain(its frequency): linear phase.
Planar with_spectrum(const Planar& sound, double rate_hz, const std::function<double(double hz)>& gain);
/// So many frames of silence before it.
Planar late(const Planar& sound, int64_t frames);
/// So many frames are missing at a place.
Planar cut_out(const Planar& sound, int64_t at, int64_t frames);
/// Read at another place: by depth samples early and late in turn, and depth late at all times, hz times a second.
/// Between the samples by 64 under a squared cosine.
Planar with_wow(const Planar& sound, double rate_hz, double hz, double depth);
/// Every sample by a curve without memory.
Planar bent(Planar sound, const std::function<double(double)>& curve);
/// Every frame n times gain(n).
Planar gained(Planar sound, const std::function<double(size_t n)>& gain);

/// A compressor, or a gate: what its detector follows, and the gain in dB that it makes of that level.
struct Dynamics {
  bool squares = false, of_mean = false;  ///< of the samples; of the channels, not the louder one
  double attack_s = 0.005, release_s = 0.1;
  std::function<double(double level_db)> gain_db;
};
/// Sample by sample; the detector stands at `before` where the sound begins.
Planar with_dynamics(Planar sound, double rate_hz, const Dynamics& dynamics, double before = 0);

/// All of them, each with numbers by chance.
const std::vector<Treatment>& treatments();
const Treatment& treatment(const std::string& name);
const std::vector<std::string>& treatment_names();

}  // namespace heathmist::test
