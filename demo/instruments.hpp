// The instruments of Curlew Hours: each adds a sound to a stereo score. Times in seconds, pan from -1 (left) to 1.
#pragma once
#include <vector>

#include "core/audio/planar.hpp"
#include "core/dsp/noise.hpp"

namespace heathmist::demo {

class Score {
 public:
  Score(int sample_rate_hz, double seconds, uint64_t seed);

  void pluck(double at, double hz, double level, double pan);  ///< a string (Karplus and Strong 1983)
  void bell(double at, double hz, double level, double pan);   ///< seven inharmonic partials
  void drone(double at, double seconds, double hz, double level, double pan);
  void clank(double at, double hz, double level, double pan);  ///< mill gear: struck iron over a thump
  void water(double level, double slowness_s);                 ///< a bed of moving noise, wide
  /// One spoken syllable: glottal pulses through three formants.
  void syllable(double at, double seconds, double pitch_hz, int vowel, double level, double pan);
  void breath(double at, double seconds, double level);  ///< a consonant's noise

  void room(double wet, double seconds);  ///< four feedback delays across both sides
  void soften(double hz);                 ///< what air and wood take: 48 dB per octave
  void fade_out(double seconds);
  /// Brings the peak to a level in dBFS.
  void set_peak(double dbfs);

  Planar& sound() { return sound_; }
  dsp::Noise& chance() { return chance_; }
  int sample_rate_hz() const { return rate_; }

 private:
  void add(int64_t frame, double pan, double value);
  int rate_;
  Planar sound_;
  dsp::Noise chance_;
};

}  // namespace heathmist::demo
